"""kindred demo"""

from __future__ import annotations

import click

from ...demo.story import tell


@click.command()
@click.option("--dir", "folder", default="kindred-demo", metavar="DIR", help="Where to play.")
@click.option("--quick", is_flag=True, help="Do not pause between the chapters.")
@click.option("--only-build", is_flag=True, help="Make the play area and stop.")
def command(folder: str, quick: bool, only_build: bool) -> int:
    """Build a play area with a made-up game and tell the whole story by running the real commands.

    \b
    Example:
      kindred demo --quick
    """
    return tell(folder, quick=quick, only_build=only_build)

"""kindred demo"""

from __future__ import annotations

import sys

import click

from ...demo.release_server import release_server
from ...demo.story import tell

_PORT = 8531  # of the release server: the same each time, so that commands can be typed again


@click.command()
@click.option("--dir", "folder", default="kindred-demo", metavar="DIR", help="Where to play.")
@click.option("--quick", is_flag=True, help="Do not pause between the chapters.")
@click.option("--only-build", is_flag=True, help="Make the play area and stop.")
@click.option("--serve", is_flag=True, help="Run the release server until you stop it, instead.")
def command(folder: str, quick: bool, only_build: bool, serve: bool) -> int:
    """Build a play area with a made-up game and tell the whole story by running the real commands.

    \b
    Example:
      kindred demo --quick
    """
    if serve:
        return _serve()
    return tell(folder, quick=quick, only_build=only_build)


def _serve() -> int:
    with release_server(port=_PORT) as url:
        print(f"The release server of Mossferry: {url}\nStop it with Enter.", flush=True)
        sys.stdin.readline()
    return 0

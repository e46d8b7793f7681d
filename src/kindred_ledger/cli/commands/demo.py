"""kindred demo"""

from __future__ import annotations

import contextlib
import os
import sys

import click

from ...demo.release_server import release_server
from ...demo.story import tell
from ...errors import UsageError
from ..meanings import flag, many, value

_RELEASES, _RENTED = 8531, 8532  # ports: the same each time, so that commands can be typed again


@click.command()
@value("--dir", "folder", default="kindred-demo")
@flag("--quick")
@flag("--only-build")
@many("--chapter", "chapters")
@flag("--serve")
def command(
    folder: str, quick: bool, only_build: bool, chapters: tuple[str, ...], serve: bool
) -> int:
    """Build a play area with a made-up game and tell the whole story with the real commands.

    \b
    Example:
      kindred demo --quick
      kindred demo --quick --chapter move --chapter fleet
    """
    if serve:
        return _serve(folder)
    return tell(folder, quick=quick, only_build=only_build, chapters=chapters)


def _serve(folder: str) -> int:
    root = os.path.join(folder, "server")
    with release_server(port=_RELEASES) as url, contextlib.ExitStack() as more:
        print(f"The release server of Mossferry: {url}")
        if os.path.isdir(root):
            try:
                from ...demo.rented_server import rented_server, write_remotes

                rented, login = more.enter_context(rented_server(root, folder, port=_RENTED))
            except ImportError as error:
                raise UsageError(
                    f"the rented server needs the package {error.name}",
                    remedy="Install it: pip install 'kindred-ledger[demo]'",
                ) from error
            known = os.path.join(os.path.abspath(folder), "remotes.toml")
            write_remotes(known, rented, login)
            print(f"The rented server: {rented}\n    export KINDRED_REMOTES={known}")
        print("Stop with Enter.", flush=True)
        sys.stdin.readline()
    return 0

"""kindred mod test"""

from __future__ import annotations

from typing import Any

import click

from ....errors import UsageError
from ....mods.operations import PlaceTestCopy
from ...applying import carry_out
from ...meanings import value
from ...options import placing, storing, writing
from ...session import Session


@click.command()
@click.argument("source")
@click.argument("install")
@value("--at")
@writing
@placing
@storing
def command(session: Session, *, source: str, install: str, at: str, **options: Any) -> int:
    """Place a copy of SOURCE, a file or folder, in INSTALL to try something out.

    --at names the folder it goes into. What is there stays. Until you end the test, scan and mod check tell
    of the copy; undoing the change ends it, and removes no more than was placed.

    \b
    Example, in the demo's folder:
      kindred mod test server/tables.xml mossferry --at program/data
    """
    if not at:
        raise UsageError("where to?", remedy="Say --at FOLDER, such as --at program/mods.")
    made = PlaceTestCopy(source, install, at)
    return carry_out(session, made.compute(session.context), **options)

"""kindred file patch apply"""

from __future__ import annotations

from typing import Any

import click

from .....patches.operations import ApplyPatch
from ....applying import carry_out
from ....meanings import value
from ....options import storing, writing
from ....session import Session


@click.command()
@click.argument("patches", metavar="PATCHES")
@click.argument("what", metavar="FILE|FOLDER")
@value("--result")
@value("--out")
@writing
@storing
def command(
    session: Session, *, patches: str, what: str, result: str, out: str, **options: Any
) -> int:
    """Apply a patch set, or a plain .vcdiff file, to FILE or FOLDER.

    What was there before is kept in the ledger.

    \b
    Example, in the demo's folder:
      kindred file patch apply downloads/wet-lantern.patches.zip mossferry/data/harbours.json --result short
    """
    made = ApplyPatch(patches, what, result, out)
    return carry_out(session, made.compute(session.context), **options)

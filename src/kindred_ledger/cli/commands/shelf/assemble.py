"""kindred shelf assemble"""

from __future__ import annotations

from typing import Any

import click

from ....updates.operations import Assemble
from ...applying import carry_out
from ...meanings import many, value
from ...options import placing, storing, writing
from ...session import Session


@click.command()
@click.argument("parts", nargs=-1, required=True, metavar="PART…")
@value("--into", required=True)
@value("--at")
@value("--title")
@many("--first")
@many("--overwrite")
@many("--drop")
@writing
@placing
@storing
def command(
    session: Session,
    *,
    parts: tuple[str, ...],
    into: str,
    at: str,
    title: str,
    first: tuple[str, ...],
    overwrite: tuple[str, ...],
    drop: tuple[str, ...],
    **options: Any,
) -> int:
    """Combine PARTs (folders, zips, tars) into one install, or put them into an archive.

    A file that two parts hold in different versions is a question. Parts that the card lists and that are
    missing are named. The signatures of an archive are removed: they were of the old contents.

    \b
    Examples, in the demo's folder:
      kindred shelf assemble downloads/parts/*-2.1-*.zip --title mossferry --into mossferry-2.1 --dry-run
      kindred shelf assemble mossferry/mods --into downloads/mossferry-1.4.zip --at mods --dry-run
    """
    made = Assemble(parts, into, at, title, first, overwrite, drop)
    return carry_out(session, made.compute(session.context), **options)

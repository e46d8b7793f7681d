"""kindred edits drop"""

from __future__ import annotations

import click

from ....edits import EditSet, drop_edits
from ...meanings import value
from ...options import session
from ...session import Session, refuse_taken


@click.command()
@click.argument("edits")
@click.argument("patterns", nargs=-1, required=True)
@value("--out")
@session
def command(session: Session, *, edits: str, patterns: tuple[str, ...], out: str) -> int:
    """Take edits out of the set EDITS: those of files, or of fields (PATTERN:FIELD), that match.

    The set is changed, unless --out names another file.

    \b
    Example, in the demo's folder:
      kindred edits drop mine.edits.toml "*.ini:Tides.*"
    """
    if out:
        refuse_taken(out)
    before = EditSet.load(edits)
    after = drop_edits(before, patterns)
    after.save(out or edits)
    if session.json:
        return session.emit(
            out=out or edits, dropped=before.size - after.size, edits=after.to_json()
        )
    session.out.print(
        f"Took out {before.size - after.size} of {before}; {after.size} stay: {out or edits}"
    )
    return 0

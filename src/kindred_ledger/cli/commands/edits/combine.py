"""kindred edits combine"""

from __future__ import annotations

import click

from ....edits import EditSet, combine_edits
from ....errors import UsageError
from ... import drawing
from ...meanings import value
from ...options import session
from ...session import Session, refuse_taken

_DECISION_NEEDED = 3


@click.command()
@click.argument("edits", nargs=-1, required=True)
@value("--out")
@value("--prefer-set", "prefer")
@session
def command(session: Session, *, edits: tuple[str, ...], out: str, prefer: str) -> int:
    """Put several edit sets together into the set --out.

    Where two say different things of one place, nothing is written (status 3), unless --prefer-set names the
    set that counts.

    \b
    Example, in the demo's folder:
      kindred edits combine mine.edits.toml theirs.edits.toml --out both.edits.toml
    """
    if not out:
        raise UsageError("where to write the edits is not said", remedy="Say it: --out FILE")
    refuse_taken(out)
    sets = {path: EditSet.load(path) for path in edits}
    if prefer and prefer not in sets:
        raise UsageError(
            f"{prefer} is none of these sets", remedy=f"Name one of {', '.join(sets)}."
        )
    found, clashes = combine_edits(sets, prefer_set=prefer)
    open_ones = [each for each in clashes if each.severity.value == "conflict"]
    status = _DECISION_NEEDED if open_ones else 0
    if not open_ones:
        found.save(out)
    if session.json:
        plain = [each.to_json() for each in clashes]
        return session.emit(
            status, out=None if open_ones else out, edits=found.to_json(), findings=plain
        )
    drawing.findings(session.out, clashes)
    if open_ones:
        session.err.print("✗ nothing was written", style="bold red")
    else:
        session.out.print(f"Wrote {found}: {out}")
    return status

"""kindred edits take"""

from __future__ import annotations

import click

from ....edits import take_edits
from ....errors import UsageError
from ... import drawing
from ...meanings import flag, value
from ...options import placing, storing
from ...session import Session, refuse_taken


@click.command()
@click.argument("edited")
@value("--out")
@value("--old")
@value("--by")
@value("--note")
@flag("--whole")
@flag("--part")
@placing
@storing
def command(
    session: Session,
    *,
    edited: str,
    out: str,
    old: str,
    by: str,
    note: str,
    whole: bool,
    part: bool,
) -> int:
    """Find what was changed in EDITED, and write it into the edit set --out.

    EDITED is an install, a folder, a mod or an entry. What it was made from is --old, or is looked for on
    the shelf. Contents of whole files go into a folder beside the set.

    \b
    Example, in the demo's folder:
      kindred edits take mossferry --old downloads/mossferry-1.4.zip --out mine.edits.toml
    """
    if not out:
        raise UsageError("where to write the edits is not said", remedy="Say it: --out FILE")
    refuse_taken(out)
    context = session.context
    found = take_edits(
        context.subject(edited),
        ledger=session.ledger,
        old=context.subject(old) if old else None,
        card=context.card_of(session.named_title) if session.named_title else None,
        whole=True if whole else False if part else None,
        by=by,
        note=note,
        progress=session.progress,
    )
    found.save(out)
    if session.json:
        return session.emit(
            out=out, edits=found.to_json(), findings=[each.to_json() for each in found.findings()]
        )
    session.out.print(f"Wrote {found}: {out}")
    drawing.findings(session.out, found.findings())
    session.out.print(f"    To look at them: kindred edits show {out}", style="dim")
    return 0

"""kindred entries"""

from __future__ import annotations

import click

from ...errors import UsageError
from ...ledger import Entry
from ...suggestions import path_meant
from .. import drawing
from ..meanings import flag, value
from ..options import offered, session
from ..session import Session

_EMPTY = "The ledger is empty. Start with: kindred backup FOLDER"


@click.command()
@flag("--retired")
@value("--title", shell_complete=offered("titles"))
@session
def command(session: Session, *, title: str, retired: bool) -> int:
    """List the entries of the ledger, the oldest first.

    \b
    Example, in the demo's folder:
      kindred entries
    """
    ledger = session.ledger
    entries = [e for e in ledger.retired() if not e.release] if retired else ledger.entries()
    found = [e for e in entries if not title or e.tag.title == title]
    if title and not found:
        titles = {e.tag.title for e in entries}
        raise UsageError(f"no entry of the title {title}", remedy=path_meant(title, titles))
    damaged = session.ledger.unreadable()
    status = session.tell_damage(damaged)
    if session.json:
        plain = [entry.to_json() for entry in found]
        return session.emit(status, entries=plain, damaged=list(map(str, damaged)))
    if not found:
        none = "Nothing was retired yet." if retired else _EMPTY
        session.out.print(none)
        return status
    lines = [
        (
            e.id,
            drawing.moment(e.when),
            e.name,
            f"{e.files:,}",
            drawing.size(e.size_bytes),
            _why(e),
        )
        for e in found
    ]
    drawing.rows(session.out, ("entry", "when", "what", "files", "size", "why"), lines, "   rr")
    return status


def _why(entry: Entry) -> str:
    told = entry.note or ("" if entry.reason == "asked" else f"automatic, {entry.reason}")
    parts = [told, "pinned" if entry.pinned else "", "" if entry.complete else "partial"]
    return "; ".join(filter(None, parts))

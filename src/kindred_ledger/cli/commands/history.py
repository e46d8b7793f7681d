"""kindred history"""

from __future__ import annotations

import click

from ...ledger import CONFIRMED
from .. import drawing
from ..options import session
from ..session import Session


@click.command()
@session
def command(session: Session) -> int:
    """List the changes that were made, the oldest first.

    \b
    Example, in the demo's folder:
      kindred history
    """
    records = session.ledger.records()
    damaged = session.ledger.unreadable()
    status = session.tell_damage(damaged)
    confirmed = {mark.subject for mark in session.ledger.marks(CONFIRMED)}
    if session.json:
        plain = [{**r.header(), "confirmed": r.id in confirmed} for r in records]
        return session.emit(status, changes=plain, damaged=list(map(str, damaged)))
    if not records:
        session.out.print("Nothing has been changed yet.")
        return status
    lines = [
        (
            r.id,
            drawing.moment(r.when),
            r.operation,
            r.summary,
            r.entry,
            "yes" if r.id in confirmed else "",
        )
        for r in records
    ]
    heads = ("change", "when", "what", "summary", "before it", "confirmed")
    drawing.rows(session.out, heads, lines)
    return status

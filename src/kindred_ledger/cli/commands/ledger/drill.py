"""kindred ledger drill"""

from __future__ import annotations

import click
import msgspec

from ....changes import drill
from ... import drawing
from ...health import DAMAGED
from ...meanings import value
from ...options import entry_argument, session
from ...session import Session


@click.command()
@entry_argument("entry", default="")
@value("--scratch", default=None)
@session
def command(session: Session, *, entry: str, scratch: str | None) -> int:
    """Test that an ENTRY can be restored: restore it to a scratch folder and compare every file.

    Without ENTRY the newest that was never tested is taken, or the one whose test is the oldest.

    \b
    Example, in the demo's folder:
      kindred ledger drill
    """
    asked = session.ledger.entry(entry) if entry else None
    done = drill(asked, ledger=session.ledger, scratch=scratch, progress=session.progress)
    found = done.entry
    status = DAMAGED if done.findings else 0
    if session.json:
        first = done.oldest.to_json() if done.oldest is not None else None
        plain = {**msgspec.to_builtins(done), "entry": found.to_json(), "oldest": first}
        return session.emit(status, **plain)
    what = f"{found.name}, {drawing.files(found.files, found.size_bytes)}"
    if done.findings:
        head = f"Entry {found.id} ({what}) did not come back whole"
        drawing.listed(session.out, head, list(map(str, done.findings)), "red")
        session.out.print("\nTo see what is damaged: kindred ledger verify")
    else:
        session.out.print(f"Entry {found.id} ({what}): every file came back as it was kept.")
    session.out.print(f"Proven: {done.proven:,} of {drawing.count(done.entries, 'entry')}.")
    if done.oldest is not None:
        oldest = done.oldest
        when = drawing.moment(oldest.when)
        session.out.print(
            f"The oldest entry that was tested: {oldest.name}, entry {oldest.id}, {when}."
        )
    return status

"""kindred ledger confirm"""

from __future__ import annotations

import click
import msgspec

from ....changes import CHECKS, confirm
from ... import drawing
from ...meanings import flag, value
from ...options import change_argument, session
from ...session import Session

_FINDINGS = 1


@click.command()
@change_argument
@flag("--checked")
@value("--note")
@session
def command(session: Session, *, change: str, checked: bool, note: str) -> int:
    """Say that a CHANGE (default: the latest) turned out well.

    Until then what was kept before it is never deleted.

    \b
    Example, in the demo's folder:
      kindred ledger confirm latest --note "loaded all three saves"
    """
    checks = CHECKS if checked else ()
    done = confirm(
        change, ledger=session.ledger, checks=checks, note=note, progress=session.progress
    )
    status = _FINDINGS if done.findings else 0
    if session.json:
        values = {
            "change": done.record.header(),
            "mark": msgspec.to_builtins(done.mark),
            "findings": [each.to_json() for each in done.findings],
        }
        return session.emit(status, **values)
    record = done.record
    what = f"Change {record.id} ({record.summary})"
    if done.findings:
        drawing.listed(
            session.out, f"{what} is not confirmed", list(map(str, done.findings)), "yellow"
        )
        session.out.print("\nIf it is good all the same, say so without --checked.", style="dim")
        return status
    session.out.print(f"{what} is confirmed.")
    session.out.print(f"Entry {record.entry}, from before it, may be retired now.", style="dim")
    return status

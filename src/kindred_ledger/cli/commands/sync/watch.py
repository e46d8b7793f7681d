"""kindred sync watch"""

from __future__ import annotations

import signal
from types import FrameType
from typing import Any

import click

from ....transfers import Event, Watcher
from ...meanings import flag, value
from ...options import placing, storing
from ...session import Session


@click.command()
@click.argument("install")
@flag("--guard")
@value("--quiet", default=10.0)
@value("--times", default=0)
@placing
@storing
def command(session: Session, *, install: str, guard: bool, quiet: float, times: int) -> int:
    """Back up INSTALL whenever its files changed and stayed quiet, and say what happened.

    An update by a launcher is recognised by the versions. With --guard the program's files are brought back
    to their last backup.

    \b
    Example, in the demo's folder:
      kindred sync watch mossferry --quiet 5
    """
    found = session.context.install(install)
    watcher = Watcher(
        found, session.ledger, guard=guard, quiet_seconds=quiet, progress=session.progress
    )
    if guard:
        watcher.check_guard()

    def stop(number: int, frame: FrameType | None) -> None:
        watcher.end()

    signal.signal(signal.SIGINT, stop)
    signal.signal(signal.SIGTERM, stop)
    if not session.json:
        session.out.print(f"Watching {found.card.name}. Stop it with Ctrl-C.")
    for told, event in enumerate(watcher.events(), 1):
        if session.json:
            session.emit_line(**_plain(event))
        else:
            session.out.print(_line(event), soft_wrap=True)
        if told == times:
            break
    return 0


def _plain(event: Event) -> dict[str, Any]:
    return {
        "event": str(event),
        "entry": event.entry.id if event.entry else None,
        "taken_back_by": event.change.record.id if event.change is not None else None,
    }


def _line(event: Event) -> str:
    kept = f"kept as entry {event.entry.id}" if event.entry else ""
    if event.change is not None:
        kept = f"taken back by change {event.change.record.id}"
    return f"{event}; {kept}"

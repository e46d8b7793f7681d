"""`kindred` without a command: what is here, what is stored, and what to do next."""

from __future__ import annotations

import os
from typing import Any

from msgspec import to_builtins
from msgspec.structs import replace

from ..cards import find_installs
from ..planning.overview import Overview, overview
from . import drawing
from .session import Session

__all__ = ["show_overview"]

_FIRST_STEPS = (
    ("kindred backup FOLDER", "keep a copy of your saves, settings or a whole install"),
    ("kindred entries", "look at what is stored"),
    ("kindred restore latest --dry-run", "see how it would come back"),
)
_MOST_INSTALLS, _MOST_STEPS = 8, 5


def show_overview(session: Session) -> int:
    """Draw or print the overview of the working folder and the ledger; return the exit status."""
    installs = [
        card.open(root, around=session.around) for root, card in find_installs(".", session.cards)
    ]
    ledger = session.known_ledger()
    found = overview(installs, ledger)
    if session.json:
        return session.emit(ledger=session.ledger_where, **_plain(found))
    out = session.out
    if not found.entries:
        out.print(
            f"Nothing is stored yet. The ledger will be: {drawing.short(session.ledger_where)}"
        )
        out.print("(elsewhere: --ledger FOLDER, or KINDRED_LEDGER=FOLDER).", style="dim")
    else:
        _draw_ledger(session, found)
    _draw_installs(session, found)
    for each in (finding for install in found.installs for finding in install.findings):
        drawing.findings(out, [replace(each, where=drawing.short(each.where))])
    _draw_steps(session, found)
    return 0


def _draw_ledger(session: Session, found: Overview) -> None:
    newest, last = found.entries[-1], found.last
    why = newest.note or ("" if newest.reason == "asked" else newest.reason)
    stored = f"{drawing.count(len(found.entries), 'entry')}, the newest {newest.name}"
    rows = [("    stored", stored + (f" ({why})" if why else ""), drawing.moment(newest.when))]
    if last is not None:
        rows.append(("    last change", last.summary, drawing.moment(last.when)))
    session.out.print(
        f"Ledger: {drawing.short(session.ledger_where)}", style="bold", soft_wrap=True
    )
    for label, told, when in rows:
        session.out.hang(f"{label}: ", f"{told}, {when}", style="default")


def _draw_installs(session: Session, found: Overview) -> None:
    if not found.installs:
        return
    session.out.print()
    rows = [
        (
            f"{each.name} {each.version or '(version unknown)'}",
            drawing.short(each.place),
            drawing.moment(each.entry.when) if each.entry else "never",
        )
        for each in found.installs[:_MOST_INSTALLS]
    ]
    drawing.rows(session.out, ("installed here", "folder", "last backup"), rows)
    if len(found.installs) > _MOST_INSTALLS:
        session.out.print(f"… and {len(found.installs) - _MOST_INSTALLS} more: kindred scan")


def _draw_steps(session: Session, found: Overview) -> None:
    steps = [(each.command, each.why) for each in found.next[:_MOST_STEPS]]
    session.out.print()
    if not found.entries:
        steps = [*(steps[:1] or _FIRST_STEPS[:1]), *_FIRST_STEPS[1:]]
        session.out.print("Three steps to a first backup; nothing has to be described for it:")
        rows = [(f"  {n}. {command}", why) for n, (command, why) in enumerate(steps, 1)]
    elif steps:
        session.out.print("Worth doing next:", style="bold")
        rows = [(f"    {command}", why) for command, why in steps]
    else:
        rows = []
    if rows:
        for command, why in rows:
            session.out.print(command, style="cyan", soft_wrap=True)
            session.out.hang("        ", why, style="dim")
        session.out.print()
    session.out.print("All commands: kindred --help", style="dim")
    session.out.print("On a made-up game: kindred demo", style="dim")


def _plain(found: Overview) -> dict[str, Any]:
    return {
        "installs": [
            {
                "title": each.title,
                "version": each.version or None,
                "place": os.path.abspath(each.place),
                "last_entry": each.entry.id if each.entry else None,
                "findings": [one.to_json() for one in each.findings],
            }
            for each in found.installs
        ],
        "entries": len(found.entries),
        "newest": found.entries[-1].to_json() if found.entries else None,
        "last_change": found.last.header() if found.last else None,
        "unfinished": found.unfinished,
        "next": [to_builtins(each) for each in found.next],
    }

"""kindred world started"""

from __future__ import annotations

import click
from msgspec import to_builtins

from ....worlds import first_start
from ... import drawing
from ...meanings import value
from ...options import placing, session
from ...session import Session


@click.command()
@click.argument("install")
@value("--save")
@placing
@session
def command(session: Session, *, install: str, save: str) -> int:
    """Say whether the game of INSTALL was started with what was set into a save, and still has all of it.

    Looks for what the card says shows a start, counts the things of the save again, and looks up landmarks.
    Status 3 while nothing shows a start, 1 if something is missing.

    \b
    Example, in the demo's folder fleets:
      kindred world started new
    """
    found = first_start(session.context.install(install), ledger=session.ledger, save=save)
    gone = [each.landmark for each in found.landmarks if not each.count]
    status = 1 if found.missing or gone else 0 if found.started else 3
    if session.json:
        return session.emit(status, start=to_builtins(found))
    drawing.heading(session.out, found.save, "started" if found.started else "not started yet")
    rows = [
        (f"    {kind}", f"{was:,}", f"{now:,}", f"{now - was:+,}" if now != was else "")
        for kind, (was, now) in found.counts.items()
        if was or now
    ]
    drawing.rows(session.out, ("    things", "set in", "now", "change"), rows)
    for each in found.landmarks:
        where = f" at {each.at[0]:g}, {each.at[1]:g}" if each.at is not None else ""
        mark, style = ("✓", "default") if each.count else ("✗", "red")
        session.out.hang(f"  {mark} {each.landmark}", f": {each.count:,}{where}", style=style)
    if not found.started:
        session.out.print()
        session.out.hang("  ", f"It is your turn: start the game and open {found.save}",
                         style="bold")  # fmt: skip
    if not found.started and found.told:
        session.out.hang("  ", found.told, style="default")
    if found.look:
        session.out.hang("  then look: ", found.look, style="default")
    return status

"""kindred world transplant"""

from __future__ import annotations

from typing import Any

import click

from ....places import refusals, write_atomic
from ....worlds.operations import Transplant
from ...applying import carry_out
from ...drawn_transplant import draw_counts, draw_each
from ...meanings import flag, many, value
from ...options import placing, storing, writing
from ...session import Session, refuse_taken


@click.command()
@click.argument("old")
@click.argument("new")
@value("--save")
@value("--fresh")
@value("--name")
@many("--also")
@many("--without")
@flag("--played")
@value("--out")
@writing
@placing
@storing
def command(
    session: Session,
    *,
    old: str,
    new: str,
    save: str,
    fresh: str,
    name: str,
    also: tuple[str, ...],
    without: tuple[str, ...],
    played: bool,
    out: str,
    **options: Any,
) -> int:
    """Set what is yours in a save of OLD into a fresh save of NEW, with all it refers to.

    OLD is an install or an entry of one; begin a game in NEW and save it first. Neither save is touched: the
    result stands beside the fresh one. What the new game cannot hold waits in a bundle, which the ledger
    keeps and --out writes to a file; `world bundle` sets it in later. Work that was cut off goes on where it
    stopped: say the same again.

    \b
    Examples, in the demo's folder fleets:
      kindred world transplant old new
      kindred world transplant old new --without 'ferries:Ferry 7' --name carried
    """
    if out:
        refuse_taken(out)
    plan = Transplant(old, new, save, fresh, name, also, without, played).plan(session.context)
    if plan.forecast.counts and not session.json:
        draw_counts(session, plan.forecast)
    if options["lines"] and not session.json:
        draw_each(session, plan.forecast)
    status = carry_out(session, plan.change, **options)
    if not status and not options["dry_run"] and not session.json and plan.change.actions:
        last = plan.result.rpartition("/")[2]
        session.out.print(
            f"\nNext: start the game once with {last}, then: kindred world started {new}"
        )
    if out and not status and not options["dry_run"] and plan.bundle is not None:
        with refusals(out):
            write_atomic(out, plan.bundle.packed())
        if not session.json:
            session.out.print(f"\nWrote {out}: what waits")
    return status

"""kindred ledger retire"""

from __future__ import annotations

from typing import Any

import click

from ....ledger import Reclaimed, RetentionPolicy, Retirement, plan_retirement
from ....statement import Outcome
from ... import drawing
from ...applying import agreed
from ...meanings import flag, value
from ...options import session
from ...session import Session

_number = click.IntRange(0)


@click.command()
@value("--last", type=_number, default=0)
@flag("--per-version")
@value("--daily", type=_number, default=0)
@value("--weekly", type=_number, default=0)
@value("--monthly", type=_number, default=0)
@value("--confirmed-after", "confirmed_after_days", type=_number, default=0)
@flag("--yes")
@flag("--dry-run")
@session
def command(session: Session, *, yes: bool, dry_run: bool, **keep: Any) -> int:
    """Delete the entries that no rule keeps, and free their space.

    The last entry of each version always stays, what is pinned, and what was kept before a change that is
    not confirmed. Only days, weeks and months with entries count.

    \b
    Example, in the demo's folder:
      kindred ledger retire --last 2 --monthly 12 --dry-run
    """
    plan = plan_retirement(session.ledger, RetentionPolicy(**keep))
    if not session.json:
        _draw_plan(session, plan)
    if dry_run:
        if session.json:
            return session.emit(dry_run=True, plan=_plain(plan))
        session.out.print("\nThis was a dry run; nothing was written.", style="dim")
        return 0
    if plan.going or plan.space.size_bytes:
        agreed(yes=yes, where=session.ledger.location)
    done = plan.carry_out(session.ledger, progress=session.progress)
    if session.json:
        space = done.space
        values = {
            "books": done.books.to_json(),
            "deleted_packs": space.deleted,
            "written_packs": space.written,
            "size_bytes": space.size_bytes,
            "waiting_packs": space.waiting,
        }
        return session.emit(plan=_plain(plan), done=values)
    if plan.going or done.space.deleted or done.space.waiting:
        _draw_done(session, done.space)
    return 0


def _draw_plan(session: Session, plan: Retirement) -> None:
    by_id = {line.item: line for line in plan.books.lines}
    rows = []
    for entry in plan.entries:
        line = by_id[entry.id]
        goes = "retire" if line.outcome is Outcome.REMOVED else "keep"
        rows.append((goes, entry.id, drawing.moment(entry.when), entry.name, line.reason))
    drawing.rows(session.out, ("", "entry", "when", "what", "because"), rows)
    session.out.print(f"\nTo keep: {plan.policy}. {str(plan.books).capitalize()}.")
    if not plan.going:
        session.out.print("Nothing is to be retired.")
    if plan.space.size_bytes:
        session.out.print(f"About {drawing.size(plan.space.size_bytes)} would come back.")
    elif plan.going:
        session.out.print("No space would come back: what they hold is needed by what stays.")


def _draw_done(session: Session, space: Reclaimed) -> None:
    packs = f"{drawing.count(space.deleted, 'pack')} deleted, {space.written} written"
    told = f", {packs}, {drawing.size(space.size_bytes)} given back" if space.deleted else ""
    session.out.print(f"\nDone{told}. List deleted entries with: kindred entries --retired")
    if space.waiting:
        session.out.print(
            f"{drawing.count(space.waiting, 'pack')} may still be relied on by a backup that is "
            "running; the next retire deletes them."
        )


def _plain(plan: Retirement) -> dict[str, object]:
    return {
        "policy": str(plan.policy),
        "books": plan.books.to_json(),
        "unused_packs": plan.space.unused,
        "sparse_packs": plan.space.sparse,
        "size_bytes": plan.space.size_bytes,
    }

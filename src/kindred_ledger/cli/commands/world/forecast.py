"""kindred world forecast"""

from __future__ import annotations

from typing import Any

import click

from ....places import refusals, write_atomic
from ....worlds import Forecast, Vanishing, consent_text
from ....worlds.operations import Remap
from ... import drawing
from ...choosing import choosing, with_workers
from ...meanings import value
from ...options import placing, session
from ...session import Session, refuse_taken

_MOST = 12  # names that are listed of those whose number means something else


@click.command()
@click.argument("install")
@click.argument("release", default="")
@choosing
@value("--out")
@placing
@session
def command(session: Session, *, install: str, release: str, out: str, **options: Any) -> int:
    """Say what a world of INSTALL would lose in the build of RELEASE, and change nothing.

    Counts and locates all content that the build's id list does not have: how many, where, how near to what
    is yours, what it was worth. --out writes a file in which you say what becomes of it; `world remap
    --consent` takes it. Without RELEASE the list of the build that is installed counts. Status 1 if something
    would be lost.

    \b
    Examples, in the demo's folder fens:
      kindred world forecast game releases/fens-2.0.zip
      kindred world forecast game releases/fens-2.0.zip --out northbog.consent.toml
    """
    if out:
        refuse_taken(out)
    chosen = with_workers(session, options)
    told = Remap(install, release, **chosen).forecast(
        session.context, ledger=session.known_ledger()
    )
    if out:
        with refusals(out):
            write_atomic(out, consent_text(told).encode())
    status = 1 if told.vanishing or told.damaged or told.not_found else 0
    if session.json:
        return session.emit(status, forecast=told.to_json())
    _draw(session, told)
    if out:
        session.out.print(
            f"\nWrote {out}: say in it what becomes of each, then give it to world remap."
        )
    return status


def _draw(session: Session, told: Forecast) -> None:
    drawing.heading(session.out, f"World {told.world}", f"forecast {told.id}")
    for name, found in told.lists.items():
        parts = ", ".join(f"{many:,} {what}" for what, many in found.totals.items() if many)
        session.out.hang(f"  list {name}  ", parts, style="default")
    if not told.vanishing:
        session.out.print("\nEverything in this world is in the new list, too.", style="bold")
    else:
        session.out.print(f"\n{told.cells:,} ids have no place in the new build:", style="bold")
        rows = [_row(each) for each in told.vanishing]
        columns = ("    content", "how many", "files", "nearest", "worth", "becomes")
        drawing.rows(session.out, columns, rows)
        session.out.print()
        for each in told.vanishing:
            _draw_one(session, each)
    reused = [row for _, row in told.reused if row.name not in {v.name for v in told.vanishing}]
    if reused:
        session.out.print()
        named = ", ".join(f"{row.old} {row.name} → {row.now_at_old}" for row in reused[:_MOST])
        more = f", and {len(reused) - _MOST} more" if len(reused) > _MOST else ""
        session.out.hang("  Numbers that mean other content there: ", named + more, style="dim")
    for field in told.not_found:
        session.out.hang("  is the card wrong? ", field, style="yellow")
    for field in told.no_files:
        session.out.hang("  of other worlds: ", field, style="dim")
    for damaged in told.damaged:
        session.out.hang(
            "  damaged, stays as it is: ", f"{damaged.path}: {damaged.why}", style="yellow"
        )


def _row(each: Vanishing) -> tuple[str, ...]:
    near = "" if each.nearest is None else drawing.count(each.nearest, "tile")
    worth = f"{each.worth:,.0f}" if each.worth else ""
    return (
        f"    {each.name}",
        f"{each.amount:,}",
        f"{len(each.by_file):,}",
        near,
        worth,
        each.fate.told,
    )


def _draw_one(session: Session, each: Vanishing) -> None:
    parts = [", ".join(f"{kind} {many:,}" for kind, many in each.by_kind.items())]
    if each.owners:
        parts.append(
            "owned by " + ", ".join(f"{who} {many:,}" for who, many in each.owners.items())
        )
    if each.nearest_at is not None:
        parts.append(f"nearest to what is yours at {each.nearest_at[0]}, {each.nearest_at[1]}")
    if each.now_means:
        parts.append(f"its number {each.number} means {each.now_means} there")
    if each.perhaps:
        parts.append(f"perhaps called {' or '.join(each.perhaps)} now")
    parts.append(f"first in {each.where[0]}")
    session.out.hang(f"  {each.name}: ", "; ".join(parts), style="default")

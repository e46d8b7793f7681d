"""kindred verify"""

from __future__ import annotations

import click
import msgspec

from ...ledger import Cost, Verified, verify
from .. import drawing
from ..options import session
from ..session import Session

_DAMAGED = 5
_MOST = 12  # paths shown of an entry


@click.command()
@click.option(
    "--share",
    type=click.FloatRange(0, 100, min_open=True),
    default=100,
    metavar="PERCENT",
    help="Only so much of the packs: those not checked for the longest.",
)
@click.option("--lines", is_flag=True, help="Show every path that is lost.")
@session("verify")
def command(session: Session, share: float, lines: bool) -> int:
    """Hold every byte of the ledger against the digests it was written with.

    Says which files of the ledger are damaged, and what that costs by entry and path.

    \b
    Example, in the demo's folder:
      kindred verify
    """
    found = verify(session.ledger, share=share / 100, progress=session.progress)
    status = _DAMAGED if found.faults or found.costs else 0
    if session.json:
        return session.emit(status, **msgspec.to_builtins(found))
    _draw(session, found, lines=lines)
    return status


def _draw(session: Session, found: Verified, *, lines: bool) -> None:
    packs = drawing.count(found.packs, "pack")
    if found.packs < found.packs_in_all:
        packs = f"{found.packs} of {drawing.count(found.packs_in_all, 'pack')}"
    session.out.print(
        f"Verified {packs} ({drawing.size(found.size_bytes)}), "
        f"{drawing.count(found.entries, 'entry')}, {drawing.count(found.changes, 'change')}."
    )
    for fault in found.faults:
        session.out.hang("  ✗ ", f"{fault.file}: {fault.what}", style="red")
    for cost in found.costs:
        _draw_cost(session, cost, lines=lines)
    if not found.faults and not found.costs:
        session.out.print("Every byte is as it was written.")
    elif not found.costs:
        session.out.print("\nThe content of every entry can still be brought back.")
    else:
        session.out.print("\nEverything else can still be brought back.")


def _draw_cost(session: Session, cost: Cost, *, lines: bool) -> None:
    name = f" ({cost.name})" if cost.name else ""
    if cost.paths is None:
        session.out.print(f"\nentry {cost.entry}{name}: nothing of it can be read")
        return
    session.out.print(f"\nentry {cost.entry}{name}: {drawing.count(len(cost.paths), 'file')} lost")
    shown = cost.paths if lines else cost.paths[:_MOST]
    for path in shown:
        session.out.print(f"    {path}")
    if len(shown) < len(cost.paths):
        session.out.print(f"    and {len(cost.paths) - len(shown)} more (--lines)", style="dim")

"""Drawing the health of a ledger: what was verified, what is damaged, and what that costs."""

from __future__ import annotations

from typing import TYPE_CHECKING

from . import drawing
from .drawing import count, size

if TYPE_CHECKING:
    from ..ledger import Cost, Verified
    from .page import Page

__all__ = ["DAMAGED", "faults", "status_of", "verified"]

DAMAGED = 5
_MOST_LISTED = 12


def status_of(found: Verified) -> int:
    """Return the exit status that goes with what was found."""
    return DAMAGED if found.findings or found.costs else 0


def verified(page: Page, found: Verified, *, lines: bool) -> None:
    """Draw what was verified, what is damaged, and what that costs."""
    packs = count(found.packs, "pack")
    if found.packs < found.packs_total:
        packs = f"{found.packs} of {count(found.packs_total, 'pack')}"
    page.print(
        f"Verified {packs} ({size(found.size_bytes)}), "
        f"{count(found.entries, 'entry')}, {count(found.changes, 'change')}."
    )
    faults(page, found)
    for cost in found.costs:
        _draw_cost(page, cost, lines=lines)
    if not found.findings and not found.costs:
        page.print("Every byte is as it was written.")
    elif not found.costs:
        page.print("\nThe content of every entry can still be brought back.")
    else:
        page.print("\nEverything else can still be brought back.")


def faults(page: Page, found: Verified) -> None:
    """Draw which files are damaged."""
    drawing.findings(page, found.findings)


def _draw_cost(page: Page, cost: Cost, *, lines: bool) -> None:
    name = f" ({cost.name})" if cost.name else ""
    if cost.paths is None:
        page.print(f"\nentry {cost.entry}{name}: nothing of it can be read")
        return
    page.print(f"\nentry {cost.entry}{name}: {count(len(cost.paths), 'file')} lost")
    shown = cost.paths if lines else cost.paths[:_MOST_LISTED]
    for path in shown:
        page.print(f"    {path}")
    if len(shown) < len(cost.paths):
        page.print(f"    and {len(cost.paths) - len(shown)} more (--lines)", style="dim")

"""Confirming: saying that a change turned out well, so that what was kept before it may be retired."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct

from ..errors import KindredError, LedgerDamaged, UsageError
from ..finding import Finding
from ..ledger import CONFIRMED, Ledger, Mark, Record
from ..places import same_content
from ..progress import Progress

__all__ = ["CHECKS", "Check", "Confirmed", "backup_readable", "confirm", "still_applied"]

# Looks at a change that was made, and returns what speaks against it.
Check = Callable[[Ledger, Record, Progress], Sequence[Finding]]


class Confirmed(Struct, frozen=True):
    """What was confirmed; `findings` are what checks found, and then there is no mark.

    >>> done = kl.restore(ledger.backup(install), "copy", ledger=ledger).apply(ledger)
    >>> kl.confirm(done.record.id, ledger=ledger).mark.kind
    'confirmed'
    """

    record: Record
    mark: Mark | None
    findings: tuple[Finding, ...] = ()


def confirm(
    change: str,
    *,
    ledger: Ledger,
    checks: Sequence[Check] = (),
    note: str = "",
    progress: Progress | None = None,
) -> Confirmed:
    """Mark a change (by id, its beginning, or `latest`) as good, if no check finds anything.

    Without checks it is the caller's word.

    >>> done = kl.restore(ledger.backup(install), "copy", ledger=ledger).apply(ledger)
    >>> kl.confirm(done.record.id, ledger=ledger, note="it runs").mark.note
    'it runs'
    """
    record = ledger.record(change)
    watch = progress or Progress()
    findings = tuple(found for check in checks for found in check(ledger, record, watch))
    if findings:
        return Confirmed(record, None, findings)
    known = [mark for mark in ledger.marks(CONFIRMED) if mark.subject == record.id]
    said = note or ", ".join(check.__name__.replace("_", " ") for check in checks)
    return Confirmed(record, known[0] if known else ledger.mark(CONFIRMED, record.id, note=said))


def still_applied(ledger: Ledger, record: Record, progress: Progress) -> list[Finding]:
    """Find which of the paths that a change touched are not as it made them."""
    try:
        now = ledger.scan(ledger.place_at(record.roots), progress=progress)
    except KindredError as error:
        return [error.finding("not-readable")]
    return [
        Finding.error("changed-since", "it is not as the change made it", where=path)
        for path in record.paths
        if not same_content(record.after.get(path), now.get(path))
    ]


def backup_readable(ledger: Ledger, record: Record, progress: Progress) -> list[Finding]:
    """Find what of that which was kept before a change cannot be brought back."""
    try:
        return ledger.check(ledger.entry(record.entry))
    except (LedgerDamaged, UsageError) as error:
        return [error.finding("damaged")]


CHECKS: tuple[Check, ...] = (still_applied, backup_readable)

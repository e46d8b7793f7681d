"""Drilling: an entry brought back for real, into a scratch folder, to prove that it can be.

The engine that restores for people does it, with a ledger of its own for what it keeps and records;
the user's ledger is only read, but for the mark that says what was proven.
"""

from __future__ import annotations

import os
import tempfile

from msgspec import Struct

from ..errors import LedgerDamaged, LedgerError, UsageError
from ..finding import Finding
from ..ledger import PROVEN, Entry, Ledger, Mark
from ..places import DIR, OTHER, FolderPlace, Tree, same_content, scan
from ..progress import Progress
from .restore import restore
from .unkept import scratch_ledger

__all__ = ["Drilled", "drill"]


class Drilled(Struct, frozen=True):
    """What a drill proved of an entry: what did not come back as it was kept, or the mark if all did.

    `proven` is how many of the `entries` were ever proven; `oldest` is the oldest of these.

    >>> entry = ledger.backup(install)
    >>> proven = kl.drill(entry, ledger=ledger)
    >>> proven.findings, proven.mark.kind
    ((), 'proven')
    """

    entry: Entry
    findings: tuple[Finding, ...]
    mark: Mark | None
    proven: int
    entries: int
    oldest: Entry | None


def drill(
    entry: Entry | str | None = None,
    *,
    ledger: Ledger,
    scratch: str | None = None,
    progress: Progress | None = None,
) -> Drilled:
    """Restore an entry into a folder below `scratch`, compare every file, and note that it is proven.

    Without an entry the newest that was never proven is taken, else the one whose proof is the
    oldest. `scratch` None is the system's folder for temporary files; nothing stays in it.

    Raises:
        UsageError: the ledger is empty.
        PlaceError: the scratch folder has no room.

    >>> entry = ledger.backup(install)
    >>> kl.drill(entry, ledger=ledger).findings
    ()
    """
    entry = ledger.entry(entry) if entry else _next(ledger)
    with tempfile.TemporaryDirectory(
        prefix="drill-", dir=scratch, ignore_cleanup_errors=True
    ) as folder:
        place = FolderPlace(os.path.join(folder, "place"))
        os.mkdir(place.root)
        with scratch_ledger(folder) as scribe:
            try:
                restore(entry, place, ledger=ledger, progress=progress).apply(
                    scribe, progress=progress
                )
                findings = _differences(ledger.tree(entry), scan(place, progress=progress))
            except (LedgerDamaged, LedgerError) as error:
                findings = (error.finding("damaged"),)
    mark = None if findings else ledger.mark(PROVEN, entry.id)
    entries = ledger.entries()
    subjects = {mark.subject for mark in ledger.marks(PROVEN)}
    proven = [one for one in entries if one.id in subjects]
    return Drilled(entry, findings, mark, len(proven), len(entries), proven[0] if proven else None)


def _next(ledger: Ledger) -> Entry:
    last = {mark.subject: mark.id for mark in ledger.marks(PROVEN)}  # the latest of each
    entries = ledger.entries()
    if not entries:
        raise UsageError("the ledger keeps nothing yet", remedy="Begin with: kindred backup PLACE")
    return min(reversed(entries), key=lambda entry: (not entry.files, last.get(entry.id, "")))


def _differences(kept: Tree, found: Tree) -> tuple[Finding, ...]:
    """Return which paths did not come back as they were kept, or came without having been."""
    out = []
    for path in sorted({*kept, *found}):
        was, here = kept.get(path), found.get(path)
        if was is not None and was.kind == OTHER:
            continue  # listed, never kept
        if was is None and here is not None and here.kind != DIR:
            out.append(Finding.error("not-in-entry", "it was not kept, and is there", where=path))
        elif not same_content(was, here):
            out.append(Finding.error("damaged", "it is not what was kept", where=path))
    return tuple(out)

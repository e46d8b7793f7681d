"""Retiring: a ledger thinned by a policy, shown as a plan first; what goes stays named in a mark.

What always holds: an entry goes only by a plan that says why, never one that `retention` protects; its
contents go after it, and only what no other entry needs.
"""

from __future__ import annotations

import os
from datetime import datetime

from msgspec import Struct

from ..errors import LedgerDamaged
from ..progress import Progress
from ..statement import Outcome, Statement
from .entries import BEFORE, CONFIRMED, RETIRED, Entry, iso
from .ledger import Ledger
from .migrations import unfinished_migrations
from .reclaiming import Reclaimable, Reclaimed, reclaim, reclaimable
from .records import Record
from .retention import RetentionPolicy, awaiting, outcomes

__all__ = ["Retired", "Retirement", "confirmable", "plan_retirement"]

_UNDER_WAY_SECONDS = 86_400  # far longer than a change takes from what it keeps to its record


class Retired(Struct, frozen=True):
    """What was done: the books of the entries, counted, and the space that came back.

    >>> _ = ledger.backup(install)
    >>> done = kl.plan_retirement(ledger, kl.RetentionPolicy(last=1)).carry_out(ledger)
    >>> done.books.totals()["unchanged"]
    1
    """

    books: Statement
    space: Reclaimed


class Retirement(Struct, frozen=True):
    """A plan: a line for every entry, and the space that would come back (about).

    >>> _ = ledger.backup(install)
    >>> plan = kl.plan_retirement(ledger, kl.RetentionPolicy(last=1))
    >>> plan.books.totals()["unchanged"], plan.going
    (1, ())
    """

    policy: RetentionPolicy
    books: Statement
    entries: tuple[Entry, ...]
    space: Reclaimable

    @property
    def going(self) -> tuple[Entry, ...]:
        """The entries that would be retired."""
        gone = {line.item for line in self.books.of(Outcome.REMOVED)}
        return tuple(entry for entry in self.entries if entry.id in gone)

    def carry_out(self, ledger: Ledger, *, progress: Progress | None = None) -> Retired:
        """Retire what the plan says, and give space back.

        What was entered meanwhile is kept. A cut leaves a part of it done; doing it again is safe.

        Raises:
            PlaceBusy: another retire is at work.
            LedgerDamaged: something that stays cannot be read; its space does not come back.
        """
        with ledger.storage.deleting():
            manifest_store = ledger.manifest_stores["entries"]
            before = manifest_store.ids()
            going = [entry for entry in self.going if entry.id in before]
            if going:
                ledger.mark(RETIRED, str(self.policy), entries=going)
                manifest_store.remove(entry.id for entry in going)
            lines = tuple(line for line in self.books.lines if line.item in before)
            here = [id for id in before if id in {line.item for line in lines}]
            after = [id for id in manifest_store.ids() if id in here]
            books = Statement(self.books.subject, "entries", lines).balanced(here, after)
            return Retired(books, reclaim(ledger, progress=progress))


def plan_retirement(ledger: Ledger, policy: RetentionPolicy) -> Retirement:
    """Return what a policy would retire; nothing is written.

    Raises:
        UsageError: the policy keeps nothing.
        LedgerDamaged: an entry, change or mark cannot be read, so that nobody knows what it needs.

    >>> _ = ledger.backup(install)
    >>> kl.plan_retirement(ledger, kl.RetentionPolicy(last=3)).going
    ()
    """
    policy.check()
    for fault in ledger.unreadable():
        raise LedgerDamaged(
            fault.what,
            where=fault.where,
            remedy="Mend it first: kindred ledger heal. Nothing was retired.",
        )
    entries, records = ledger.entries(), ledger.records()
    lines = outcomes(entries, policy, protected=_protected(ledger, entries, records, policy))
    books = Statement("the ledger", "entries", tuple(lines))
    going = [line.item for line in books.of(Outcome.REMOVED)]
    return Retirement(policy, books, tuple(entries), reclaimable(ledger, without=going))


def confirmable(ledger: Ledger) -> list[Record]:
    """Return the changes that wait to be confirmed, the oldest first."""
    return sorted(
        awaiting(ledger.records(), ledger.marks(CONFIRMED)).values(), key=lambda record: record.id
    )


def _protected(
    ledger: Ledger, entries: list[Entry], records: list[Record], policy: RetentionPolicy
) -> dict[str, str]:
    """Return why some entries stay: a change may have to be taken back to them."""
    days = policy.confirmed_after_days
    since = iso(ledger.clock() - days * 86_400) if days else ""
    waiting = awaiting(records, ledger.marks(CONFIRMED), since=since)
    reasons = {id: f"change {record.id} is not confirmed" for id, record in waiting.items()}
    for begun in unfinished_migrations(ledger):
        reasons |= {
            entry.id: f"the migration {begun.id} is not signed off"
            for entry in entries
            if entry.when >= begun.when and begun.install in entry.roots.values()
        }
    recorded = {record.entry for record in records}
    unfinished = any(name.startswith("change-") for name in os.listdir(ledger.folder("work")))
    for entry in entries:
        if entry.reason.startswith(BEFORE) and entry.id not in recorded:
            age = ledger.clock() - datetime.fromisoformat(entry.when).timestamp()
            if unfinished or age < _UNDER_WAY_SECONDS:
                reasons[entry.id] = "its change may still be under way"
    return reasons

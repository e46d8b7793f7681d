"""Retention: which entries a policy keeps, and why; nothing is read and nothing written here.

What always holds, whatever the policy: the newest entry of a version is kept, and what is pinned, and
what was kept before a change that nobody has confirmed yet.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from datetime import date, datetime
from itertools import islice

from msgspec import Struct

from ..errors import UsageError
from ..statement import Line, Outcome
from .entries import BEFORE, CONFIRMED, Entry, Mark
from .records import Record, not_undone

__all__ = ["RetentionPolicy", "awaiting", "outcomes"]


class RetentionPolicy(Struct, frozen=True):
    """What to keep of each place: the `last` entries, the last of each version, and the last of each day,
    week and month, for so many of those in which there are any.

    A change that nobody confirmed counts as confirmed once it is `confirmed_after_days` old; 0 is never.

    >>> _ = ledger.backup(install)
    >>> plan = kl.plan_retirement(ledger, kl.RetentionPolicy(last=1))
    >>> plan.going
    ()
    """

    last: int = 0
    per_version: bool = False
    daily: int = 0
    weekly: int = 0
    monthly: int = 0
    confirmed_after_days: int = 0

    def __str__(self) -> str:
        parts = [
            _last(self.last) if self.last else "",
            "one per version" if self.per_version else "",
            *(f"one {name} ({n})" for name, n in self._periods() if n),
        ]
        return ", ".join(filter(None, parts))

    def check(self) -> None:
        """Raise `UsageError` if the policy keeps nothing, or says a number that is none."""
        if min(self.last, self.daily, self.weekly, self.monthly, self.confirmed_after_days) < 0:
            raise UsageError("a policy cannot keep fewer than no entries")
        if not str(self):
            raise UsageError(
                "nothing says what to keep",
                remedy="For example: `last=3` `per_version=True` `monthly=12`",
            )

    def _periods(self) -> tuple[tuple[str, int], ...]:
        return ("daily", self.daily), ("weekly", self.weekly), ("monthly", self.monthly)

    def reasons(self, entries: Sequence[Entry]) -> dict[str, str]:
        """Return why the policy keeps which of the entries of one place, the newest first."""
        found: dict[str, str] = {}

        def keep(some: Iterable[Entry], reason: Callable[[Entry], str]) -> None:
            for entry in some:
                found.setdefault(entry.id, reason(entry))

        keep(entries[: self.last], lambda _: f"{_last(self.last)} of its place")
        if self.per_version:
            versions = _first_of_each(entries, lambda entry: entry.tag.version)
            keep(versions, lambda entry: f"the last of {entry.name} in its place")
        for (name, number), (period, label) in zip(self._periods(), _PERIODS, strict=True):
            kept = islice(_first_of_each(entries, lambda entry: period(_day(entry))), number)  # noqa: B023
            keep(kept, lambda entry: f"{name}: the last of {label(_day(entry))}")  # noqa: B023
        return found


_PERIODS: tuple[tuple[Callable[[date], Hashable], Callable[[date], str]], ...] = (
    (lambda day: day, lambda day: f"{day:%Y-%m-%d}"),
    (lambda day: day.isocalendar()[:2], lambda day: f"week {day:%G-W%V}"),
    (lambda day: (day.year, day.month), lambda day: f"{day:%Y-%m}"),
)


def outcomes(
    entries: Sequence[Entry], policy: RetentionPolicy, *, protected: Mapping[str, str]
) -> list[Line]:
    """Return a line an entry, the oldest first: kept, with why; or dropped, as nothing keeps it.

    `protected` says of some ids why they are kept whatever the policy (see `awaiting`).
    """
    policy.check()
    newest_first = sorted(entries, key=lambda entry: entry.id, reverse=True)
    reasons: dict[str, str] = {}
    # What operations kept is no state of the place that anybody chose; it goes once it is confirmed.
    chosen = [entry for entry in newest_first if not entry.reason.startswith(BEFORE)]
    for place in {_place_of(entry) for entry in chosen}:
        reasons |= policy.reasons([entry for entry in chosen if _place_of(entry) == place])
    # What an operation kept whole is what a build had when its turn ended: there is no other copy of it.
    whole = (e for e in newest_first if e.complete and e.reason.startswith(BEFORE))
    for entry in _first_of_each(whole, lambda entry: (_place_of(entry), entry.name)):
        reasons[entry.id] = f"what {entry.name} last had in its place"
    by_name = sorted(newest_first, key=lambda entry: not entry.complete)  # whole places first
    for entry in _first_of_each(by_name, lambda entry: entry.name):
        reasons[entry.id] = f"the last of {entry.name}"
    reasons |= {entry.id: "pinned" for entry in entries if entry.pinned}
    reasons |= protected
    return [
        Line(Outcome.UNCHANGED, entry.id, reasons[entry.id])
        if entry.id in reasons
        else Line(Outcome.REMOVED, entry.id, "nothing keeps it")
        for entry in reversed(newest_first)
    ]


def awaiting(
    records: Sequence[Record], marks: Iterable[Mark], *, since: str = ""
) -> dict[str, Record]:
    """Return, by the entry that was kept before it, each change about which nobody has decided.

    A change is decided about when it is confirmed, or was taken back and still is: its place is as it was
    before it. What an undo replaced waits like anything else. Changes before `since` (UTC, ISO 8601) count as
    confirmed.
    """
    confirmed = {mark.subject for mark in marks if mark.kind == CONFIRMED}
    applying = {record.id for record in not_undone(records)}
    return {
        record.entry: record
        for record in records
        if record.id in applying and record.id not in confirmed and record.when >= since
    }


def _last(number: int) -> str:
    return "the last" if number == 1 else f"the last {number}"


def _first_of_each(entries: Iterable[Entry], key: Callable[[Entry], Hashable]) -> Iterable[Entry]:
    seen: set[Hashable] = set()
    for entry in entries:
        if (found := key(entry)) not in seen:
            seen.add(found)
            yield entry


def _place_of(entry: Entry) -> Hashable:
    return entry.machine, entry.tag.title, tuple(sorted(entry.roots.items()))


def _day(entry: Entry) -> date:
    return datetime.fromisoformat(entry.when).date()

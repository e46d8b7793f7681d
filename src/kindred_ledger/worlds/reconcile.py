"""Reconciling two id lists by name: what each number of the old list is in the new one, never by number.

What always holds: content is the same only if its name is the same, or the card or a person says that it was
renamed. Names that are merely alike are proposed, and not taken. A number that means other content now is
told as what it is: the trap that scrambles worlds which nobody converts.
"""

from __future__ import annotations

from collections.abc import Mapping
from difflib import SequenceMatcher
from enum import StrEnum
from functools import cached_property

from msgspec import Struct

from ..cards.worlds import IdList, chained, folded_name
from ..errors import IdListError, UsageError
from ..suggestions import did_you_mean

__all__ = ["ContentChange", "ContentRow", "Reconciled", "reconcile"]

_LIKE = 0.82  # of 1: from where a name may be another one's new name
_MOST_COMPARED = 4_000_000  # pairs of names


class ContentChange(StrEnum):
    """What became of content between two lists.

    >>> [str(what) for what in ContentChange]
    ['same', 'renumbered', 'renamed', 'split', 'gone', 'new']
    """

    SAME = "same"
    RENUMBERED = "renumbered"
    RENAMED = "renamed"
    SPLIT = "split"
    GONE = "gone"
    NEW = "new"


class ContentRow(Struct, frozen=True):
    """One name of the old list or the new one, and what became of it.

    `old` and `new` are its numbers; None where it has none. `became` is the name it has now; `now_at_old` the
    name that its old number means now, if that is another. `parts` are what it was split into; `perhaps`
    names of the new list that are like it.

    >>> row = kl.reconcile(old_ids, new_ids).by_name["reedlight:bell"]
    >>> str(row.what), row.old, row.now_at_old
    ('gone', 10, 'bog:oar')
    """

    name: str
    what: ContentChange
    old: int | None
    new: int | None
    became: str = ""
    now_at_old: str = ""
    parts: tuple[str, ...] = ()
    perhaps: tuple[str, ...] = ()

    @property
    def is_reused(self) -> bool:
        """Whether its old number means something else now."""
        return bool(self.now_at_old)


class Reconciled(Struct, frozen=True, dict=True):
    """Two lists side by side: a row for every name of either, the old one's order first.

    >>> old = kl.IdList.of([("bog:peat", 1), ("reed:bell", 2)], origin="old")
    >>> new = kl.IdList.of([("bog:peat", 2)], origin="new")
    >>> [(row.name, str(row.what), row.now_at_old) for row in kl.reconcile(old, new).rows]
    [('bog:peat', 'renumbered', ''), ('reed:bell', 'gone', 'bog:peat')]
    """

    old: IdList
    new: IdList
    rows: tuple[ContentRow, ...]

    @cached_property
    def by_name(self) -> dict[str, ContentRow]:
        """The rows of the old list, by name."""
        return {row.name: row for row in self.rows if row.old is not None}

    def of(self, *what: ContentChange) -> tuple[ContentRow, ...]:
        """Return the rows of which one of these is true."""
        return tuple(row for row in self.rows if row.what in what)

    @property
    def vanishing(self) -> tuple[ContentRow, ...]:
        """The content that the new list does not have: somebody must say what shall be in its place."""
        return self.of(ContentChange.GONE, ContentChange.SPLIT)

    @property
    def changes_nothing(self) -> bool:
        """Whether every number means what it meant."""
        return all(row.what in (ContentChange.SAME, ContentChange.NEW) for row in self.rows)

    @property
    def totals(self) -> dict[str, int]:
        """How many names there are of each kind."""
        return {str(what): len(self.of(what)) for what in ContentChange}


def reconcile(
    old: IdList,
    new: IdList,
    *,
    aliases: Mapping[str, str | list[str]] = {},
    renames: Mapping[str, str] = {},
) -> Reconciled:
    """Return what became of all content between two lists.

    `aliases` are what a card says; `renames` what a person confirmed, which goes before.

    Raises:
        IdListError: the lists have no name in common.
        UsageError: a rename is of a name that is not there, or aliases go round in a circle.

    >>> kl.reconcile(old_ids, new_ids).totals["gone"]
    9
    """
    for name, to in renames.items():
        if name not in old.numbers:
            raise UsageError(
                f"the world's list has no {name}", remedy=did_you_mean(name, old.numbers)
            )
        if to not in new.numbers:
            raise UsageError(f"the new list has no {to}", remedy=did_you_mean(to, new.numbers))
        if name in new.numbers:
            raise UsageError(
                f"{name} is in the new list, too: it was not renamed",
                remedy="To put other content in its place, edit the world once it is converted.",
            )
    known: dict[str, str | list[str]] = {**aliases, **renames}
    rows = [_row(name, number, new, known) for name, number in old.numbers.items()]
    kept = {row.became or row.name for row in rows if row.new is not None}
    if not kept:
        raise IdListError(
            f"the two lists have no name in common: {old.origin} and {new.origin}",
            remedy="One of them is of another title, or all names changed: say what they became by `aliases`"
            " of the card. Numbers are never taken for what they mean.",
        )
    free = [name for name in new.numbers if name not in old.numbers and name not in kept]
    rows = (
        [_with_proposals(row, free) for row in rows]
        if len(rows) * len(free) < _MOST_COMPARED
        else rows
    )
    rows += [ContentRow(name, ContentChange.NEW, None, new.numbers[name]) for name in free]
    return Reconciled(old, new, tuple(rows))


def _row(name: str, number: int, new: IdList, known: Mapping[str, str | list[str]]) -> ContentRow:
    meant = new.names.get(number, "")
    became = chained(dict(known), name) if name in known and name not in new.numbers else (name,)
    if len(became) > 1:
        parts = tuple(each for each in became if each in new.numbers)
        return ContentRow(name, ContentChange.SPLIT, number, None, now_at_old=meant, parts=parts)
    now = became[0]
    if now not in new.numbers:
        return ContentRow(name, ContentChange.GONE, number, None, now_at_old=meant)
    there = new.numbers[now]
    reused = meant if meant != now else ""
    if now != name:
        return ContentRow(name, ContentChange.RENAMED, number, there, now, reused)
    what = ContentChange.SAME if there == number else ContentChange.RENUMBERED
    return ContentRow(name, what, number, there, "", reused)


def _with_proposals(row: ContentRow, free: list[str]) -> ContentRow:
    """Return a row with the names of the new list that may be its new name, the likeliest first."""
    if row.what is not ContentChange.GONE:
        return row
    folded = folded_name(row.name)
    own = folded.rpartition(":")[2]
    found: list[tuple[float, str]] = []
    for name in free:
        other = folded_name(name)
        likeness = 1.0 if other == folded else 0.0
        if not likeness and other.rpartition(":")[2] == own:
            likeness = 0.95  # the same thing, by another mod
        if not likeness:
            matcher = SequenceMatcher(None, folded, other, autojunk=False)
            likeness = matcher.ratio() if matcher.quick_ratio() >= _LIKE else 0.0
        if likeness >= _LIKE:
            found.append((-likeness, name))
    return ContentRow(
        row.name, row.what, row.old, row.new, row.became, row.now_at_old, row.parts,
        tuple(name for _, name in sorted(found)[:3]),
    )  # fmt: skip

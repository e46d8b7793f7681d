"""Accounts of edits: what became of each change of mine, and of theirs, counted apart from the merging.

What differs between base and mine is my edits; the merged file is asked, place by place, whether it holds
them. What it does not hold must have given way to a rule, by name. So two counts that come from different
code have to agree.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import suppress
from typing import Any

from msgspec import Struct

from ..cards import Card
from ..errors import BooksUnbalanced, KindredError
from ..merge import (
    ABSENT,
    At,
    Difference,
    FileMerge,
    Index,
    Keys,
    differences,
    resolved,
    same,
    values_of,
)
from ..planning.reading import read_as
from ..statement import Line, Outcome, Statement

__all__ = ["Accounts", "edits_in", "holds"]

# What became of an edit: the word for it, and more behind a colon.
APPLIED, SUPERSEDED, LEFT_OUT = "applied", "superseded: the new one says the same", "left out"
TAKEN, OVERRIDDEN, MERGED = "taken", "overridden", "applied: together with the other side's"

_LARGEST = 16 << 20  # of a file whose edits are told one by one


class Accounts(Struct):
    """The edits of both sides, a line each: file and field."""

    mine: list[Line] = []
    theirs: list[Line] = []
    seen_mine: list[str] = []  # every edit, as the differences of the sides tell it
    seen_theirs: list[str] = []
    index: Index = {}  # of the sides of the file that is looked at

    def file(
        self, path: str, who: str, reason: str, outcome: Outcome, names: Sequence[str] = ()
    ) -> None:
        """Note a file that one side changed as a whole; `names` are the edits in it, if they are known."""
        lines, seen = (
            (self.mine, self.seen_mine) if who == "mine" else (self.theirs, self.seen_theirs)
        )
        items = [f"{path}: {name}" for name in names] or [path]
        lines += [Line(outcome, item, reason) for item in items]
        seen += items

    def merged(self, path: str, merge: FileMerge) -> None:
        """Note what became of each change in a file that was merged inside.

        Raises:
            BooksUnbalanced: an edit is not in the result, and nobody decided that.
        """
        if merge.sides is None:
            self._lines(path, merge)
            return
        base, mine, theirs, result = merge.sides
        self.index = {}
        own = differences(base, mine, told=merge.values)
        other = differences(base, theirs, told=merge.values)
        for each in own:
            self._note(path, each, result, theirs, other, merge, mine=True)
        for each in other:
            self._note(path, each, result, mine, own, merge, mine=False)

    def _note(
        self,
        path: str,
        each: Difference,
        result: Any,
        across: Any,
        others: Sequence[Difference],
        merge: FileMerge,
        *,
        mine: bool,
    ) -> None:
        lines, seen = (self.mine, self.seen_mine) if mine else (self.theirs, self.seen_theirs)
        item = f"{path}: {each.name or 'the whole'}"
        seen.append(item)
        if holds(result, each.at, each.after, self.index):
            agreed = holds(across, each.at, each.after, self.index)
            reason = SUPERSEDED if mine and agreed else APPLIED if mine else TAKEN
            lines.append(Line(Outcome.UNCHANGED, item, reason))
        elif _is_inside(each, result) and any(_touches(each.at, one.at) for one in others):
            lines.append(Line(Outcome.UNCHANGED, item, MERGED if mine else TAKEN))
        elif merge.answered or merge.overruled:
            lines.append(Line(Outcome.LEFT_ALONE, item, LEFT_OUT if mine else OVERRIDDEN))
        else:
            raise BooksUnbalanced(
                f"a change of {'yours' if mine else 'theirs'} is lost", where=item
            )

    def _lines(self, path: str, merge: FileMerge) -> None:
        """Note the lines of a text: how many of each side, as the merge counted them."""
        counts = merge.counts
        for number, reason, outcome, mine in (
            (counts.applied, APPLIED, Outcome.UNCHANGED, True),
            (counts.superseded, SUPERSEDED, Outcome.UNCHANGED, True),
            (counts.left_out, LEFT_OUT, Outcome.LEFT_ALONE, True),
            (counts.taken, TAKEN, Outcome.UNCHANGED, False),
            (counts.overridden, OVERRIDDEN, Outcome.LEFT_ALONE, False),
        ):
            if number:
                lines, seen = (
                    (self.mine, self.seen_mine) if mine else (self.theirs, self.seen_theirs)
                )
                item = f"{path}: lines"
                lines.append(Line(outcome, item, reason, count=number))
                seen += [item] * number

    def statements(self) -> tuple[Statement, ...]:
        """Return both accounts, counted."""
        return (
            _balanced("your edits", self.mine, self.seen_mine),
            _balanced("their changes", self.theirs, self.seen_theirs),
        )


def _balanced(subject: str, lines: Sequence[Line], seen: Iterable[str]) -> Statement:
    items = list(seen)
    gone: dict[str, int] = {}
    for line in lines:
        if line.outcome in (Outcome.LEFT_ALONE, Outcome.CONFLICT):
            gone[line.item] = gone.get(line.item, 0) + line.count
    after = []
    for item in items:
        if gone.get(item):
            gone[item] -= 1
        else:
            after.append(item)
    return Statement(subject, "edits", tuple(lines)).balanced(items, after)


def edits_in(path: str, before: bytes, after: bytes, card: Card | None) -> tuple[str, ...]:
    """Return the names of the edits between two contents of a file; none where they cannot be told."""
    if max(len(before), len(after)) > _LARGEST:
        return ()
    with suppress(KindredError):
        reading = read_as(path, (before, after), card)
        if reading.is_lines:
            return ()
        old, new = (values_of(reading.decode(data)) for data in (before, after))
        found = differences(old, new, Keys(reading.keys))
        return tuple(each.name or "the whole" for each in found)
    return ()


def holds(value: Any, at: At, wanted: Any, index: Index | None = None) -> bool:
    """Tell whether a plain value has something at a place; `ABSENT` is nothing there."""
    path = resolved(value, at, index)
    if path is None:
        return wanted is ABSENT
    for part in path:
        try:
            value = value[part]
        except (KeyError, IndexError, TypeError):
            return wanted is ABSENT
    return wanted is not ABSENT and same(value, wanted)


def _touches(one: At, other: At) -> bool:
    """Tell whether two places are one, or one lies in the other."""
    short = min(len(one), len(other))
    return one[:short] == other[:short]


def _is_inside(each: Difference, result: Any) -> bool:
    """Tell whether all that a change brought is in the result, though not alone: lists, records, mappings."""
    if each.after is ABSENT or not isinstance(each.after, (dict, list)):
        return False
    path = resolved(result, each.at)
    if path is None:
        return False
    for part in path:
        try:
            result = result[part]
        except (KeyError, IndexError, TypeError):
            return False
    return _covers(result, each.before, each.after)


def _covers(result: Any, before: Any, after: Any) -> bool:
    if isinstance(after, dict) and isinstance(result, dict):
        old = before if isinstance(before, dict) else {}
        return all(
            key in result
            and (same(result[key], inner) or _covers(result[key], old.get(key), inner))
            for key, inner in after.items()
            if key not in old or not same(old[key], inner)
        )
    if isinstance(after, list) and isinstance(result, list):
        old_list = before if isinstance(before, list) else []
        new = [one for one in after if not any(same(one, other) for other in old_list)]
        gone = [one for one in old_list if not any(same(one, other) for other in after)]
        return all(any(same(one, other) for other in result) for one in new) and not any(
            same(one, other) for one in gone for other in result
        )
    return same(result, after)

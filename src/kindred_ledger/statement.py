"""The account of an operation: a line for every item, and the check that the lines balance.

What always holds for a balanced statement:

    items before = unchanged + changed + removed + left alone + in conflict
    items after  = unchanged + changed + added

where both sides are names counted from the real input and the re-read output, never from the
operation's own notes. The check compares the names themselves, so that two mistakes of opposite
sign cannot cancel out.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from enum import StrEnum
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING, Any

from msgspec import Struct, to_builtins
from msgspec.structs import replace

from .errors import BooksUnbalanced
from .notebook import frame_of, html_table

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["ALL_OTHERS", "MANY", "Line", "Outcome", "Statement", "lines_named"]

ALL_OTHERS = "all others"  # the item of a line that stands for many things that stayed as they are
MANY = 1000  # things in an account: from there on those that stay as they are have one line


class Outcome(StrEnum):
    """What became of an item.

    >>> [str(outcome) for outcome in kl.Outcome]
    ['unchanged', 'changed', 'added', 'removed', 'left alone', 'conflict']
    """

    UNCHANGED = "unchanged"
    CHANGED = "changed"
    ADDED = "added"
    REMOVED = "removed"
    LEFT_ALONE = "left alone"
    CONFLICT = "conflict"


Items = Iterable[str] | Mapping[str, int]

_BEFORE = frozenset(
    {Outcome.UNCHANGED, Outcome.CHANGED, Outcome.REMOVED, Outcome.LEFT_ALONE, Outcome.CONFLICT}
)
_AFTER = frozenset({Outcome.UNCHANGED, Outcome.CHANGED, Outcome.ADDED})


class Line(Struct, frozen=True, omit_defaults=True, gc=False):
    """One item: its name on the way in, what became of it, its name on the way out, and why.

    `became` is empty where the name did not change. An added item stands under `item`. A line for
    `count` items of one name stands for all values of a column, such as `crew[*].morale`; one of
    `ALL_OTHERS` for all that has no line of its own.

    >>> line = kl.Line(kl.Outcome.CHANGED, "hull.speed", reason="units", became="hull.knots")
    >>> line.outcome.value, line.item, line.became
    ('changed', 'hull.speed', 'hull.knots')
    """

    outcome: Outcome
    item: str
    reason: str = ""
    became: str = ""
    count: int = 1


class Statement(Struct, frozen=True):
    """The lines of one operation on one subject, with the totals counted independently.

    `unit` says what an item is ("files", "fields"); `counted_before` and `counted_after` are None until
    `balanced` has compared the lines with the real items.

    >>> books = kl.restore(ledger.backup(install), "copy", ledger=ledger).preview()
    >>> books.totals()["added"], books.of(kl.Outcome.ADDED)[0].item
    (206, 'program/build.json')
    """

    subject: str
    unit: str
    lines: tuple[Line, ...] = ()
    counted_before: int | None = None
    counted_after: int | None = None

    def totals(self) -> dict[str, int]:
        """Return how many items there are of each outcome, in the order of `Outcome`."""
        counts: Counter[Outcome] = Counter()
        for line in self.lines:
            counts[line.outcome] += line.count
        return {outcome.value: counts[outcome] for outcome in Outcome}

    def __str__(self) -> str:
        """Return the totals in a line, and whether they were counted.

        >>> print(Statement("my saves", "files", (Line(Outcome.UNCHANGED, "a"),)))
        my saves: 1 unchanged (files, preview)
        """
        parts = ", ".join(f"{number:,} {name}" for name, number in self.totals().items() if number)
        sides = "preview"
        if self.counted_before is not None and self.counted_after is not None:
            sides = (
                f"{self.counted_before:,} before, {self.counted_after:,} after: the books balance"
            )
        return f"{self.subject}: {parts or 'nothing'} ({self.unit}, {sides})"

    def __repr__(self) -> str:
        return f"<Statement {self}>"

    def _repr_html_(self) -> str:
        rows = [(line.outcome.value, line.item, line.became, line.reason) for line in self.lines]
        return html_table(("outcome", self.unit, "became", "reason"), rows, caption=str(self))

    def to_frame(self) -> DataFrame:
        """Return the lines as a data frame: `outcome`, `item`, `became`, `reason`, `count`.

        Raises:
            UsageError: pandas is not installed.
        """
        return frame_of(
            {
                "outcome": [line.outcome.value for line in self.lines],
                "item": [line.item for line in self.lines],
                "became": [line.became for line in self.lines],
                "reason": [line.reason for line in self.lines],
                "count": [line.count for line in self.lines],
            }
        )

    @staticmethod
    def together(subject: str, parts: Sequence[Statement]) -> Statement:
        """Return accounts of one unit as one, counted if all of them are."""
        sides = [(part.counted_before, part.counted_after) for part in parts]
        ins, outs = ([side[at] for side in sides if side[at] is not None] for at in (0, 1))
        return Statement(
            subject,
            parts[0].unit if parts else "files",
            tuple(line for part in parts for line in part.lines),
            sum(ins) if len(ins) == len(parts) else None,  # type: ignore[arg-type]
            sum(outs) if len(outs) == len(parts) else None,  # type: ignore[arg-type]
        )

    def of(self, *outcomes: Outcome) -> tuple[Line, ...]:
        """Return the lines with one of these outcomes."""
        return tuple(line for line in self.lines if line.outcome in outcomes)

    def balanced(self, items_before: Items, items_after: Items) -> Statement:
        """Return this statement with both sides counted, or fail.

        Items are names, or names with how often each is there.

        >>> Statement("x", "fields", (Line(Outcome.UNCHANGED, "a"),)).balanced(["a"], ["a"]).counted_before
        1

        Raises:
            BooksUnbalanced: an item has no line, or a line has no item.
        """
        real_before, real_after = Counter(items_before), Counter(items_after)
        if any(line.item == ALL_OTHERS for line in self.lines):
            ins = {line.item for line in self.lines if line.outcome in _BEFORE}
            outs = {line.became or line.item for line in self.lines if line.outcome in _AFTER}
            real_before, real_after = _with_others(real_before, ins), _with_others(real_after, outs)
        lines_before: dict[str, int] = {}
        lines_after: dict[str, int] = {}
        for line in self.lines:
            outcome, item, count = line.outcome, line.item, line.count
            if outcome in _BEFORE:
                lines_before[item] = lines_before.get(item, 0) + count
            if outcome in _AFTER:
                item = line.became or item
                lines_after[item] = lines_after.get(item, 0) + count
        faults = [
            *_differences("was there before", real_before, lines_before),
            *_differences("is there after", real_after, lines_after),
        ]
        if faults:
            shown = faults[:10] + ([f"and {len(faults) - 10} more"] if len(faults) > 10 else [])
            raise BooksUnbalanced(
                f"the books of {self.subject} do not balance; {self.unit} with a fault: {len(faults)}",
                remedy="\n".join(f"  {fault}" for fault in shown),
            )
        return replace(self, counted_before=real_before.total(), counted_after=real_after.total())

    def to_json(self, *, lines: bool | Callable[[Line], bool] = True) -> dict[str, Any]:
        """Return the statement as plain values; `lines` says which lines, False leaves only the totals."""
        out: dict[str, Any] = {
            "subject": self.subject,
            "unit": self.unit,
            "totals": self.totals(),
            "before": self.counted_before,
            "after": self.counted_after,
        }
        if lines:
            some = self.lines if lines is True else filter(lines, self.lines)
            out["lines"] = to_builtins(list(some))
        return out


def lines_named(patterns: Iterable[str]) -> Callable[[Line], bool]:
    """Return what tells whether a line is of a name that fits one of the patterns, before or after.

    `*` is any text; brackets are those of an index.
    """

    def fits(line: Line) -> bool:
        names = (line.item, line.became or line.item)
        return any(fnmatchcase(name, p) or name == p for p in literal for name in names)

    literal = [pattern.replace("[", "[[]") for pattern in patterns]
    return fits


def _with_others(real: Counter[str], named: set[str]) -> Counter[str]:
    """Return how often each named item is there, and all that are not named as one."""
    found = Counter({name: real[name] for name in named & real.keys()})
    others = real.total() - found.total()
    if others:
        found[ALL_OTHERS] += others
    return found


def _differences(verb: str, real: Counter[str], lines: dict[str, int]) -> list[str]:
    if dict.__eq__(real, lines):  # that of `Counter` asks for each item in Python
        return []
    told = Counter(lines)
    missing = [f"{name} {verb} and has no line" for name in sorted((real - told).keys())]
    extra = [f"{name} has a line, and none {verb}" for name in sorted((told - real).keys())]
    return missing + extra

"""The account of an operation: a line for every item, and the check that the lines balance.

What always holds for a balanced statement:

    items in  = kept + changed + dropped + held + in conflict
    items out = kept + changed + added

where both sides are names counted from the real input and the re-read output, never from the
operation's own notes. The check compares the names themselves, so that two mistakes of opposite
sign cannot cancel out.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from enum import StrEnum
from fnmatch import fnmatchcase
from typing import Any

from msgspec import Struct, to_builtins
from msgspec.structs import replace

from .errors import BooksUnbalanced

__all__ = ["ALL_OTHERS", "MANY", "Line", "Outcome", "Statement", "lines_named"]

ALL_OTHERS = "all others"  # the item of a line that stands for many things that stayed as they are
MANY = 1000  # things in an account: from there on those that stay as they are have one line


class Outcome(StrEnum):
    """What became of an item."""

    KEPT = "kept"
    CHANGED = "changed"
    ADDED = "added"
    DROPPED = "dropped"
    HELD = "held"
    CONFLICT = "conflict"


Items = Iterable[str] | Mapping[str, int]

_IN = frozenset({Outcome.KEPT, Outcome.CHANGED, Outcome.DROPPED, Outcome.HELD, Outcome.CONFLICT})
_OUT = frozenset({Outcome.KEPT, Outcome.CHANGED, Outcome.ADDED})


class Line(Struct, frozen=True, omit_defaults=True):
    """One item: its name on the way in, what became of it, its name on the way out, and why.

    `became` is empty where the name did not change. An added item stands under `item`. A line for
    `count` items of one name stands for all values of a column, such as `crew[*].morale`; one of
    `ALL_OTHERS` for all that has no line of its own.
    """

    outcome: Outcome
    item: str
    reason: str = ""
    became: str = ""
    count: int = 1


class Statement(Struct, frozen=True):
    """The lines of one operation on one subject, with the totals counted independently.

    `unit` says what an item is ("files", "fields"); `counted_in` and `counted_out` are None until
    `balanced` has compared the lines with the real items.
    """

    subject: str
    unit: str
    lines: tuple[Line, ...] = ()
    counted_in: int | None = None
    counted_out: int | None = None

    def totals(self) -> dict[str, int]:
        """Return how many items there are of each outcome, in the order of `Outcome`."""
        counts: Counter[Outcome] = Counter()
        for line in self.lines:
            counts[line.outcome] += line.count
        return {outcome.value: counts[outcome] for outcome in Outcome}

    def __str__(self) -> str:
        """Return the totals in a line, and whether they were counted.

        >>> print(Statement("my saves", "files", (Line(Outcome.KEPT, "a"),)))
        my saves: 1 kept (files, as planned)
        """
        parts = ", ".join(f"{number:,} {name}" for name, number in self.totals().items() if number)
        sides = "as planned"
        if self.counted_in is not None and self.counted_out is not None:
            sides = f"{self.counted_in:,} in, {self.counted_out:,} out: the books balance"
        return f"{self.subject}: {parts or 'nothing'} ({self.unit}, {sides})"

    @staticmethod
    def together(subject: str, parts: Sequence[Statement]) -> Statement:
        """Return accounts of one unit as one, counted if all of them are."""
        sides = [(part.counted_in, part.counted_out) for part in parts]
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

    def balanced(self, items_in: Items, items_out: Items) -> Statement:
        """Return this statement with both sides counted, or fail.

        Items are names, or names with how often each is there.

        >>> Statement("x", "fields", (Line(Outcome.KEPT, "a"),)).balanced(["a"], ["a"]).counted_in
        1

        Raises:
            BooksUnbalanced: an item has no line, or a line has no item.
        """
        real_in, real_out = Counter(items_in), Counter(items_out)
        if any(line.item == ALL_OTHERS for line in self.lines):
            ins = {line.item for line in self.lines if line.outcome in _IN}
            outs = {line.became or line.item for line in self.lines if line.outcome in _OUT}
            real_in, real_out = _with_others(real_in, ins), _with_others(real_out, outs)
        lines_in: Counter[str] = Counter()
        lines_out: Counter[str] = Counter()
        for line in self.lines:
            if line.outcome in _IN:
                lines_in[line.item] += line.count
            if line.outcome in _OUT:
                lines_out[line.became or line.item] += line.count
        faults = [
            *_differences("went in", real_in, lines_in),
            *_differences("came out", real_out, lines_out),
        ]
        if faults:
            shown = faults[:10] + ([f"and {len(faults) - 10} more"] if len(faults) > 10 else [])
            raise BooksUnbalanced(
                f"the books of {self.subject} do not balance ({len(faults)} {self.unit})",
                remedy="\n".join(f"  {fault}" for fault in shown),
            )
        return replace(self, counted_in=real_in.total(), counted_out=real_out.total())

    def to_json(self, *, lines: bool | Callable[[Line], bool] = True) -> dict[str, Any]:
        """Return the statement as plain values; `lines` says which lines, False leaves only the totals."""
        out: dict[str, Any] = {
            "subject": self.subject,
            "unit": self.unit,
            "totals": self.totals(),
            "in": self.counted_in,
            "out": self.counted_out,
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


def _differences(verb: str, real: Counter[str], lines: Counter[str]) -> list[str]:
    if dict.__eq__(real, lines):  # that of `Counter` asks for each item in Python
        return []
    missing = [f"{name} {verb} and has no line" for name in sorted((real - lines).keys())]
    extra = [f"{name} has a line but never {verb}" for name in sorted((lines - real).keys())]
    return missing + extra

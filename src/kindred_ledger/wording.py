"""Wording: numbers, sizes and ranges of builds as people write them, in messages and on screen."""

from __future__ import annotations

from collections.abc import Iterable

from .versions import Version, VersionRange

__all__ = ["builds_in_words", "count", "size"]

_End = tuple[Version, bool] | None  # a bound, and whether it is in the range; None is open


def count(number: int, noun: str) -> str:
    """Return a number with its noun in the right form.

    >>> count(1, "entry"), count(2, "entry"), count(3, "loss")
    ('1 entry', '2 entries', '3 losses')
    """
    if number == 1:
        return f"1 {noun}"
    plural = (
        f"{noun[:-1]}ies"
        if noun.endswith("y")
        else f"{noun}es"
        if noun.endswith("s")
        else f"{noun}s"
    )
    return f"{number:,} {plural}"


def size(size_bytes: int) -> str:
    """Return a number of bytes in the unit people would use.

    >>> size(999), size(10_839), size(2_000_000_000)
    ('999 B', '10.8 KB', '2.0 GB')
    """
    amount = float(size_bytes)
    for unit in ("B", "KB", "MB", "GB"):
        if amount < 1000:
            return (
                f"{amount:.0f} {unit}" if unit == "B" or amount >= 100 else f"{amount:.1f} {unit}"
            )
        amount /= 1000
    return f"{amount:.1f} TB"


def builds_in_words(ranges: Iterable[VersionRange]) -> str:
    """Return which builds some ranges of one scheme hold together.

    >>> builds_in_words(map(VersionRange.parse, ("<3.2", ">=3.2,<4.0")))
    'builds before 4.0'
    >>> builds_in_words(map(VersionRange.parse, (">=1.2,<2", "3")))
    'builds from 1.2 to before 2, or build 3'
    """
    spans: list[tuple[_End, _End]] = []
    others = []
    for each in ranges:
        span = _span(each)
        if span is None:
            others.append(f"builds {each}")
        else:
            spans.append(span)
    spans.sort(key=lambda span: (span[0] is not None, span[0][0] if span[0] else 0))
    merged: list[tuple[_End, _End]] = []
    for low, high in spans:
        if merged and _touch(merged[-1][1], low):
            merged[-1] = (merged[-1][0], _later(merged[-1][1], high))
        else:
            merged.append((low, high))
    return ", or ".join([*(_span_in_words(low, high) for low, high in merged), *others])


def _span(range: VersionRange) -> tuple[_End, _End] | None:
    """Return both ends of a range; None if it is not of one piece."""
    low: _End = None
    high: _End = None
    for sign, bound in range.bounds:
        if sign == "!=":
            return None
        if sign in (">=", ">", "==", "=") and (low is None or low[0] < bound):
            low = bound, sign != ">"
        if sign in ("<=", "<", "==", "=") and (high is None or bound < high[0]):
            high = bound, sign != "<"
    return low, high


def _touch(high: _End, low: _End) -> bool:
    """Tell whether nothing lies between the end of a range and the beginning of the next."""
    if high is None or low is None:
        return True
    return low[0] < high[0] or (low[0] == high[0] and (low[1] or high[1]))


def _later(one: _End, other: _End) -> _End:
    if one is None or other is None:
        return None
    if one[0] == other[0]:
        return one[0], one[1] or other[1]
    return other if one[0] < other[0] else one


def _span_in_words(low: _End, high: _End) -> str:
    if low is None and high is None:
        return "all builds"
    if low is not None and high is not None and low[0] == high[0]:
        return f"build {low[0]}"
    end = "" if high is None else f"{'up to' if high[1] else 'before'} {high[0]}"
    if low is None:
        return f"builds {end}"
    begin = f"from {low[0]}" if low[1] else f"after {low[0]}"
    return (
        f"builds {begin} on" if high is None else f"builds {begin} to {end.removeprefix('up to ')}"
    )

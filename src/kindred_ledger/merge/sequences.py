"""Merging sequences whose elements nothing names: lines of a text, values of a list.

Both descendants are aligned with the base; where both kept an element is a place both agree on, and
what lies between two such places is decided as one (Khanna, Kunal, Pierce 2007, "A formal investigation of
diff3"). So changes that touch, with no common element between them, are a conflict.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence

from msgspec import Struct

from .alignment import Block, blocks
from .sides import Case

__all__ = ["Region", "merged_regions"]


class Region(Struct, frozen=True):
    """A part of all three sides, as ranges of their elements, and what became of it."""

    case: Case
    base: range
    mine: range
    theirs: range


def merged_regions(
    base: Sequence[Hashable], mine: Sequence[Hashable], theirs: Sequence[Hashable]
) -> list[Region]:
    """Return the regions of three sequences, in order; together they are all of each.

    >>> [s.case.name for s in merged_regions("abc", "abcd", "xbc")]
    ['THEY_CHANGED', 'UNCHANGED', 'I_ADDED']
    """
    found: list[Region] = []
    at, here, there = 0, 0, 0
    for start, to_mine, to_theirs, size in _agreed(blocks(base, mine), blocks(base, theirs)):
        _between(found, base, mine, theirs, (at, start), (here, to_mine), (there, to_theirs))
        at, here, there = start + size, to_mine + size, to_theirs + size
        kept = range(start, at), range(to_mine, here), range(to_theirs, there)
        found.append(Region(Case.UNCHANGED, *kept))
    ends = (at, len(base)), (here, len(mine)), (there, len(theirs))
    _between(found, base, mine, theirs, *ends)
    return found


def _agreed(
    in_mine: Sequence[Block], in_theirs: Sequence[Block]
) -> Iterator[tuple[int, int, int, int]]:
    """Yield what both sides kept, without anything put between: where it is on all three, and how much."""
    one = other = 0
    while one < len(in_mine) and other < len(in_theirs):
        (at, mine, size), (start, theirs, length) = in_mine[one], in_theirs[other]
        begin, end = max(at, start), min(at + size, start + length)
        if begin < end:
            yield begin, mine + begin - at, theirs + begin - start, end - begin
        if at + size <= start + length:
            one += 1
        if at + size >= start + length:
            other += 1


def _between(
    found: list[Region],
    base: Sequence[Hashable],
    mine: Sequence[Hashable],
    theirs: Sequence[Hashable],
    *ends: tuple[int, int],
) -> None:
    """Decide about what lies between two places both sides kept."""
    b, m, t = (range(*each) for each in ends)
    if not (b or m or t):
        return
    old, new, other = base[b.start : b.stop], mine[m.start : m.stop], theirs[t.start : t.stop]
    if new == other:
        case = Case.AGREED if new else Case.BOTH_REMOVED
    elif old == new:
        case = Case.THEY_CHANGED if b and t else Case.THEY_ADDED if t else Case.THEY_REMOVED
    elif old == other:
        case = Case.I_CHANGED if b and m else Case.I_ADDED if m else Case.I_REMOVED
    elif not b:
        case = Case.BOTH_ADDED
    else:
        case = (
            Case.REMOVED_AND_CHANGED
            if not m
            else Case.CHANGED_AND_REMOVED
            if not t
            else Case.BOTH_CHANGED
        )
    found.append(Region(case, b, m, t))

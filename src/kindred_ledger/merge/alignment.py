"""Aligning two sequences: which elements of one stand, in the same order, in the other.

What begins and ends alike is matched first; then elements that stand once in each are lined up by the
longest run of them that is in order (patience, Cohen 2003); what lies between such is aligned by the longest
common block (Ratcliff and Obershelp 1988, as in `difflib`). Any result is a common subsequence.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Hashable, Iterable, Sequence
from difflib import SequenceMatcher
from itertools import chain, count
from typing import Any

__all__ = ["aligned", "blocks", "rising", "runs_that_stand_once"]

_PIECE = 256  # elements that are compared at once
_MOST = 25_000_000  # pairs of elements that are compared: a few seconds
_LARGE = 1000  # elements that are lined up by columns

Block = tuple[int, int, int]  # where it starts in each, and how many elements


def aligned(one: Sequence[Hashable], other: Sequence[Hashable]) -> list[tuple[int, int]]:
    """Return pairs of indexes of equal elements, rising in both.

    >>> aligned("abcd", "xbd")
    [(1, 1), (3, 2)]
    """
    return [(at + n, there + n) for at, there, size in blocks(one, other) for n in range(size)]


def blocks(one: Sequence[Hashable], other: Sequence[Hashable]) -> list[Block]:
    """Return the blocks of equal elements of two sequences, rising in both, as long as they can be.

    >>> blocks("abcd", "abxcd")
    [(0, 0, 2), (2, 3, 2)]
    """
    found: list[Block] = []
    waiting = [(0, len(one), 0, len(other))]
    while waiting:
        start, stop, begin, end = waiting.pop()
        size = _alike(one, start, stop, other, begin, end)
        found.append((start, begin, size))
        start, begin = start + size, begin + size
        last = stop
        while start < stop and begin < end and one[stop - 1] == other[end - 1]:
            stop, end = stop - 1, end - 1
        found.append((stop, end, last - stop))
        if start == stop or begin == end:
            continue
        anchors = _anchors(one, start, stop, other, begin, end)
        if not anchors:
            if (stop - start) * (end - begin) > _MOST:
                continue  # too much that stands there often: what lies between counts as changed
            matcher = SequenceMatcher(None, one[start:stop], other[begin:end], autojunk=False)
            found += (
                (start + at, begin + there, size)
                for at, there, size in matcher.get_matching_blocks()
            )
            continue
        for at, there, size in anchors:
            if at > start or there > begin:
                waiting.append((start, at, begin, there))
            found.append((at, there, size))
            start, begin = at + size, there + size
        waiting.append((start, stop, begin, end))
    return _joined(sorted(block for block in found if block[2]))


def _joined(found: Iterable[Block]) -> list[Block]:
    """Return blocks of which none goes on where another ends."""
    out: list[Block] = []
    for at, there, size in found:
        if out:
            before = out[-1]
            if before[0] + before[2] == at and before[1] + before[2] == there:
                out[-1] = before[0], before[1], before[2] + size
                continue
        out.append((at, there, size))
    return out


def _alike(
    one: Sequence[Hashable], start: int, stop: int, other: Sequence[Hashable], begin: int, end: int
) -> int:
    """Return how many elements are the same from two places on."""
    most, size = min(stop - start, end - begin), 0
    while (
        size + _PIECE <= most
        and one[start + size : start + size + _PIECE] == other[begin + size : begin + size + _PIECE]
    ):
        size += _PIECE
    while size < most and one[start + size] == other[begin + size]:
        size += 1
    return size


def _anchors(
    one: Sequence[Hashable],
    start: int,
    stop: int,
    other: Sequence[Hashable],
    begin: int,
    end: int,
) -> list[Block]:
    """Return the longest rising run of elements that stand once in each part."""
    parts = one[start:stop], other[begin:end]
    if min(map(len, parts)) >= _LARGE:
        runs = runs_that_stand_once(parts)
        return [(start + at, begin + there, size) for at, there, size in runs]
    here, there = Counter(parts[0]), Counter(parts[1])
    places = {other[at]: at for at in range(begin, end) if there[other[at]] == 1}
    pairs = [
        (at, places[one[at]])
        for at in range(start, stop)
        if here[one[at]] == 1 and one[at] in places
    ]
    kept = (pairs[number] for number in rising([place for _, place in pairs]))
    return _joined((at, place, 1) for at, place in kept)


def runs_that_stand_once(sides: Sequence[Sequence[Hashable]]) -> list[tuple[int, ...]]:
    """Return runs of elements that stand once on each side, and together, rising on all: starts, and size."""
    import numpy as np

    ids = dict(zip(chain(*sides), count(), strict=False))  # a number each, not every one is taken
    coded = [np.fromiter(map(ids.__getitem__, side), np.int64, len(side)) for side in sides]
    total = sum(map(len, sides))
    once = np.ones(total, bool)
    places = []
    for codes in coded:
        once &= np.bincount(codes, minlength=total) == 1
        place = np.zeros(total, np.int64)
        place[codes] = np.arange(len(codes))
        places.append(place)
    anchors = coded[0][once[coded[0]]]  # in the order of the first
    where = [place[anchors] for place in places]
    for number in range(1, len(where)):
        if not _rises(where[number]):
            kept = np.array(rising(where[number].tolist()))
            where = [each[kept] for each in where]
    return _runs(where)


def _rises(places: Any) -> bool:
    return bool((places[1:] > places[:-1]).all())


def _runs(where: Sequence[Any]) -> list[tuple[int, ...]]:
    """Return where places on all sides follow one another: starts, and size."""
    import numpy as np

    if not len(where[0]):
        return []
    apart = np.zeros(len(where[0]) - 1, bool)
    for side in where:
        apart |= np.diff(side) != 1
    starts = np.concatenate(([0], np.flatnonzero(apart) + 1))
    sizes = np.diff(np.concatenate((starts, [len(where[0])])))
    rows = np.stack([*(side[starts] for side in where), sizes], axis=1)
    return [tuple(row) for row in rows.tolist()]


def rising(places: Sequence[int]) -> Sequence[int]:
    """Return the indexes of the longest rising run of some places.

    >>> rising([0, 5, 1, 2])
    [0, 2, 3]
    """
    if list(places) == sorted(places):
        return range(len(places))
    ends: list[int] = []  # the least place a run of each length ends at
    last: list[int] = []  # the index each of these ends with
    before: list[int] = []  # of each place, the one before it in its run
    for number, place in enumerate(places):
        length = bisect_left(ends, place)
        before.append(last[length - 1] if length else -1)
        ends[length : length + 1] = [place]
        last[length : length + 1] = [number]
    run = []
    number = last[-1] if last else -1
    while number >= 0:
        run.append(number)
        number = before[number]
    return run[::-1]

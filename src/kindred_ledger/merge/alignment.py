"""Aligning two sequences: which elements of one stand, in the same order, in the other.

What begins and ends alike is matched first; then elements that stand once in each are lined up by the
longest run of them that is in order (patience, Cohen 2003); what lies between such is aligned by the longest
common block (Ratcliff and Obershelp 1988, as in `difflib`). Any result is a common subsequence.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Hashable, Sequence
from difflib import SequenceMatcher

__all__ = ["aligned", "rising"]

_PIECE = 256  # elements that are compared at once
_MOST = 25_000_000  # pairs of elements that are compared: a few seconds


def aligned(one: Sequence[Hashable], other: Sequence[Hashable]) -> list[tuple[int, int]]:
    """Return pairs of indexes of equal elements, rising in both.

    >>> aligned("abcd", "xbd")
    [(1, 1), (3, 2)]
    """
    pairs: list[tuple[int, int]] = []
    waiting = [(0, len(one), 0, len(other))]
    while waiting:
        start, stop, begin, end = waiting.pop()
        size = _alike(one, start, stop, other, begin, end)
        pairs += zip(range(start, start + size), range(begin, begin + size), strict=True)
        start, begin = start + size, begin + size
        while start < stop and begin < end and one[stop - 1] == other[end - 1]:
            stop, end = stop - 1, end - 1
            pairs.append((stop, end))
        if start == stop or begin == end:
            continue
        anchors = _anchors(one, start, stop, other, begin, end)
        if not anchors:
            if (stop - start) * (end - begin) > _MOST:
                continue  # too much that stands there often: what lies between counts as changed
            matcher = SequenceMatcher(None, one[start:stop], other[begin:end], autojunk=False)
            for at, there, size in matcher.get_matching_blocks():
                pairs += ((start + at + n, begin + there + n) for n in range(size))
            continue
        for at, there in anchors:
            if at > start or there > begin:
                waiting.append((start, at, begin, there))
            pairs.append((at, there))
            start, begin = at + 1, there + 1
        waiting.append((start, stop, begin, end))
    return sorted(pairs)


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
) -> list[tuple[int, int]]:
    """Return the longest rising run of elements that stand once in each part."""
    here, there = Counter(one[start:stop]), Counter(other[begin:end])
    places = {other[at]: at for at in range(begin, end) if there[other[at]] == 1}
    pairs = [
        (at, places[one[at]])
        for at in range(start, stop)
        if here[one[at]] == 1 and one[at] in places
    ]
    return [pairs[number] for number in rising([place for _, place in pairs])]


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

"""Following lengths: where rows begin that each tell how far away the next one is.

A chain of lengths can only be followed row by row, but chains that begin anywhere soon fall together.
So thousands of them are followed side by side, one from the begin of each stretch of the file, and
the true one is walked only until it meets the one that was followed in its stretch.
"""

from __future__ import annotations

from array import array
from collections.abc import Iterator
from typing import Any

__all__ = ["follow"]

_FEW = 10_000  # rows that are walked before arrays are worth it; they tell how long the others are
_ROWS = 2048  # in a stretch: many against what is walked until chains meet, few to follow


def follow(lengths: Any, first: int, fixed: int, count: int) -> Any:
    """Return the places of `count` lengths and the place after them: `(count + 1,)` int64.

    `lengths` (n,) unsigned has what would be a length at every place; the next one is `fixed` and that much
    on. The result is shorter if the chain leaves `lengths` before.
    """
    import numpy as np

    size = len(lengths)
    walked, at = _walk(lengths, first, fixed, min(count, _FEW), size)
    if len(walked) <= count and at < size:
        left = count - _FEW
        likely = at + (at - first) // _FEW * left * 9 // 8
        out = [walked[:-1], *_rest(lengths, at, fixed, left, min(size, likely))]
        return np.concatenate([np.frombuffer(part, np.int64) for part in out])[: count + 1]
    return np.frombuffer(walked, np.int64)


def _rest(lengths: Any, at: int, fixed: int, count: int, end: int) -> Iterator[Any]:
    """Yield the places of at least so many lengths, in parts; those up to `end` side by side."""
    import numpy as np

    stretches = max(count // _ROWS, 1)
    ends = np.linspace(at, end, stretches + 1, dtype=np.int64)
    paths, after = _side_by_side(lengths, ends[:-1], ends[1:], fixed)
    met = np.zeros(end, np.bool_)
    met[paths] = True
    marks = met.data
    paths.sort()
    cuts = np.searchsorted(paths, ends)
    for stretch, stop in enumerate(ends[1:].tolist()):
        if count <= 0 or at >= stop:
            continue
        walked, at = _walk(lengths, at, fixed, count, stop, marks)
        yield walked[:-1]
        count -= len(walked) - 1
        if count and at < stop:  # it has met the chain of its stretch
            met_there = paths[np.searchsorted(paths, at) : cuts[stretch + 1]]
            yield met_there
            count -= len(met_there)
            at = int(after[stretch])
    walked, at = _walk(lengths, at, fixed, count, len(lengths))
    yield walked


def _side_by_side(numbers: Any, at: Any, ends: Any, fixed: int) -> tuple[Any, Any]:
    """Follow a chain from each place to the end of its stretch; return all places, and what is next."""
    import numpy as np

    after = at.copy()
    which = np.arange(len(at))
    out = []
    while len(which):
        out.append(at)
        at = at + numbers[at] + fixed
        inside = at < ends[which]
        if not inside.all():
            after[which[~inside]] = at[~inside]
            which, at = which[inside], at[inside]
    return np.concatenate(out), after


def _walk(
    lengths: Any, at: int, fixed: int, count: int, end: int, marks: Any = None
) -> tuple[array[int], int]:
    """Go from length to length until `end`, or until a place that is marked."""
    places = array("q")
    put, numbers = places.append, lengths.data
    for _ in range(count):
        if at >= end or (marks is not None and marks[at]):
            break
        put(at)
        at += fixed + numbers[at]
    put(at)
    return places, at

"""Tallies: how often each number stands in an array."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

__all__ = ["DENSE", "PIECE", "tally_of"]

PIECE = 16_384  # numbers at a time: three arrays of them fit into the cache of a core
DENSE = 1 << 20  # numbers that a table has a row for


def tally_of(numbers: npt.NDArray[Any], weights: npt.NDArray[Any] | None = None) -> dict[int, int]:
    """Return how often each number is there, or the sum of its weights: `(n,)` of whole numbers each.

    >>> tally_of(np.array([3, 4, 3], np.uint16))
    {3: 2, 4: 1}
    """
    if not len(numbers):
        return {}
    if weights is not None or (numbers.dtype.itemsize > 2 and int(numbers.max()) >= DENSE):
        values, codes = np.unique(numbers, return_inverse=True)
        sums = np.zeros(len(values), np.int64)
        np.add.at(sums, codes, 1 if weights is None else weights)
        return dict(zip(values.tolist(), sums.tolist(), strict=True))
    if numbers.dtype.itemsize <= 2:
        counts = _counted(numbers)
    else:
        counts = np.bincount(numbers)
    there = np.flatnonzero(counts)
    return dict(zip(there.tolist(), counts[there].tolist(), strict=True))


def _counted(numbers: npt.NDArray[Any]) -> npt.NDArray[np.int64]:
    """Count numbers of one or two bytes, in pieces that fit into the cache."""
    most = int(numbers.max()) + 1
    counts = np.zeros(most, np.int64)
    scratch = np.empty(min(PIECE, len(numbers)), np.intp)
    for at in range(0, len(numbers), PIECE):
        piece = numbers[at : at + PIECE]
        wide = scratch[: len(piece)]
        np.copyto(wide, piece)
        found = np.bincount(wide)
        counts[: len(found)] += found
    return counts

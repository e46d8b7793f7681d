"""Suspects: the numbers whose content a new list does not have, found in large arrays by few passes."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from .reconcile import Reconciled

__all__ = ["Suspects"]

_FEW_RUNS = 8  # of numbers; each costs two passes over the array
_PIECE = 1 << 17  # cells looked at at a time: they stay in the cache


class Suspects(Struct, frozen=True, eq=False):
    """The runs of numbers, both ends included, that a world loses or that its list does not know.

    >>> Suspects(((3, 4), (9, None))).cells(np.array([1, 3, 9, 2], np.uint16)).tolist()
    [1, 2]
    """

    runs: tuple[tuple[int, int | None], ...]

    @classmethod
    def of(cls, found: Reconciled, none: list[int]) -> Suspects:
        """Return what vanishes between two lists; `none` are numbers that mean no content."""
        kept = {row.old for row in found.by_name.values() if row.new is not None} | set(none)
        runs: list[tuple[int, int | None]] = []
        last = -1
        for number in sorted(number for number in kept if number is not None):
            if number > last + 1:
                runs.append((last + 1, number - 1))
            last = number
        return cls((*runs, (last + 1, None)))

    def is_suspect(self, number: int) -> bool:
        """Tell whether one number is of them."""
        return any(low <= number and (high is None or number <= high) for low, high in self.runs)

    def cells(self, numbers: npt.NDArray[Any]) -> npt.NDArray[np.intp]:
        """Return which cells hold such numbers: `(n_found,)` indexes, in order."""
        if len(self.runs) > _FEW_RUNS:
            return self._by_table(numbers)
        found = []
        first = self.runs[0][0]
        for at in range(0, len(numbers), _PIECE):
            piece = numbers[at : at + _PIECE]
            if (
                int(piece.max()) < first
            ):  # one pass instead of two, where only high numbers are wanted
                continue
            mask = self._mask(piece)
            if mask is not None and mask.any():
                found.append(np.flatnonzero(mask) + at)
        return np.concatenate(found) if found else np.zeros(0, np.intp)

    def _mask(self, piece: npt.NDArray[Any]) -> npt.NDArray[np.bool_] | None:
        mask: npt.NDArray[np.bool_] | None = None
        most = int(np.iinfo(piece.dtype).max)
        for low, high in self.runs:
            if low > most:
                continue
            if high is None or high >= most:
                part = piece >= piece.dtype.type(low)
            elif low == high:
                part = piece == piece.dtype.type(low)
            elif piece.dtype.kind == "u":  # below `low` it wraps round to large numbers
                part = (piece - piece.dtype.type(low)) <= piece.dtype.type(high - low)
            else:
                part = (piece >= low) & (piece <= high)
            mask = part if mask is None else np.logical_or(mask, part, out=mask)
        return mask

    def _by_table(self, numbers: npt.NDArray[Any]) -> npt.NDArray[np.intp]:
        begins = np.array([low for low, _ in self.runs], np.int64)
        far = np.iinfo(np.int64).max
        ends = np.array([far if high is None else high for _, high in self.runs], np.int64)
        if numbers.dtype.itemsize <= 2 and numbers.dtype.kind == "u":
            every = np.arange(int(np.iinfo(numbers.dtype).max) + 1)
            at = np.searchsorted(begins, every, "right") - 1
            table = (at >= 0) & (every <= ends[at])
            return np.flatnonzero(table[numbers])
        at = np.searchsorted(begins, numbers, "right") - 1
        return np.flatnonzero((at >= 0) & (numbers <= ends[at]))

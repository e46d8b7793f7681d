"""Translation: the numbers of one list as those of another, for whole arrays at once."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from ..cards.world_models import IdListTable
from ..errors import FormatError
from .choices import REMOVE, Fate
from .reconcile import Reconciled

__all__ = ["Translation", "tally_of", "unknown_name"]

_PIECE = 16_384  # numbers translated at a time: three arrays of them fit into the cache of a core
_DENSE = 1 << 20  # numbers that a table has a row for


def unknown_name(number: int) -> str:
    """Return what content is called whose number the list does not have.

    >>> unknown_name(417)
    '#417'
    """
    return f"#{number}"


def tally_of(numbers: npt.NDArray[Any], weights: npt.NDArray[Any] | None = None) -> dict[int, int]:
    """Return how often each number is there, or the sum of its weights: `(n,)` of whole numbers each.

    >>> tally_of(np.array([3, 4, 3], np.uint16))
    {3: 2, 4: 1}
    """
    if not len(numbers):
        return {}
    if weights is not None or (numbers.dtype.itemsize > 2 and int(numbers.max()) >= _DENSE):
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
    scratch = np.empty(min(_PIECE, len(numbers)), np.intp)
    for at in range(0, len(numbers), _PIECE):
        piece = numbers[at : at + _PIECE]
        wide = scratch[: len(piece)]
        np.copyto(wide, piece)
        found = np.bincount(wide)
        counts[: len(found)] += found
    return counts


class Translation(Struct, frozen=True, dict=True):
    """What each number of an old list is in the new one.

    `fates` say what becomes of content that the new list does not have, by name, also of numbers without a
    name (`#417`); `none` are numbers that mean nothing in either.
    """

    found: Reconciled
    table: IdListTable
    fates: Mapping[str, Fate]

    @cached_property
    def numbers(self) -> dict[int, int]:
        """The new number of each old one; -1 where nothing takes its place."""
        out = {number: number for number in self.table.none}
        for row in self.found.by_name.values():
            assert row.old is not None
            if row.new is not None:
                out[row.old] = row.new
            else:
                out[row.old] = self._of_fate(self.fates[row.name])
        for name, fate in self.fates.items():
            if name.startswith("#") and name not in self.found.by_name:
                out[int(name[1:])] = self._of_fate(fate)
        return out

    @staticmethod
    def _of_fate(fate: Fate) -> int:
        return -1 if fate.number is None else fate.number

    @cached_property
    def removed(self) -> frozenset[int]:
        """The old numbers whose rows go, where they stand in rows."""
        old = self.found.old.numbers
        return frozenset(
            old[name] if name in old else int(name[1:])
            for name, fate in self.fates.items()
            if fate.how == REMOVE
        )

    @cached_property
    def _table(self) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
        """The old numbers in order, and their new ones."""
        old = np.array(sorted(self.numbers), np.int64)
        return old, np.array([self.numbers[n] for n in old.tolist()], np.int64)

    @cached_property
    def _dense(self) -> npt.NDArray[np.int64]:
        old, new = self._table
        out = np.full(int(old[-1]) + 1, -2, np.int64)
        out[old] = new
        return out

    def keeps(self, tally: Mapping[int, int]) -> bool:
        """Tell whether numbers stay as they are, all of them."""
        return all(self.numbers.get(number) == number for number in tally)

    def check(self, tally: Mapping[int, int], widest: int | None, where: str) -> None:
        """Raise `FormatError` if a number has no place in the new list, or does not fit there."""
        for number in tally:
            if number not in self.numbers:
                raise FormatError(f"number {number} is not in the id list", where=where)
            if widest is not None and self.numbers[number] > widest:
                name = self.found.new.names.get(self.numbers[number], "")
                raise FormatError(
                    f"{name} has the number {self.numbers[number]:,} now, and numbers up to {widest:,} fit"
                    " there",
                    where=where,
                    remedy="These files have no room for the new list. Leave out mods until it fits.",
                )

    def apply(self, numbers: npt.NDArray[Any], tally: Mapping[int, int]) -> npt.NDArray[Any]:
        """Return new numbers: `(n,)`, of the type the old ones have; all must be in the list.

        Numbers whose content is removed, and for which nothing stands, keep what they were: their rows go.
        """
        if int(max(tally, default=0)) >= _DENSE:
            old, new = self._table
            out = new[np.searchsorted(old, numbers.astype(np.int64))]
            return np.where(out < 0, numbers, out).astype(numbers.dtype)
        table = self._dense[: int(max(tally, default=0)) + 1]
        table = np.where(table < 0, np.arange(len(table)), table).astype(numbers.dtype)
        out = np.empty(len(numbers), numbers.dtype)
        scratch = np.empty(min(_PIECE, len(numbers)), np.intp)
        for at in range(0, len(numbers), _PIECE):
            piece = numbers[at : at + _PIECE]
            wide = scratch[: len(piece)]
            np.copyto(wide, piece)
            table.take(wide, out=out[at : at + len(piece)], mode="wrap")
        return out

    def rows_kept(self, numbers: npt.NDArray[Any]) -> npt.NDArray[np.bool_]:
        """Return which rows stay: `(n,) bool`."""
        return ~np.isin(numbers, np.array(sorted(self.removed), np.int64))

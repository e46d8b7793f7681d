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
from .tallies import DENSE, PIECE

__all__ = ["Translation", "unknown_name"]


def unknown_name(number: int) -> str:
    """Return what content is called whose number the list does not have.

    >>> unknown_name(417)
    '#417'
    """
    return f"#{number}"


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
        """The new number of each one below `DENSE`, by position; its own where nothing takes its place."""
        old, new = self._table
        small = old < DENSE
        old, new = old[small], new[small]
        out = np.arange(int(old[-1]) + 1 if len(old) else 0, dtype=np.int64)
        out[old] = np.where(new < 0, old, new)
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
        if int(max(tally, default=0)) >= DENSE:
            old, new = self._table
            out = new[np.searchsorted(old, numbers.astype(np.int64))]
            return np.where(out < 0, numbers, out).astype(numbers.dtype)
        table = self._dense[: int(max(tally, default=0)) + 1].astype(numbers.dtype)
        out = np.empty(len(numbers), numbers.dtype)
        scratch = np.empty(min(PIECE, len(numbers)), np.intp)
        for at in range(0, len(numbers), PIECE):
            piece = numbers[at : at + PIECE]
            wide = scratch[: len(piece)]
            np.copyto(wide, piece)
            table.take(wide, out=out[at : at + len(piece)], mode="wrap")
        return out

    def rows_kept(self, numbers: npt.NDArray[Any]) -> npt.NDArray[np.bool_]:
        """Return which rows stay: `(n,) bool`."""
        return ~np.isin(numbers, np.array(sorted(self.removed), np.int64))

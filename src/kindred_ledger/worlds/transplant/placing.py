"""Placing: positions of things in surroundings that changed: the nearest place that holds each.

What always holds: a thing that has a good place keeps it; the nearest is by straight distance, the first
one by rows if several are as near; of things that stand alone no two share a cell, those of the new game
included.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from ...cards.transplant_models import TerrainTable
from ...errors import FormatError
from ...formats import Document, as_tabular, parse_path
from .thing_table import Truths, WholeNumbers

__all__ = ["Placed", "Terrain", "place_things", "read_terrain"]

_FAR = 1 << 30  # a column that is not there; its square is still a number
_CELLS_AT_ONCE = 1 << 20


class Terrain(Struct, frozen=True):
    """What is where: `cells` `(high, wide)`; cell `[z, x]` begins at `x0 + x * cell`, `z0 + z * cell`."""

    cells: npt.NDArray[np.int64]
    cell: int
    x0: int
    z0: int

    def cell_of(self, x: Any, z: Any) -> tuple[WholeNumbers, WholeNumbers]:
        """Return in which cells positions are: `(n,)` columns and rows, which may lie outside."""
        columns = np.floor_divide(x - self.x0, self.cell).astype(np.int64)
        rows = np.floor_divide(z - self.z0, self.cell).astype(np.int64)
        return columns, rows

    def holds(self, on: list[int]) -> npt.NDArray[np.bool_]:
        """Return which cells are of one of these values, or all if none are given."""
        return np.isin(self.cells, on) if on else np.ones(self.cells.shape, np.bool_)


class Placed(Struct, frozen=True):
    """Where things are now: `(n,)` each; `moved` got another place, `lost` are those without one."""

    x: Any
    z: Any
    moved: Truths
    lost: Truths


def read_terrain(document: Document, table: TerrainTable) -> Terrain:
    """Read what is where in a save.

    Raises:
        FormatError: it is no list of whole numbers in rows of the width.
    """
    path = parse_path(table.at)
    tabular = as_tabular(document)
    columns = tabular.open_columns(path) if tabular is not None and document.find(path) else None
    if columns is not None and "value" in columns.cells:
        numbers = np.asarray(columns.read("value"))
    else:
        numbers = np.array(document.get(path) if document.find(path) else [])
    wide = document.get(parse_path(table.width)) if isinstance(table.width, str) else table.width
    if numbers.ndim != 1 or numbers.dtype.kind not in "iu" or not len(numbers):
        raise FormatError("the terrain is no list of whole numbers", where=table.at)
    if type(wide) is not int or wide < 1 or len(numbers) % wide:
        raise FormatError(
            f"the terrain has {len(numbers):,} cells, which is no whole number of rows of {wide}",
            where=table.at,
        )
    return Terrain(numbers.astype(np.int64).reshape(-1, wide), table.cell, table.x, table.z)


def place_things(
    terrain: Terrain,
    x: Any,
    z: Any,
    *,
    on: list[int],
    within: int = 0,
    alone: bool = False,
    taken: tuple[Any, Any] | None = None,
) -> Placed:
    """Give things the nearest places that hold them: cells `on` these values, `within` so many cells.

    `x`, `z` are `(n,)`, and so is what is returned. `alone`: one thing a cell; `taken` are positions that are
    occupied already.
    """
    x, z = (each.astype(np.int64) if each.dtype.kind in "iu" else each for each in (x, z))
    free = terrain.holds(on)
    if alone and taken is not None and len(taken[0]):
        columns, rows = terrain.cell_of(*taken)
        inside = _inside(terrain, columns, rows)
        free[rows[inside], columns[inside]] = False
    columns, rows = terrain.cell_of(x, z)
    new_columns, new_rows = columns.copy(), rows.copy()
    there = _inside(terrain, columns, rows)
    good = np.zeros(len(columns), np.bool_)
    good[there] = free[rows[there], columns[there]]
    if alone:
        flat = rows * terrain.cells.shape[1] + columns
        first = np.zeros(len(columns), np.bool_)
        first[np.unique(np.where(good, flat, -1), return_index=True)[1]] = True
        good &= first
        free[rows[good], columns[good]] = False
    waiting = np.flatnonzero(~good)
    if len(waiting):
        search = _Nearest(free)
        waiting = search.settle(new_columns, new_rows, waiting, within=within, alone=alone)
    lost = np.zeros(len(columns), np.bool_)
    lost[waiting] = True
    moved = ~good & ~lost
    shift = [(new - old) * terrain.cell for new, old in ((new_columns, columns), (new_rows, rows))]
    return Placed(np.where(moved, x + shift[0], x), np.where(moved, z + shift[1], z), moved, lost)


def _inside(terrain: Terrain, columns: WholeNumbers, rows: WholeNumbers) -> Truths:
    high, wide = terrain.cells.shape
    inside: Truths = (columns >= 0) & (columns < wide) & (rows >= 0) & (rows < high)
    return inside


class _Nearest:
    """Finds the nearest free cell: along each row by what is left and right of a column, then over all rows.

    Exact, as in the second pass of a distance transform: Felzenszwalb and Huttenlocher, "Distance Transforms
    of Sampled Functions" (2012), section 2.1.
    """

    def __init__(self, free: npt.NDArray[np.bool_]) -> None:
        self.free = free
        self.left = np.empty(free.shape, np.int64)
        self.right = np.empty(free.shape, np.int64)
        self._look(np.arange(len(free)))

    def _look(self, rows: npt.NDArray[np.intp]) -> None:
        """Note for each cell of some rows the nearest free columns to its left and right."""
        free = self.free[rows]
        columns = np.arange(free.shape[1])
        self.left[rows] = np.maximum.accumulate(np.where(free, columns, -_FAR), 1)
        right = np.where(free, columns, _FAR)[:, ::-1]
        self.right[rows] = np.minimum.accumulate(right, 1)[:, ::-1]

    def _find(self, x: WholeNumbers, z: WholeNumbers) -> tuple[WholeNumbers, ...]:
        """Return the nearest free cell of each position, and its distance squared: `(n,)` each."""
        high, wide = self.free.shape
        found_x, found_z, distance = (np.zeros(len(x), np.int64) for _ in range(3))
        rows = np.arange(high)
        piece = max(1, _CELLS_AT_ONCE // high)
        for begin in range(0, len(x), piece):
            part = slice(begin, begin + piece)
            at, px = np.clip(x[part], 0, wide - 1), x[part][:, None]
            left, right = self.left.T[at], self.right.T[at]
            columns = np.where(px - left <= right - px, left, right)
            away = (columns - px) ** 2 + (rows - z[part][:, None]) ** 2
            best = away.argmin(1)
            each = np.arange(len(at))
            found_x[part], found_z[part] = columns[each, best], best
            distance[part] = away[each, best]
        return found_x, found_z, distance

    def settle(
        self,
        columns: WholeNumbers,
        rows: WholeNumbers,
        waiting: npt.NDArray[np.intp],
        *,
        within: int,
        alone: bool,
    ) -> npt.NDArray[np.intp]:
        """Put things into the nearest free cells; return those for which there is none."""
        lost: list[npt.NDArray[np.intp]] = []
        far = within * within if within else _FAR
        while len(waiting):
            x, z, distance = self._find(columns[waiting], rows[waiting])
            none = distance > far
            lost.append(waiting[none])
            now = ~none
            if alone:
                cells = np.where(none, -1, z * self.free.shape[1] + x)
                first = np.zeros(len(waiting), np.bool_)
                first[np.unique(cells, return_index=True)[1]] = True
                now &= first
                self.free[z[now], x[now]] = False
                self._look(np.unique(z[now]))
            columns[waiting[now]], rows[waiting[now]] = x[now], z[now]
            waiting = waiting[~none & ~now]
        return np.sort(np.concatenate(lost)) if lost else waiting

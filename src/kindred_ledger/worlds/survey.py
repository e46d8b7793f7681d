"""A survey of one file: which of its ids another list does not have, where they are, and whose.

What always holds: what is found of a file depends on the file, the lists and the player's own places alone,
so that files may be looked at in any order, by anybody.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np
from blake3 import blake3
from msgspec import Struct

from ..cards import Card
from ..cards.worlds import WorldKind
from .cells import Cells, Numbers, TextIds
from .file_ids import FileIds, positions_of, positions_used, weights_of
from .opened import DamagedFile, opened_file
from .suspects import Suspects
from .work import FileCall

__all__ = ["EXAMPLES", "FileSurvey", "Found", "Look"]

EXAMPLES = 5  # places named of each content
_NEAREST = tuple[float, tuple[int, int]]


class Found(Struct):
    """What a file has of one content that vanishes.

    `where` are the first places in the file, `shown` a digest of all of them, `nearest` the distance to the
    nearest own thing of the player, and where it is.
    """

    cells: int = 0
    amount: int = 0
    by_kind: dict[str, int] = {}
    owners: dict[str, int] = {}
    nearest: _NEAREST | None = None
    where: list[str] = []
    shown: bytes = b""

    def count(self, kind: str, cells: int, amount: int, told: bytes) -> None:
        """Count some more, and take into the digest where they are."""
        self.cells += cells
        self.amount += amount
        self.by_kind[kind] = self.by_kind.get(kind, 0) + amount
        self.shown = blake3(self.shown + told).digest()


class FileSurvey(Struct, frozen=True):
    """What was found in a file, by list and number; `damaged` says why it cannot be read.

    `fields` are those of the card that are of the file, and whether it has a place for their ids.
    """

    path: str
    damaged: str
    found: Mapping[tuple[str, int], Found]
    fields: Mapping[int, bool] = {}


class Look(FileCall, frozen=True):
    """Looks at one file; it goes to other processes, so it is a value.

    `numbers` are the lists in force, `own` where the player's own things are: `(n, 2)` in tiles.
    """

    suspects: dict[str, Suspects]
    numbers: dict[str, dict[str, int]]
    own: Any

    def here(self, card: Card, kind: WorldKind, path: str, data: bytes) -> FileSurvey | None:
        """Return what is found in a file; None if the card names no ids in it."""
        ids = opened_file(path, data, kind, card)
        if ids is None:
            return None
        if isinstance(ids, DamagedFile):
            return FileSurvey(path, ids.why, {})
        found: dict[tuple[str, int], Found] = {}
        for cells in ids.cells:
            at = self.suspects[cells.field.list].cells(cells.numbers)
            if len(at):
                self._cells(found, ids, cells, at)
        for text in ids.texts:
            for n, number in self._in_text(text):
                each = found.setdefault((text.field.list, number), Found())
                each.count(text.field.table.kind, 1, 1, str(text.spans[n]).encode())
                if len(each.where) < EXAMPLES:
                    each.where.append(text.line_of(n))
        return FileSurvey(path, "", found, ids.fields)

    def _in_text(self, text: TextIds) -> Iterator[tuple[int, int]]:
        numbers, suspects = self.numbers[text.field.list], self.suspects[text.field.list]
        for n, value in enumerate(text.values):
            number = numbers.get(value) if text.by_name else int(value)
            if number is not None and suspects.is_suspect(number):
                yield n, number

    def _cells(
        self, found: dict[tuple[str, int], Found], ids: FileIds, cells: Cells, at: Numbers
    ) -> None:
        weights, owners = weights_of(cells), cells.beside(cells.field.table.owner)
        places, tiles = positions_of(ids, cells), positions_used(ids, cells)
        numbers = cells.numbers[at]
        for number in np.unique(numbers).tolist():
            each = found.setdefault((cells.field.list, int(number)), Found())
            some = at[numbers == number]
            amount = len(some) if weights is None else int(weights[some].sum())
            told = f"{cells.path} {amount} ".encode() + some.astype(np.int64).tobytes()
            each.count(cells.field.table.kind, len(some), amount, told)
            room = EXAMPLES - len(each.where)
            each.where += [cells.name_of(one) for one in some[: max(room, 0)].tolist()]
            for one in some.tolist() if owners is not None else ():
                owner = str(owners[one] or "") if owners is not None else ""
                if owner:
                    many = 1 if weights is None else int(weights[one])
                    each.owners[owner] = each.owners.get(owner, 0) + many
            if places is not None:
                each.nearest = self._nearest(each.nearest, places.x[some], places.z[some])
            if tiles is not None and cells.used_at is not None:
                used = np.isin(cells.used_at, some)
                each.nearest = self._nearest(each.nearest, tiles.x[used], tiles.z[used])

    def _nearest(self, known: _NEAREST | None, x: Numbers, z: Numbers) -> _NEAREST | None:
        """Return how near to an own thing the nearest of some tiles is; or `known`, if that is nearer."""
        if not len(self.own) or not len(x):
            return known
        low, high = (x.min(), z.min()), (x.max(), z.max())
        outside = [
            np.maximum(np.maximum(low[n] - self.own[:, n], self.own[:, n] - high[n]), 0)
            for n in (0, 1)
        ]
        least = np.hypot(*outside)
        for n in np.argsort(least, kind="stable").tolist():
            if known is not None and least[n] > known[0]:
                break
            far = np.hypot(x - self.own[n, 0], z - self.own[n, 1])
            best = int(far.argmin())
            one = float(far[best]), (int(x[best]), int(z[best]))
            known = one if known is None else min(known, one)
        return known

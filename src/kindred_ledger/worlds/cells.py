"""Cells: the places in a file where ids stand, as arrays, whatever the file is.

What always holds: cells come in the order of the file, so that the same file gives the same cells; where
nothing was put anew the file stays as it was, to the byte.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import numpy as np
import numpy.typing as npt
from msgspec import Struct
from msgspec.structs import replace

from ..cards.worlds import Field, compile_line
from ..errors import FormatError
from ..formats import ANY, Document, Path, as_tabular, format_path, parse_path
from .tallies import tally_of

__all__ = ["Cells", "Numbers", "TextIds", "cells_in"]

Numbers = npt.NDArray[Any]  # (n_cells,) of whole numbers
_VALUE = "value"  # what the column of a table of single numbers is called
_LEAST_ROWS = 64  # of a table in text that is taken by columns


class Cells(Struct, eq=False):
    """The ids of one table or list of a file, and what stands beside them.

    `numbers` is `(n_cells,)`, a view of the file where it can be; `path` that of the table. `used` is how
    often each entry of a palette is used; None where cells are no palette.
    """

    document: Any
    field: Field
    path: Path
    numbers: Numbers
    columns: Any = None
    rows: tuple[Path, ...] = ()  # of the ids, where they are not taken by columns
    used: Numbers | None = None
    used_at: Numbers | None = None  # (n_tiles,) which entry of the palette each tile is
    _tally: dict[int, int] | None = None

    @property
    def widest(self) -> int | None:
        """The highest number that the file has room for; None if it has room for any."""
        kind = self.numbers.dtype
        return int(np.iinfo(kind).max) if self.columns is not None and kind.kind in "iu" else None

    @property
    def tally(self) -> dict[int, int]:
        """How often each number is there; counted once, before anything is put."""
        if self._tally is None:
            self._tally = tally_of(self.numbers)
        return self._tally

    def __len__(self) -> int:
        return len(self.numbers)

    def beside(self, key: str) -> list[Any] | Numbers | None:
        """Return what stands under a key beside each id; None if there is nothing.

        A key that is a whole path (`stores[*].owner`) leads further out; one that is not beside the ids is
        looked for at the top of the file.
        """
        if not key:
            return None
        at = parse_path(key)
        if ANY in at:
            return self._for_all(self._outer(at))
        if self.columns is not None:
            name = str(at[0])
            return self._column(name) if name in self.columns.cells else self._for_all(at)
        found = [self.document.find((*row[:-1], *at)) for row in self.rows]
        if not any(found):
            return self._for_all(at)
        return [self.document.get(each[0]) if each else None for each in found]

    def _for_all(self, at: Path) -> list[Any] | None:
        found = self.document.find(at)
        return [self.document.get(found[0])] * len(self) if found else None

    def _column(self, name: str) -> Any:
        values = self.columns.read(name)
        return values.array() if hasattr(values, "array") else values

    def _outer(self, at: Path) -> Path:
        """Return a path further out, with the indexes that this table stands under."""
        return tuple(
            self.path[n] if part == ANY and n < len(self.path) else part
            for n, part in enumerate(at)
        )

    def whole_numbers(self, key: str, *, usual: int = 1) -> Numbers:
        """Return the whole numbers beside each id: `(n_cells,) int64`; `usual` where there are none."""
        values = self.beside(key)
        if values is None:
            return np.full(len(self), usual, np.int64)
        try:
            return np.array([usual if v is None else int(v) for v in values], np.int64)
        except (TypeError, ValueError) as error:
            raise FormatError(
                f"{key} is no whole number everywhere", where=format_path(self.path)
            ) from error

    def name_of(self, at: int) -> str:
        """Return the path of one id as people write it."""
        if self.columns is not None:
            name = str(self.field.at[-1])
            return format_path((*self.path, at) if name == ANY else (*self.path, at, name))
        return format_path(self.rows[at])

    def put(self, new: Numbers) -> None:
        """Put other numbers in their place: `(n_cells,)`.

        Raises:
            FormatError: a number does not fit there.
        """
        if self.columns is not None:
            self.columns.write(self.column, new)
            return
        for row, old, number in zip(self.rows, self.numbers.tolist(), new.tolist(), strict=True):
            if old != number:
                as_text = isinstance(self.document.get(row), str)
                self.document.set(row, str(number) if as_text else number)

    def drop_rows(self, keep: npt.NDArray[np.bool_]) -> None:
        """Have the rows go of which `keep` is false."""
        if self.columns is not None:
            self.columns.take(np.flatnonzero(keep))
            return
        for at in np.flatnonzero(~keep)[::-1].tolist():
            self.document.remove(self.row_path(at))

    def row_path(self, at: int) -> Path:
        """Return the path of the row that an id stands in, where rows are not taken by columns."""
        row = self.rows[at]
        return row if self.field.at[-1] == ANY else row[:-1]

    @property
    def column(self) -> str:
        """What the column of the ids is called."""
        return _VALUE if self.field.at[-1] == ANY else str(self.field.at[-1])


def cells_in(document: Document, field: Field, *, inside: bool = False) -> Iterator[Cells]:
    """Yield the ids that a document holds in a field, table by table.

    `inside` says that ids of other fields stand inside the rows of these tables: then they are taken row by
    row, so that what goes with a row can be told.

    Raises:
        FormatError: what stands there is no whole number.
    """
    at = field.at
    within, in_rows = (at[:-1], True) if at[-1] == ANY else (at[:-2], at[-2:-1] == (ANY,))
    if not in_rows:
        paths = tuple(document.find(at))
        if paths:
            yield _listed(document, field, at, paths)
        return
    tabular = as_tabular(document)
    name = _VALUE if at[-1] == ANY else str(at[-1])
    least = 0 if getattr(document, "layout", None) is not None else _LEAST_ROWS
    for path in document.find(within) if ANY in within or within else [()]:
        columns = None
        if tabular is not None and not inside:
            columns = tabular.open_columns(path, least)
        if columns is not None and name in columns.cells:
            numbers = columns.read(name)
            if getattr(numbers, "dtype", None) is None or numbers.dtype.kind not in "iu":
                raise FormatError("ids are whole numbers", where=format_path((*path, ANY, name)))
            if numbers.dtype.kind == "i" and len(numbers) and int(numbers.min()) < 0:
                where = format_path((*path, int(numbers.argmin())))
                raise FormatError(f"{int(numbers.min())} is no id: it is below 0", where=where)
            found = Cells(document, field, path, numbers, columns)
        else:
            rows = tuple(document.find((*path, *at[len(within) :])))
            if not rows:
                continue
            found = _listed(document, field, path, rows)
        if field.table.used_by:
            _count_uses(found)
        yield found


def _listed(document: Document, field: Field, path: Path, rows: tuple[Path, ...]) -> Cells:
    numbers = []
    for row in rows:
        value = document.get(row)
        text = str(value)
        if isinstance(value, bool) or not re.fullmatch(r"\d{1,18}", text):
            raise FormatError(f"{text[:40]!r} is no id", where=format_path(row))
        numbers.append(int(text))
    return Cells(document, field, path, np.array(numbers, np.int64), rows=rows)


def _count_uses(cells: Cells) -> None:
    """Find out how often each entry of a palette is used, and by which tiles."""
    table = replace(cells.field.table, used_by="")
    at = cells._outer(parse_path(cells.field.table.used_by))
    tiles = [
        each.numbers for each in cells_in(cells.document, replace(cells.field, table=table, at=at))
    ]
    used_at = np.concatenate(tiles) if tiles else np.zeros(0, np.int64)
    if len(used_at) and int(used_at.max()) >= len(cells):
        raise FormatError(
            f"a tile counts entry {int(used_at.max())} of a palette of {len(cells)}",
            where=format_path(cells.path),
        )
    cells.used_at = used_at
    cells.used = np.bincount(used_at, minlength=len(cells)).astype(np.int64)


class TextIds(Struct, eq=False):
    """The ids, or names, that stand in a text, such as a script; `spans` are theirs, `(begin, end)`."""

    data: bytes
    field: Field
    values: list[str]
    spans: list[tuple[int, int]]

    @classmethod
    def of(cls, data: bytes, field: Field) -> TextIds:
        """Find them in a text, as the pattern of a field says."""
        group = "number" if "{number}" in field.table.pattern else "name"
        found = list(compile_line(field.table.pattern).finditer(data))
        values = [match[group].decode("utf-8", "surrogateescape") for match in found]
        return cls(data, field, values, [match.span(group) for match in found])

    @property
    def by_name(self) -> bool:
        """Whether names stand there, not numbers."""
        return "{name}" in self.field.table.pattern

    def line_of(self, at: int) -> str:
        """Return which line one of them stands in."""
        return f"line {self.data.count(10, 0, self.spans[at][0]) + 1}"

    def put(self, new: list[str]) -> bytes:
        """Return the text with others in their place."""
        out, last = [], 0
        for (begin, end), value in zip(self.spans, new, strict=True):
            out += [self.data[last:begin], value.encode("utf-8", "surrogateescape")]
            last = end
        out.append(self.data[last:])
        return b"".join(out)

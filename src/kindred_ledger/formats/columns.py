"""Columns: the rows of a table taken by columns, so that a step costs the same for one row and a million.

What always holds: every column knows the name it was read under, and every row which row it was, so
that what became of each value can be told afterwards.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator
from decimal import Decimal
from typing import Any, Protocol, cast

from msgspec import Struct

from ..errors import FormatError
from .document import Document, Leaf, Path

__all__ = ["Columns", "Tabular", "Words", "as_tabular", "runs_together", "words_of"]


class Words(Struct, eq=False):
    """A column of texts: row `i` holds `texts[codes[i]]`; a text may stand in `texts` twice."""

    codes: Any  # (n_rows,) intp
    texts: list[str]

    def __len__(self) -> int:
        return len(self.codes)

    def array(self) -> Any:
        """Return the texts as an array of objects: `(n_rows,)`."""
        import numpy as np

        return np.array(self.texts, object)[self.codes]


def words_of(texts: list[Any]) -> Words:
    """Return a column of these texts.

    >>> words_of(["reed", "peat", "reed"]).texts
    ['reed', 'peat']
    """
    import numpy as np

    numbers: dict[str, int] = {}
    codes = [numbers.setdefault(text, len(numbers)) for text in texts]
    return Words(np.array(codes, np.intp), list(numbers))


class Columns:
    """The columns of one table while they are edited.

    `cells` maps names to columns as the file has them (`stored`), or as they were put here: NumPy
    arrays of numbers or truth, or `Words`. `load` turns what is stored into one of those.
    """

    def __init__(self, cells: dict[str, Any], count: int, load: Callable[[str, Any], Any]) -> None:
        self.count = count
        self.cells = cells
        self.origins: dict[str, str | None] = {name: name for name in cells}
        self.notes: dict[str, str] = {}
        self.rows: Any = None  # (count,) which row each was; None: all are where they were
        self.touched = False
        self.is_open = True  # until the document goes on row by row: then nothing put here counts
        self.version = 0  # of the format, that they were read in
        self.kinds: dict[
            str, Any
        ] = {}  # what each column is in the file, by the name it was read under
        self.whole: Any = None  # (count,) structured, where the rows as read lie in one array
        self._load = load
        self._stored = dict.fromkeys(cells, True)

    def _touch(self) -> None:
        if not self.is_open:
            raise RuntimeError("the table was looked at row by row since its columns were opened")
        self.touched = True

    def kind(self, name: str) -> Any:
        """Return what a column is in the file; None if it was put here."""
        return self.kinds.get(self.origins[name] or "") if self._stored[name] else None

    def is_stored(self, name: str) -> bool:
        """Tell whether a column is as the file has it."""
        return self._stored[name]

    def read(self, name: str) -> Any:
        """Return a column: numbers or truth `(count,)`, or `Words`.

        Raises:
            FormatError: what it holds is not read by columns.
        """
        if name not in self.cells:
            raise FormatError(f"the table has no column {name!r}")
        if not self._stored[name]:
            return self.cells[name]
        return self._load(self.origins[name] or name, self.cells[name])

    def write(self, name: str, values: Any, *, note: str = "") -> None:
        """Put values into a column, a single one into all its rows; a new column comes last."""
        self._touch()
        self.cells[name] = self.filled(values)
        self._stored[name] = False
        if name not in self.origins:
            self.origins[name] = None
            self.notes[name] = note

    def rename(self, name: str, to: str) -> None:
        """Give a column another name, in its place."""
        self._touch()
        for part in (self.cells, self.origins, self._stored, self.notes):
            kept = [(to if key == name else key, value) for key, value in part.items()]
            part.clear()
            part.update(kept)  # type: ignore[arg-type]

    def remove(self, name: str) -> None:
        """Take a column out."""
        self._touch()
        del self.cells[name], self.origins[name], self._stored[name]
        self.notes.pop(name, None)

    def take(self, order: Any) -> None:
        """Keep these rows, in this order: `(n,)` row numbers."""
        import numpy as np

        self._touch()
        rows = np.arange(self.count) if self.rows is None else self.rows
        self.rows = rows[order]
        self.count = len(order)
        for name, column in self.cells.items():
            self.cells[name] = (
                Words(column.codes[order], column.texts)
                if isinstance(column, Words)
                else column[order]
            )

    def filled(self, values: Any) -> Any:
        """Return values as a column, single ones repeated in all its rows."""
        import numpy as np

        if hasattr(values, "__len__") and not isinstance(values, (str, list, dict)):
            return values
        if isinstance(values, str):
            return Words(np.zeros(self.count, np.intp), [values])
        if not isinstance(values, (bool, int, float, Decimal)):
            raise FormatError(f"{values!r} is no value of a column")
        if isinstance(values, (bool, int)):
            narrow = -1 << 63 <= values < 1 << 63
            form: Any = np.bool_ if isinstance(values, bool) else np.int64 if narrow else np.object_
            return np.broadcast_to(np.array(values, form), (self.count,))
        return np.broadcast_to(np.array(float(values)), (self.count,))


class Run(Struct, frozen=True):
    """Fields that lie one behind the other in the rows of two arrays: names, offsets, bytes."""

    names: tuple[str, ...]
    offsets: tuple[int, int]
    size: int

    def of(self, rows: Any, side: int) -> Any:
        """Return the bytes of the run in each row of the first or the second array: `(n_rows,)`."""
        import numpy as np

        form: Any = {
            "names": ["run"],
            "formats": [f"V{self.size}"],
            "offsets": [self.offsets[side]],
        }
        form["itemsize"] = rows.dtype.itemsize
        return rows.view(np.dtype(form))["run"]


def runs_together(one: Any, other: Any, names: Iterable[str]) -> list[Run]:
    """Return the longest runs of fields with these names that are alike in two types of rows."""
    runs: list[Run] = []
    for name in names:
        if name not in other.fields or one.fields[name][0] != other.fields[name][0]:
            continue
        (form, at), (_, there) = one.fields[name][:2], other.fields[name][:2]
        last = runs[-1] if runs else None
        if last and (at, there) == tuple(begin + last.size for begin in last.offsets):
            runs[-1] = Run((*last.names, name), last.offsets, last.size + form.itemsize)
        else:
            runs.append(Run((name,), (at, there), form.itemsize))
    return runs


class Tabular(Document, Protocol):
    """A document whose large tables are edited by columns."""

    def leaves(self, at: Path = (), *, without: Container[Path] = ()) -> Iterator[Leaf]:
        """Yield every leaf at or below a path, but not at or below those `without`."""
        ...

    def column_tables(self, least: int) -> list[Path]:
        """Return the tables of at least so many rows that are taken by columns, in order."""
        ...

    def open_columns(self, path: Path) -> Columns | None:
        """Return the columns of a table, to be edited; None if it has to be edited row by row."""
        ...

    def close_columns(self, path: Path) -> None:
        """Go on with a table row by row."""
        ...

    def origin_of(self, path: Path) -> Path | None:
        """Return the path that what stands at a path was read under, None if it was added."""
        ...


def as_tabular(document: Document) -> Tabular | None:
    """Return a document as one that has tables, None if its kind has none."""
    return cast(Tabular, document) if hasattr(document, "open_columns") else None

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

__all__ = [
    "Columns",
    "Tabular",
    "Values",
    "Words",
    "as_tabular",
    "distinct",
    "joined",
    "runs_together",
    "single_kind",
    "taken",
    "words_of",
]


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


class Values(Struct, eq=False):
    """A column of single values of any kind: row `i` holds `values[codes[i]]`."""

    codes: Any  # (n_rows,) intp
    values: list[Any]

    def __len__(self) -> int:
        return len(self.codes)


def single_kind(values: list[Any]) -> Any:
    """Return values as an array of truth or of whole numbers, or as `Words`; None if they are neither.

    >>> single_kind([3, 4]).dtype.kind, single_kind([3, None]) is None
    ('i', True)
    """
    import numpy as np

    kinds = set(map(type, values))
    if kinds == {str}:
        return words_of(values)
    if kinds == {bool}:
        return np.array(values, np.bool_)
    if kinds != {int}:
        return None
    narrow = min(values) >= -1 << 63 and max(values) < 1 << 63
    return np.array(values, np.int64 if narrow else object)


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

    exact = False  # whether every value is to become what it would one by one: no float64

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
        self.only_here: frozenset[str] = (
            frozenset()
        )  # what these hold means something in this file only
        self.extended = False
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

    def is_readable(self, name: str) -> bool:
        """Tell whether a column holds single values that are read."""
        try:
            self.read(name)
        except FormatError:
            return False
        return True

    def is_nested(self, name: str) -> bool:
        """Tell whether the values of a column are lists or mappings."""
        return False

    def names_in(self, name: str) -> dict[Path, int]:
        """Return how many leaves a column has, by what follows its name."""
        return {(): self.count}

    def comparable(self, name: str) -> Any:
        """Return a column as it is compared with what it was."""
        return self.read(name)

    def distinct(self, name: str) -> Values:
        """Return the values of a column, each distinct one once."""
        return distinct(self.read(name))

    def write(self, name: str, values: Any, *, note: str = "", where: Any = None) -> None:
        """Put values into a column, a single one into all its rows; a new column comes last.

        Where `where` `(n_rows,) bool` is false, a column keeps what it has.
        """
        self._touch()
        new = self.filled(values)
        self.cells[name] = new if where is None else _picked(where, new, self.read(name))
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
            self.cells[name] = taken(column, order)

    def extend(self, other: Columns, order: Any) -> None:
        """Add rows of another table of the same columns behind: `(n,)` row numbers of that.

        From then on the table is written by columns only; to look at it row by row, write it and read again.

        Raises:
            FormatError: the other table has other columns.
        """
        import numpy as np

        if self.cells.keys() != other.cells.keys():
            differing = sorted(self.cells.keys() ^ other.cells.keys())
            raise FormatError(f"only one of two tables has the column {differing[0]!r}")
        self._touch()
        rows = np.arange(self.count) if self.rows is None else self.rows
        for name in self.cells:
            stored = self._stored[name] and other._stored[name] and name not in self.only_here
            if stored and self.kind(name) == other.kind(name):
                pair = self.cells[name], other.cells[name][order]
            else:
                pair = self.read(name), taken(other.read(name), order)
                self._stored[name] = False
            self.cells[name] = joined(*pair)
        self.rows = np.concatenate((rows, np.full(len(order), -1, rows.dtype)))
        self.count += len(order)
        self.extended = True

    def close(self) -> None:
        """Let nobody edit it any more: the document goes on row by row.

        Raises:
            FormatError: rows were added by columns.
        """
        if self.extended:
            raise FormatError("rows were added by columns: write the file and read it again first")
        self.is_open = False

    def filled(self, values: Any) -> Any:
        """Return values as a column, single ones repeated in all its rows.

        Raises:
            FormatError: a value is of a kind that no column holds.
        """
        import numpy as np

        if isinstance(values, Values):
            return _as_column(values)
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


def taken(column: Any, order: Any) -> Any:
    """Return rows of a column, in an order: `(n,)` row numbers.

    >>> taken(words_of(["reed", "peat"]), [1]).array().tolist()
    ['peat']
    """
    return Words(column.codes[order], column.texts) if isinstance(column, Words) else column[order]


def joined(one: Any, other: Any) -> Any:
    """Return the rows of two columns of one kind, one behind the other.

    >>> joined(words_of(["reed"]), words_of(["peat"])).array().tolist()
    ['reed', 'peat']

    Raises:
        FormatError: they are of two kinds.
    """
    import numpy as np

    if isinstance(one, Words) and isinstance(other, Words):
        return Words(
            np.concatenate((one.codes, other.codes + len(one.texts))), [*one.texts, *other.texts]
        )
    if hasattr(one, "joined") and type(one) is type(other):
        return one.joined(other)
    kinds = [getattr(getattr(each, "dtype", None), "kind", "") for each in (one, other)]
    numbers = set(kinds) <= set("iuf")
    if "" in kinds or not (numbers or kinds[0] == kinds[1]):
        raise FormatError("both values must be of one kind")
    if numbers and {*kinds} == {"i", "u"} and len(one) and len(other):
        if max(int(one.max()), int(other.max())) >= 1 << 63:  # together they would become floats
            raise FormatError("a number is too large to stand beside one below 0")
        return np.concatenate((one.astype(np.int64), other.astype(np.int64)))
    return np.concatenate((one, other))


def _picked(where: Any, new: Any, old: Any) -> Any:
    """Return the rows of one column where it is to be so, of the other elsewhere."""
    import numpy as np

    if isinstance(new, Words) and isinstance(old, Words):
        codes = np.where(where, new.codes, old.codes + len(new.texts))
        return Words(codes, [*new.texts, *old.texts])
    kinds = [each.dtype.kind == "b" if hasattr(each, "dtype") else None for each in (new, old)]
    if None in kinds or kinds[0] != kinds[1]:
        raise FormatError("both values must be of one kind")
    return np.where(where, new, old)


def _as_column(values: Values) -> Any:
    """Return single values as an array, or as `Words`."""
    import numpy as np

    found = single_kind(values.values)
    if isinstance(found, Words):
        return Words(found.codes[values.codes], found.texts)
    if found is None:
        if any(isinstance(v, bool) or not isinstance(v, (int, Decimal)) for v in values.values):
            raise FormatError("a column has values of one kind")
        found = np.array([float(value) for value in values.values])
    return found[values.codes]


def distinct(column: Any) -> Values:
    """Return a column by its distinct values; of `Words` a text may stand twice among them."""
    import numpy as np

    if isinstance(column, Values):
        return column
    if isinstance(column, Words):
        return Values(column.codes, list(column.texts))
    values, codes = np.unique(column, return_inverse=True)
    return Values(codes, [Decimal(repr(v)) if isinstance(v, float) else v for v in values.tolist()])


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
    """A document whose large tables are edited by columns.

    `keeps_order` is False where the order of fields is the format's own, whatever it is here.
    """

    keeps_order: bool

    def leaves(self, at: Path | str = (), *, without: Container[Path] = ()) -> Iterator[Leaf]:
        """Yield every leaf at or below a path, but not at or below those `without`."""
        ...

    def column_tables(self, least: int, at: Path = ()) -> list[Path]:
        """Return the tables at or below a path that are taken by columns, of at least so many rows."""
        ...

    def open_columns(self, path: Path, least: int = 0) -> Columns | None:
        """Return the columns of a table, to be edited; None if it has to be edited row by row.

        A table of fewer than `least` rows, that nobody edited by columns, has to be.
        """
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

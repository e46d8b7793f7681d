"""Large tables of binary files, merged without the rows about which nothing has to be decided.

As in `shortened`, by columns: the rows of the table lie in the file one behind the other, all of one size,
and are compared as they lie. Rows that both sides changed, with their neighbours, are merged as any file is;
the result gets the other rows back, in the order of theirs, as whoever changed them has them.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol, cast

from msgspec import Struct

from ..errors import FormatError
from ..formats import Document, Path, format_path
from .keys import Keys
from .outcome import Three
from .settled import Settled
from .sides import Case

__all__ = ["ShortenedRows", "shortened_rows"]

_LEAST_BYTES = 1 << 18
_LEAST_ROWS = 2000
_PIECE = 1 << 18  # bytes that are compared at once


class _Tabled(Protocol):
    """A document with tables of rows of one size; see `LayoutDocument`."""

    def column_tables(self, least: int, at: Path = ()) -> list[Path]: ...

    def table(self, path: Path) -> Any: ...

    def set_table(self, path: Path, rows: Any) -> None: ...

    def get(self, path: Path) -> Any: ...

    def is_computed(self, path: Path) -> bool: ...

    def encode(self) -> bytes: ...

    def encode_with(self, path: Path, rows: Any) -> bytes: ...


class ShortenedRows(Struct):
    """Three files with few rows of their largest table, and the whole tables: `(n_rows,)` structured.

    `kept` are the numbers of the rows that were left in; `mine`, `theirs` and `agreed` of those that were
    not, and that one side changed, or both alike: `(n,)` each, rising.
    """

    three: Three
    path: Path
    rows: tuple[Any, Any, Any]
    kept: Any
    mine: Any
    theirs: Any
    agreed: Any
    codec: str = "layout"

    @property
    def fields(self) -> int:
        """How many fields there are in what was left out."""
        theirs = self.rows[2]
        return (len(theirs) - len(self.kept)) * len(theirs.dtype.names)

    def is_from(self, name: str) -> bool:
        """Tell whether records may have been left out of the list of a name."""
        return name == format_path(self.path)

    def names(self, field: str, kept: set[Any]) -> bool:
        """Tell whether a field names all rows of each side."""
        import numpy as np

        if field not in self.rows[0].dtype.names:
            return False
        columns = [np.ascontiguousarray(side[field]) for side in self.rows]
        known = [columns[2]]  # of sides that have the very same, one is looked at
        for column in columns[:2]:
            if column.tobytes() != columns[2].tobytes():
                known.append(column)
        return all(_is_unique(np, column) for column in known)

    @property
    def has_settled(self) -> bool:
        """Whether some side changed a row that was left out."""
        return any(map(len, (self.mine, self.theirs, self.agreed)))

    def settled(self, name: str, field: str) -> Settled | None:
        """Return what was changed in what was left out, by the field that names the rows.

        None where somebody changed that field itself: these are other rows.
        """
        found = Settled(name, field)
        for case, rows in (
            (Case.I_CHANGED, self.mine),
            (Case.THEY_CHANGED, self.theirs),
            (Case.AGREED, self.agreed),
        ):
            if not len(rows):
                continue
            base, mine, theirs = (side[rows] for side in self.rows)
            changed, result = (theirs, theirs) if case is Case.THEY_CHANGED else (mine, mine)
            if (base[field] != changed[field]).any():
                return None
            for column in base.dtype.names:
                at = (base[column] != changed[column]).nonzero()[0]
                cells = (each[at].tolist() for each in (base[field], mine[column], result[column]))
                for key, before, after in zip(*cells, strict=True):
                    found.note({field: key}, column, case, before, after)
        return found

    def restored(self, data: bytes, decode: Callable[[bytes], Document]) -> bytes | None:
        """Return a merged file with all its rows; None if the rows are not those of theirs any more."""
        document = cast(_Tabled, decode(data))
        merged, theirs = document.table(self.path), self.rows[2]
        if merged.dtype != theirs.dtype or len(merged) != len(self.kept):
            return None
        whole = theirs.copy()
        whole[self.kept] = merged
        whole[self.mine] = self.rows[1][self.mine]
        return document.encode_with(self.path, whole)

    def told(
        self, merged: bytes, decode: Callable[[bytes], Document]
    ) -> tuple[bytes, bytes, bytes, bytes]:
        """Return the three files and a merged one with the rows that some side changed, and few others."""
        import numpy as np

        wanted = np.sort(np.concatenate((self.kept, self.mine, self.theirs, self.agreed)))
        result = self.rows[2].copy()
        document = cast(_Tabled, decode(merged))
        result[self.kept] = document.table(self.path)
        result[self.mine] = self.rows[1][self.mine]
        out = []
        for data, rows in zip((*self.three, merged), (*self.rows, result), strict=True):
            document = cast(_Tabled, decode(data or b""))
            document.set_table(self.path, rows[wanted])
            out.append(document.encode())
        return out[0], out[1], out[2], out[3]


def _is_unique(np: Any, column: Any) -> bool:
    if column.dtype.kind not in "iuSU":
        return False
    if column.dtype.kind in "iu" and bool((column[1:] > column[:-1]).all()):
        return True
    return len(np.unique(column)) == len(column)


def shortened_rows(
    three: Three, decode: Callable[[bytes], Document] | None, keys: Keys | None = None
) -> ShortenedRows | None:
    """Return three files without the rows that need no merging; None if not worth it, or not sure.

    Only where every side has as many rows: where some came or went, the file is merged whole. Without `keys`
    only rows that are the same on all sides are left out.
    """
    base, mine, theirs = three
    if decode is None or base is None or min(len(base), len(mine), len(theirs)) < _LEAST_BYTES:
        return None
    documents = [decode(data) for data in (base, mine, theirs)]
    if not hasattr(documents[0], "set_table"):
        return None
    tables = cast("list[_Tabled]", documents)
    found = [document.column_tables(_LEAST_ROWS) for document in tables]
    if not all(len(paths) == 1 and paths == found[0] for paths in found):
        return None
    path = found[0][0]
    try:
        rows = [document.table(path) for document in tables]
    except FormatError:
        return None  # rows of several sizes
    kinds, sizes = {side.dtype for side in rows}, {len(side) for side in rows}
    kind = rows[0].dtype
    names = kind.names or ()
    gaps = not names or kind.itemsize != sum(kind[name].itemsize for name in names)
    if len(kinds) > 1 or len(sizes) > 1 or gaps or any(kind[name].shape for name in names):
        return None
    kept, settled = _differing(
        rows, keys if keys is not None and _is_plain(tables[2], path) else None
    )
    if len(kept) > len(rows[0]) // 2:
        return None
    small = []
    for document, side in zip(tables, rows, strict=True):
        document.set_table(path, side[kept].copy())
        small.append(document.encode())
    whole = rows[0], rows[1], rows[2]
    return ShortenedRows(Three(small[0], small[1], small[2]), path, whole, kept, *settled)


def _is_plain(document: _Tabled, path: Path) -> bool:
    """Tell whether the rows of a table are the whole numbers that lie in it, and nothing else."""
    rows = document.table(path)
    if any(rows.dtype[name].kind not in "iu" for name in rows.dtype.names):
        return False
    inner = [(*path, 0, name) for name in rows.dtype.names]
    if any(map(document.is_computed, inner)):
        return False
    return all(
        document.get((*path, at)) == dict(zip(rows.dtype.names, rows[at].item(), strict=True))
        for at in (0, len(rows) - 1)
    )


def _differing(rows: list[Any], keys: Keys | None) -> tuple[Any, tuple[Any, Any, Any]]:
    """Return the numbers of rows that have to be merged, with a neighbour at either end, and of others.

    The others are rows that I alone changed, they alone, and both alike; none without `keys`.
    """
    import numpy as np

    count = len(rows[0])
    by_me, by_them = (_changed(rows[0], side) for side in rows[1:])
    differs = by_me | by_them
    settled = np.zeros(count, bool)
    if keys is not None:
        at = differs.nonzero()[0]
        base, mine, theirs = (side[at] for side in rows)
        both = by_me[at] & by_them[at]
        unsure = both & (mine != theirs)
        for name in base.dtype.names:
            if keys.may_name(name):
                unsure |= (base[name] != mine[name]) | (base[name] != theirs[name])
        settled[at[~unsure]] = True
    near = differs & ~settled
    left = near.copy()
    near[1:] |= left[:-1]
    near[:-1] |= left[1:]
    near[:2] = True  # more than one, so that it is a list
    settled &= ~near
    return np.flatnonzero(near), (
        np.flatnonzero(settled & by_me & ~by_them),
        np.flatnonzero(settled & by_them & ~by_me),
        np.flatnonzero(settled & by_me & by_them),
    )


def _changed(one: Any, other: Any) -> Any:
    """Return which rows of two tables differ in some byte: `(n_rows,) bool`."""
    import numpy as np

    count, size = len(one), one.dtype.itemsize
    wide = next(width for width in (8, 4, 2, 1) if size % width == 0)
    cells = [np.frombuffer(np.ascontiguousarray(side), f"<u{wide}") for side in (one, other)]
    step = max(_PIECE // size, 1) * (size // wide)  # whole rows that stay in the cache
    differs = np.zeros(count, bool)
    for start in range(0, count * size // wide, step):
        found = (cells[0][start : start + step] != cells[1][start : start + step]).nonzero()[0]
        if len(found):
            differs[(start + found) // (size // wide)] = True
    return differs

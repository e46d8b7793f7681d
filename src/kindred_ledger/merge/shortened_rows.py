"""Large tables of binary files, merged without the rows that are the same on all sides.

As in `shortened`, by columns: the rows of the table lie in the file one behind the other, all of one size,
and are compared as they lie. What differs, with its neighbours, is merged as any file is; the result gets the
other rows back, in the order of theirs.
"""

from __future__ import annotations

from collections.abc import Callable, Set
from typing import Any, Protocol, cast

from msgspec import Struct

from ..errors import FormatError
from ..formats import Document, Path, format_path
from .outcome import Three

__all__ = ["ShortenedRows", "shortened_rows"]

_LEAST_BYTES = 1 << 18
_LEAST_ROWS = 2000


class _Tabled(Protocol):
    """A document with tables of rows of one size; see `LayoutDocument`."""

    def column_tables(self, least: int, at: Path = ()) -> list[Path]: ...

    def table(self, path: Path) -> Any: ...

    def set_table(self, path: Path, rows: Any) -> None: ...

    def encode(self) -> bytes: ...


class ShortenedRows(Struct):
    """Three files with few rows of their largest table, and the whole tables: `(n_rows,)` structured."""

    three: Three
    path: Path
    rows: tuple[Any, Any, Any]
    kept: Any  # `(n_kept,)` numbers of rows, of each side
    decode: Callable[[bytes], Document]
    codec: str = "layout"

    @property
    def fields(self) -> int:
        """How many fields there are in what was left out."""
        theirs = self.rows[2]
        return (len(theirs) - len(self.kept)) * len(theirs.dtype.names)

    def is_from(self, name: str) -> bool:
        """Tell whether records may have been left out of the list of a name."""
        return name == format_path(self.path)

    def names(self, field: str, kept: Set[Any]) -> bool:
        """Tell whether a field names all rows of each side."""
        import numpy as np

        return all(field in side.dtype.names and _is_unique(np, side[field]) for side in self.rows)

    def restored(self, data: bytes) -> bytes | None:
        """Return a merged file with all its rows; None if the rows are not those of theirs any more."""
        document = cast(_Tabled, self.decode(data))
        merged, theirs = document.table(self.path), self.rows[2]
        if merged.dtype != theirs.dtype or len(merged) != len(self.kept):
            return None
        whole = theirs.copy()
        whole[self.kept] = merged
        document.set_table(self.path, whole)
        return document.encode()


def _is_unique(np: Any, column: Any) -> bool:
    if column.dtype.kind not in "iuSU":
        return False
    if column.dtype.kind in "iu" and bool((column[1:] > column[:-1]).all()):
        return True
    return len(np.unique(column)) == len(column)


def shortened_rows(
    three: Three, decode: Callable[[bytes], Document] | None
) -> ShortenedRows | None:
    """Return three files without the rows that are the same in all; None if not worth it, or not sure.

    Only where every side has as many rows: where some came or went, the file is merged whole.
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
    kept = _differing(rows)
    if len(kept) > len(rows[0]) // 2:
        return None
    small = []
    for document, side in zip(tables, rows, strict=True):
        document.set_table(path, side[kept].copy())
        small.append(document.encode())
    whole = rows[0], rows[1], rows[2]
    return ShortenedRows(Three(small[0], small[1], small[2]), path, whole, kept, decode)


def _differing(rows: list[Any]) -> Any:
    """Return the numbers of rows that differ on some side, with a neighbour at either end."""
    import numpy as np

    count, size = len(rows[0]), rows[0].dtype.itemsize
    wide = next(width for width in (8, 4, 2, 1) if size % width == 0)
    cells = [
        np.frombuffer(np.ascontiguousarray(side), f"<u{wide}").reshape(count, size // wide)
        for side in rows
    ]
    differs = np.zeros(count, bool)
    for start in range(0, count, 65536):  # in pieces that stay in the cache
        part = slice(start, start + 65536)
        base, mine, theirs = (side[part] for side in cells)
        differs[part] = ((base != mine) | (base != theirs)).any(axis=1)
    near = differs.copy()
    near[1:] |= differs[:-1]
    near[:-1] |= differs[1:]
    near[:2] = True  # more than one, so that it is a list
    return np.flatnonzero(near)

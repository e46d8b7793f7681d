"""Large tables: which are taken by columns, and how many values of a column differ."""

from __future__ import annotations

from typing import Any

from .columns import Columns, Words, as_tabular, runs_together
from .document import Document, Path

__all__ = [
    "COLUMN_THRESHOLD",
    "column_tables",
    "differ",
    "differing",
    "same_column",
    "same_together",
]

COLUMN_THRESHOLD = 1000  # rows; smaller tables are accounted for field by field


def column_tables(document: Document, least: int, at: Path = ()) -> dict[Path, Path]:
    """Return the tables at or below a path that are taken by columns, and where each was read."""
    tabular = as_tabular(document)
    if tabular is None:
        return {}
    found = {path: tabular.origin_of(path) for path in tabular.column_tables(least, at)}
    return {path: origin for path, origin in found.items() if origin is not None}


def same_column(meant: Columns, found: Columns, name: str) -> bool:
    """Tell whether a column reads back as it was meant."""
    if name not in found.cells or meant.count != found.count:
        return False
    return not differ(*_comparable(meant, name, found, name)).any()


def same_together(source: Columns, meant: Columns, found: Columns) -> set[str]:
    """Return the columns nobody touched that came back as they were read, compared side by side.

    Columns that lie together in both files are compared as one; where they differ, none of them
    is returned, and each must be looked at.
    """
    if meant.rows is not None or source.whole is None or found.whole is None:
        return set()
    if not source.count == meant.count == found.count:
        return set()
    names = [
        name
        for name in meant.cells
        if meant.is_stored(name)
        and meant.origins[name] == name
        and name in found.cells
        and meant.kind(name) == found.kind(name)
    ]
    same: set[str] = set()
    for run in runs_together(source.whole.dtype, found.whole.dtype, names):
        if bool((run.of(source.whole, 0) == run.of(found.whole, 1)).all()):
            same.update(run.names)
    return same


def is_single(columns: Columns, name: str) -> bool:
    """Tell whether no two rows have the same value in a column."""
    import numpy as np

    found = columns.distinct(name)
    used = np.unique(found.codes)
    single = {found.values[code] for code in used.tolist()} if len(used) == columns.count else ()
    return len(single) == columns.count


def differing(
    source: Columns, name: str, rows: Any, result: Columns, became: str, *, in_place: bool = True
) -> int:
    """Return how many values of a column differ from those it was read with, row by row.

    `in_place`: a row that stands at another number than it did is another.
    """
    before, after = _comparable(source, name, result, became)
    if rows is not None:
        before = (
            Words(before.codes[rows], before.texts) if isinstance(before, Words) else before[rows]
        )
    return _count(differ(before, after), rows if in_place else None)


def _count(differing: Any, rows: Any) -> int:
    """Count rows that differ, or that stand in another place."""
    import numpy as np

    return int((differing if rows is None else differing | (rows != np.arange(len(rows)))).sum())


def _comparable(one: Columns, name: str, other: Columns, became: str) -> tuple[Any, Any]:
    """Return two columns as they lie in their files if they are of one kind, else their values."""
    kind, cells = one.kind(name), one.cells[name]
    form = getattr(getattr(cells, "dtype", None), "kind", "")
    as_stored = kind is None and (hasattr(cells, "differ") or form in ("S", "V"))  # put as bytes
    if as_stored or (kind is not None and kind == other.kind(became)):
        return cells, other.cells[became]
    return one.read(name), other.read(became)


def differ(one: Any, other: Any) -> Any:
    """Return where two columns of as many rows differ: `(n_rows,) bool`."""
    import numpy as np

    if isinstance(one, Words) and isinstance(other, Words):
        return one.array() != other.array()
    if hasattr(one, "differ"):
        return one.differ(other)
    forms = one.dtype, other.dtype
    if any(form.kind == "f" for form in forms):
        # A float is written in the width of its field: it is the same if it is so in the narrower.
        narrow = min((form for form in forms if form.kind == "f"), key=lambda form: form.itemsize)
        one, other = one.astype(narrow), other.astype(narrow)
        return (one != other) & ~((one != one) & (other != other))
    if {form.kind for form in forms} == {"i", "u"} and 8 in {form.itemsize for form in forms}:
        return (one != other) | ((one < 0) != (other < 0))
    return np.asarray(one != other)

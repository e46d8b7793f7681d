"""Parts at offsets that a table tells, found by its columns: read only when somebody looks at them.

They are found so where each ends can be told by columns too, so that the whole directory holds; else they are
read one by one, which also says what is wrong with it.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ..tree import LIST
from .item import Field, Item, Reading
from .many import Many, Unmeasured
from .numbers import Integer

__all__ = ["PlacedRows", "find_parts"]

_FARTHEST = 1 << 40  # bytes

_Columns = dict[str, tuple[Any, Any]]  # of a table, by name: kind, and stored values


class PlacedRows(Struct):
    """Where the parts of a directory lie in `buffer`; `context` is what reading one of them takes."""

    count: int
    body: int  # where their region begins
    begins: Any  # (count,) int64
    ends: Any  # (count,) int64
    buffer: bytes
    context: Any
    step: int = 0

    def __len__(self) -> int:
        return self.count

    def span(self, number: int) -> tuple[int, int]:
        """Return begin and end of a part."""
        return int(self.begins[number]), int(self.ends[number])

    def base(self, number: int) -> int:
        """Return what the places in a part's item count from: they are those of `buffer`."""
        return 0

    def same(self, other: PlacedRows, *, without: list[int]) -> bool:
        """Tell whether parts have the same bytes in another file, but for some that are not looked at."""
        left = set(without)
        spans = (
            zip(rows.begins.tolist(), rows.ends.tolist(), strict=True) for rows in (self, other)
        )
        return all(
            number in left or self.buffer[a:b] == other.buffer[c:d]
            for number, ((a, b), (c, d)) in enumerate(zip(*spans, strict=True))
        )


def find_parts(
    kind: Any, reading: Reading, field: Field, table: Item, *, start: int, stop: int, origin: int
) -> Item | None:
    """Return the item of a directory's parts; None if they must be read one by one."""
    places, version = kind.places, reading.version
    if version is None or places.unpacked:
        return None
    kinds = {each.name: each.kind for each in table.maker.fields(table.rows.context[1])}
    columns = {
        name: (kinds[name], raw)
        for name, raw in table.maker.columns(table).items()
        if hasattr(raw, "dtype")
    }
    spans = _spans(kind, columns, reading, start=start, stop=stop, origin=origin)
    if spans is None:
        return None
    begins, ends, there = spans
    sizes = int((ends - begins).sum()) if places.size else 0
    if sizes > 2 * len(reading.data) or len(begins) > reading.parts[0]:
        return None
    most = ends
    try:
        ends = _ends(kind, columns, reading, begins, ends, there)
    except Unmeasured:
        return None
    if (ends != most).any() if places.size else (ends > most).any():
        return None
    reading.spend(sizes, field)
    reading.parts[0] -= len(begins)
    context = (reading.scope.groups[:], version, reading.layout, reading.path[:], reading.base)
    item = Item(LIST, key=field.name, buffer=reading.data, start=start, field=field)
    item.maker = kind
    item.rows = PlacedRows(len(begins), start, begins, ends, reading.data, context)
    return item


def _spans(
    kind: Any, columns: _Columns, reading: Reading, *, start: int, stop: int, origin: int
) -> tuple[Any, Any, Any] | None:
    """Return begins and ends of the parts, and which are there; None if a part lies elsewhere."""
    import numpy as np

    places = kind.places
    told = _numbers(columns, places.offset, reading)
    sizes = _numbers(columns, places.size, reading) if places.size else None
    if told is None or (places.size and sizes is None):
        return None
    there = np.ones(len(told), np.bool_) if places.nothing is None else told != places.nothing
    begins = origin - told * places.unit if places.base == "end" else origin + told * places.unit
    if sizes is None:
        known = np.unique(begins[there])
        after = np.append(known[1:], stop)
        ends = after[np.searchsorted(known, begins).clip(0, len(after) - 1)]
    else:
        ends = begins + sizes
    inside = (begins >= start) & (ends <= stop) & (begins <= ends)
    if not (inside | ~there).all():
        return None
    return np.where(there, begins, 0), np.where(there, ends, 0), there


def _ends(
    kind: Any, columns: _Columns, reading: Reading, begins: Any, ends: Any, there: Any
) -> Any:
    """Return where the parts end by what is in them."""
    import numpy as np

    version = reading.version or 0
    if kind.places.size and kind.inner.least(version) > 0:
        there = there & (begins < ends)
    chosen = np.flatnonzero(there)
    known = {name: (kind, raw[chosen]) for name, (kind, raw) in columns.items()}
    many = Many(
        reading.data,
        reading.layout,
        version,
        known=known,
        begins=begins[chosen],
        stops=ends[chosen],
    )
    out = ends.copy()
    out[chosen] = many.measure(kind.inner, begins[chosen])
    return out


def _numbers(columns: _Columns, name: str, reading: Reading) -> Any:
    """Return a column of whole numbers as `(n,) int64`; None if it is none, or one is too large."""
    import numpy as np

    kind, raw = columns.get(name, (None, None))
    if not isinstance(kind, Integer) or kind.logical:
        return None
    if raw.dtype.kind == "V":  # of a width that NumPy has no type for
        data = np.ascontiguousarray(raw).tobytes()
        places = np.arange(0, len(data), kind.width)
        try:
            return Many(data, reading.layout, 0).whole(kind, places)[0]
        except Unmeasured:
            return None
    return raw.astype(np.int64) if not len(raw) or 0 <= raw.min() <= raw.max() < _FARTHEST else None

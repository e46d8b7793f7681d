"""Many things of one kind at once: where each of them ends, found by columns.

A kind that can tell has `ends(many, at)`: of things that begin at `at`, `(n,) int64`, where each ends,
`(n,) int64`. What cannot be such a thing ends beyond the data. A kind whose reading looks at more than its
bytes has no `ends`, or raises `Unmeasured`: then things are read one by one.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from ..tree import SCALAR
from .item import Field, Item, Writing

__all__ = ["BEYOND", "MANY", "Many", "Unmeasured", "beyond_unless"]

BEYOND = 1 << 40  # where a thing ends that cannot be one; sums of a few of these fit 64 bits
MANY = 1000  # rows or parts; for fewer, NumPy is not imported
_LONGEST_VARINT = 10


class Unmeasured(Exception):
    """The end of such things is not found by columns."""


def beyond_unless(fits: Any, ends: Any) -> Any:
    """Return the ends of what fits; `BEYOND` for the rest."""
    import numpy as np

    return np.where(fits, ends, BEYOND)


class Many:
    """Things that begin at some places of `data`; `which` of them are looked at now.

    `stops` are the places they must end at, and that those reach which go on to their end; `begins` those
    that alignment counts from. `known` are the columns of the rows that tell of the things, with their kinds.
    """

    def __init__(
        self,
        data: bytes,
        layout: Any,
        version: int,
        *,
        known: dict[str, tuple[Any, Any]] | None = None,
        begins: Any = None,
        stops: Any = None,
    ) -> None:
        self.data, self.size = data, len(data)
        self.layout, self.big, self.version = layout, bool(layout.big), version
        self.begins, self.stops = begins, stops
        self.which: Any = None
        self.element: Any = None  # of a tree: what its tables hold; these are counted, not measured
        self.counts: Any = None
        self.inside: list[Any] = []  # kinds with names that are being measured
        self._known = known or {}
        self._names: list[dict[str, tuple[Any, Any, Any]]] = []
        self._constants: dict[int, Any] = {}
        self._marks: dict[bytes, Any] = {}
        self._every: dict[str, Any] = {}  # by type: what would lie at each place

    def measure(self, kind: Any, at: Any) -> Any:
        """Return where things that begin at `at` end.

        Raises:
            Unmeasured: that is not found by columns.
        """
        import numpy as np

        self.which = np.arange(len(at))
        return self.ends(kind, at)

    def ends(self, kind: Any, at: Any) -> Any:
        """Return where the things looked at now end; see `measure`."""
        ends = getattr(kind, "ends", None)
        if ends is None:
            raise Unmeasured
        return ends(self, at)

    def some(self, kind: Any, at: Any, chosen: Any) -> Any:
        """Return where some of the things looked at now end: those at the positions `chosen`."""
        before = self.which
        self.which = before[chosen]
        try:
            return self.ends(kind, at[chosen])
        finally:
            self.which = before

    def gather(self, at: Any, form: str) -> Any:
        """Return the values of a NumPy type at places; beyond the data they mean nothing."""
        import numpy as np

        every = self._every.get(form)
        if every is None:
            width = np.dtype(form).itemsize
            padded = self.data if self.size >= width else self.data.ljust(width, b"\0")
            every = np.ndarray(len(padded) - width + 1, form, padded, 0, (1,))
            self._every[form] = every
        return every[np.minimum(at, len(every) - 1)]

    def whole(self, number: Any, at: Any) -> tuple[Any, Any]:
        """Return whole numbers of a kind, as int64, and where they end; what is none is `BEYOND`."""
        import numpy as np

        width = getattr(number, "width", None)
        if width is None:
            return self._varints(at)
        form = number.dtype(self.big)
        if form is None:
            if number.signed:
                raise Unmeasured
            big = number.order(self.big) == "big"
            shifts = [8 * (width - 1 - n if big else n) for n in range(width)]
            bytes_at = (self.gather(at + n, "u1").astype(np.int64) for n in range(width))
            return sum(
                each << shift for each, shift in zip(bytes_at, shifts, strict=True)
            ), at + width
        values = self.gather(at, form).astype(np.int64)
        if width == 8:
            values = np.where((values < 0) | (values > BEYOND), BEYOND, values)
        return values, at + width

    def _varints(self, at: Any) -> tuple[Any, Any]:
        import numpy as np

        values, at = np.zeros(len(at), np.int64), at.copy()
        going = np.arange(len(at))
        for step in range(_LONGEST_VARINT):
            byte = self.gather(at[going], "u1").astype(np.int64)
            if step < 6:
                values[going] |= (byte & 0x7F) << 7 * step
            elif (byte & 0x7F).any():
                raise Unmeasured  # a size that large is none
            at[going] += 1
            going = going[byte >= 0x80]
            if not len(going):
                return values, at
        at[going] = BEYOND
        return values, at

    def until(self, mark: bytes, at: Any) -> Any:
        """Return the places behind the first `mark`, one byte, at or behind places."""
        import numpy as np

        if mark not in self._marks:
            found = np.flatnonzero(np.frombuffer(self.data, np.uint8) == mark[0])
            self._marks[mark] = np.append(found + 1, BEYOND)
        marks = self._marks[mark]
        return marks[np.searchsorted(marks, at, side="right")] if len(marks) else at + BEYOND

    def to_stops(self, at: Any) -> Any:
        """Return the ends of what goes on to the end of the thing it is in."""
        if self.stops is None:
            raise Unmeasured
        stops = self.stops[self.which]
        return beyond_unless(at <= stops, stops)

    def aligned(self, at: Any, align: int) -> Any:
        """Return places moved to whole multiples of `align` bytes behind where their things begin."""
        if self.begins is None:
            raise Unmeasured
        return at + (self.begins[self.which] - at) % align

    # ---- names ---------------------------------------------------------------------------

    def begin_group(self) -> None:
        """Have the names of a group be known until it ends."""
        self._names.append({})

    def end_group(self) -> None:
        """Forget the names of the innermost group."""
        self._names.pop()

    def note(self, name: str, kind: Any, at: Any) -> None:
        """Note where a field of the innermost group lies."""
        self._names[-1][name] = kind, at, self.which

    def matching(self, path: str, values: Iterable[Any]) -> Iterator[Any]:
        """Yield, for each of some values, which of the things have it at a path: `(n,) bool`."""
        kind, raw = self._find(path)
        return (_equal(kind, raw, value) for value in values)

    def numbers(self, path: str) -> Any:
        """Return the whole numbers at a path: `(n,) int64`."""
        import numpy as np

        kind, raw = self._find(path)
        if raw.dtype.kind not in "iu" or hasattr(kind, "names") or hasattr(kind, "parts"):
            raise Unmeasured
        values = raw.astype(np.int64)
        return np.where((values < 0) | (values > BEYOND), BEYOND, values)

    def _find(self, path: str) -> tuple[Any, Any]:
        """Return the kind and stored values of a field of the things, or of the rows that tell of them.

        What lies around them is not looked at: it can be edited before somebody looks at one of them.
        """
        import numpy as np

        first, _, rest = path.partition(".")
        for names in reversed(self._names):
            if first in names:
                if rest:
                    raise Unmeasured
                kind, at, which = names[first]
                if which is not self.which:
                    at = at[np.searchsorted(which, self.which)]
                form = kind.dtype(self.big) if hasattr(kind, "dtype") else None
                if form is None:
                    raise Unmeasured
                return kind, self.gather(at, form)
        if first in self._known:
            if rest:
                raise Unmeasured
            kind, values = self._known[first]
            return kind, values[self.which]
        raise Unmeasured

    # ---- constants -----------------------------------------------------------------------

    def constant(self, field: Field, at: Any, ends: Any) -> Any:
        """Return the ends of a field that must have one value: `BEYOND` where it has another."""
        import numpy as np

        if id(field) not in self._constants:
            writing = Writing(self.layout, self.version)
            field.kind.write(writing, Item(SCALAR, value=field.constant), field)
            self._constants[id(field)] = bytes(writing.out)
        wanted = self._constants[id(field)]
        there = self.gather(at, f"V{len(wanted)}") == np.frombuffer(wanted, f"V{len(wanted)}")[0]
        return beyond_unless(there & (ends == at + len(wanted)), ends)


def _equal(kind: Any, raw: Any, value: Any) -> Any:
    """Return which stored values mean a value that a layout names."""
    import numpy as np

    if hasattr(kind, "names"):  # names for numbers; one that has a name is that
        numbers = [number for number, name in kind.names.items() if name == value]
        if not numbers and isinstance(value, int) and value not in kind.names:
            numbers = [value]
        return np.isin(raw, numbers)
    if raw.dtype.kind in "iu" and not hasattr(kind, "parts"):
        return raw == value if isinstance(value, (int, bool)) else np.zeros(len(raw), np.bool_)
    if raw.dtype.kind == "V" and not hasattr(kind, "encoding") and hasattr(kind, "size"):
        wanted = value.encode("latin-1") if isinstance(value, str) else b""
        if len(wanted) != raw.dtype.itemsize:
            return np.zeros(len(raw), np.bool_)
        return raw == np.frombuffer(wanted, raw.dtype)[0]
    raise Unmeasured

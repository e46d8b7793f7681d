"""Storing: columns of a table turned from what lies in a file into values, and back.

Numbers, truth, names for numbers and texts are turned; what else a column holds is carried as it is
and cannot be read here.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ...errors import FormatError
from ..columns import Columns, Words, words_of
from ..tree import SCALAR
from .item import Field, Item, Writing
from .meanings import Colour, Time, Uuid
from .numbers import Enum, Float, Integer
from .pools import Pooled, offsets_in_pool, texts_in_pool
from .strings import Text

__all__ = ["Ragged", "columns_of", "is_readable", "stored", "values_of"]


class Ragged(Struct, eq=False):
    """A column of byte strings: value `i` is `data[starts[i]:starts[i] + lengths[i]]`."""

    data: Any  # (n,) uint8
    starts: Any  # (n_rows,) int64
    lengths: Any  # (n_rows,) int64

    def __len__(self) -> int:
        return len(self.lengths)

    def __getitem__(self, row: Any) -> Any:
        if hasattr(row, "dtype"):
            return Ragged(self.data, self.starts[row], self.lengths[row])
        start = int(self.starts[row])
        return bytes(self.data[start : start + int(self.lengths[row])])

    def joined(self, other: Ragged) -> Ragged:
        """Return the values of two columns, one behind the other, in bytes of their own."""
        import numpy as np

        parts = [each._packed() for each in (self, other)]
        starts = np.concatenate((parts[0].starts, parts[1].starts + len(parts[0].data)))
        data = np.concatenate([each.data for each in parts])
        return Ragged(data, starts, np.concatenate([each.lengths for each in parts]))

    def _packed(self) -> Ragged:
        """Return the same values without what lies between them."""
        import numpy as np

        ends = np.cumsum(self.lengths, dtype=np.int64)
        starts = ends - self.lengths
        at = np.repeat(self.starts - starts, self.lengths) + np.arange(int(self.lengths.sum()))
        return Ragged(self.data[at], starts, self.lengths.astype(np.int64))

    def differ(self, other: Ragged) -> Any:
        """Return where another column of as many rows has other values: `(n_rows,) bool`."""
        import numpy as np

        bad = self.lengths != other.lengths
        order = np.argsort(self.lengths, kind="stable")
        for group in np.split(order, np.flatnonzero(np.diff(self.lengths[order])) + 1):
            length = int(self.lengths[group[0]]) if len(group) else 0
            rows = group[~bad[group]]
            if length and len(rows):
                one, two = (each._of(rows, length) for each in (self, other))
                bad[rows] = one != two
        return bad

    def _of(self, rows: Any, length: int) -> Any:
        """Return the values of rows that are all of one length."""
        import numpy as np

        room = len(self.data) - length + 1
        return np.ndarray(room, f"V{length}", self.data, 0, (1,))[self.starts[rows]]

    def strings(self) -> list[bytes]:
        """Return all values."""
        data = self.data.tobytes()
        pairs = zip(self.starts.tolist(), self.lengths.tolist(), strict=True)
        return [data[start : start + length] for start, length in pairs]


def columns_of(
    raw: dict[str, Any], fields: tuple[Field, ...], layout: Any, *, version: int, groups: list[Item]
) -> Columns:
    """Return the columns of a table as they were read; `groups` are those around it, with their pools."""
    kinds = {field.name or "value": field.kind for field in fields}
    count = len(next(iter(raw.values()), ()))

    def load(name: str, column: Any) -> Any:
        kind = kinds[name]
        if isinstance(kind, Pooled):
            return texts_in_pool(kind, column, layout.big, groups)
        return values_of(kind, column, layout.big)

    columns = Columns(raw, count, load)
    columns.version, columns.kinds = version, kinds
    columns.only_here = frozenset(n for n, kind in kinds.items() if isinstance(kind, Pooled))
    return columns


def is_readable(kind: Any) -> bool:
    """Tell whether columns of a kind can be turned into values."""
    if isinstance(kind, (Integer, Float)):
        return kind.dtype(False) is not None
    if isinstance(kind, (Uuid, Time, Colour)):
        return True
    return isinstance(kind, Text) or (isinstance(kind, Enum) and kind.dtype(False) is not None)


def values_of(kind: Any, column: Any, big: bool) -> Any:
    """Return the values of a stored column.

    Raises:
        FormatError: it is not read by columns, or a number in it has no name.
    """
    import numpy as np

    if isinstance(kind, Integer) and is_readable(kind):
        return column != 0 if kind.logical else column
    if isinstance(kind, Float):
        return column
    if isinstance(kind, Enum):
        numbers, codes = np.unique(column, return_inverse=True)
        unnamed = [number for number in numbers.tolist() if number not in kind.names]
        if not unnamed:
            return Words(codes, [kind.names[number] for number in numbers.tolist()])
        raise FormatError(f"{unnamed[0]} has no name, so that the column is numbers and names")
    if isinstance(kind, (Uuid, Time, Colour)):
        forms, codes = np.unique(column, return_inverse=True)
        told = [kind.meant(form.tobytes(), big) for form in forms]
        if all(isinstance(each, str) for each in told):
            return Words(codes, told)
        raise FormatError(
            "one of the moments is out of range, so that the column is times and numbers"
        )
    if isinstance(kind, Text):
        raw: list[Any] = column.strings() if isinstance(column, Ragged) else column.tolist()
        words = words_of(raw)
        texts: list[Any] = words.texts
        return Words(words.codes, [kind.decode(text) for text in texts])
    raise FormatError("what the column holds is not read by columns")


def stored(values: Any, field: Field, writing: Writing) -> Any:
    """Return a column as the file has it: an array of the kind's type, or `Ragged`.

    Raises:
        FormatError: a value has no place in the field; with its row.
    """
    import numpy as np

    kind = field.kind
    if getattr(values, "strides", None) == (0,) and len(values):  # one value for all rows
        return np.broadcast_to(stored(values[:1].copy(), field, writing), values.shape)
    if isinstance(values, Ragged) or getattr(values, "dtype", np.dtype("O")).kind in "SV":
        form = "" if isinstance(values, Ragged) else kind.dtype(writing.big) or ""
        if form and form[1:] != str(values.dtype.itemsize):
            writing.fail(field, f"values of {values.dtype.itemsize} bytes have no place in it")
        return values
    if isinstance(kind, (Text, Enum, Uuid, Time, Colour, Pooled)):
        if not isinstance(values, Words):
            writing.fail(field, "it holds texts, numbers were given")
        return _stored_texts(kind, values, field, writing)
    if isinstance(values, Words):
        writing.fail(field, f"{values.texts[0] if values.texts else ''!r} is no number")
    if isinstance(kind, Float) and values.dtype.kind in "iuf":
        return _stored_floats(kind, values, field, writing)
    if isinstance(kind, Integer) and (values.dtype.kind == "b") == kind.logical:
        return _stored_integers(kind, values, field, writing)
    return writing.fail(field, f"a column of {values.dtype} has no place in it")


def _stored_integers(kind: Integer, values: Any, field: Field, writing: Writing) -> Any:
    import numpy as np

    form = kind.dtype(writing.big)
    if form is None:
        writing.fail(field, "integers of this width are not written by columns")
    if values.dtype.kind == "f":
        whole = np.rint(values)
        _refuse(whole != values, values, field, writing, "is no whole number")
        if len(values) and max(abs(values.max()), abs(values.min())) >= 2.0**63:
            writing.fail(field, "a number is too large")
        values = whole.astype(np.int64)
    low = -(1 << kind.width * 8 - 1) if kind.signed else 0
    high = (1 << kind.width * 8 - int(kind.signed)) - 1
    if values.dtype != np.dtype(form) and len(values):
        least, most = int(values.min()), int(values.max())
        if least < low or most > high:
            bad = (values < low) | (values > high)
            _refuse(
                bad, values, field, writing, f"does not fit; the field holds {low:,} to {high:,}"
            )
    return values.astype(form, copy=False)


def _stored_floats(kind: Float, values: Any, field: Field, writing: Writing) -> Any:
    import numpy as np

    if values.dtype.kind == "f" and values.dtype.itemsize < kind.width:
        values = _widened(values)
    with np.errstate(over="ignore"):
        out = values.astype(kind.dtype(writing.big), copy=False)
    if out.dtype.itemsize < values.dtype.itemsize or values.dtype.kind != "f":
        bad = np.isinf(out) & np.isfinite(values)
        if bad.any():
            _refuse(bad, values, field, writing, f"does not fit a float of {kind.width * 8} bits")
    return out


def _widened(values: Any) -> Any:
    """Return floats in 64 bits as the numbers that people read: 0.8 stays 0.8 as it does one by one."""
    import numpy as np

    distinct, codes = np.unique(values, return_inverse=True)
    read = np.array([float(str(value)) for value in distinct])[codes]
    return np.copysign(read, values)  # zeros of either sign are one among the distinct


def _refuse(bad: Any, values: Any, field: Field, writing: Writing, why: str) -> None:
    if bad.any():
        row = int(bad.argmax())
        writing.fail(field, f"row {row:,}: {values[row]} {why}")


def _stored_in_pool(kind: Pooled, values: Words, field: Field, writing: Writing) -> Any:
    """Return the offsets of texts that are in the pool by now."""
    import numpy as np

    found = writing.scope.find(kind.pool)
    offsets = offsets_in_pool(kind, values, found.value if found is not None else None)
    _refuse(offsets < 0, values.array(), field, writing, f"is not in {kind.pool}")
    width, order = kind.number.width, kind.number.order(writing.big)
    distinct, codes = np.unique(offsets, return_inverse=True)
    most = (1 << 8 * width - int(kind.number.signed)) - 1
    _refuse(offsets > most, offsets, field, writing, f"does not fit; the field holds 0 to {most:,}")
    raw = b"".join(each.to_bytes(width, order) for each in distinct.tolist())
    return np.frombuffer(raw, f"V{width}")[codes]


def _packed(kind: Any, text: str, field: Field, writing: Writing) -> bytes:
    if isinstance(kind, Text):
        return kind.packed(text, writing, field)
    part = writing.inside(field.name)
    part.path.pop()
    kind.write(part, Item(SCALAR, value=text), field)
    return bytes(part.out)


def _stored_texts(kind: Any, values: Words, field: Field, writing: Writing) -> Any:
    """Encode each text once, and put them into the rows by their codes."""
    import numpy as np

    if isinstance(kind, Pooled):
        return _stored_in_pool(kind, values, field, writing)
    used = np.unique(values.codes).tolist()
    if isinstance(kind, Enum):
        numbers = {name: number for number, name in kind.names.items()}
        table = np.zeros(len(values.texts), kind.dtype(writing.big))
        for code in used:
            if values.texts[code] not in numbers:
                known = ", ".join(numbers)
                writing.fail(field, f"{values.texts[code]!r} is no name it has; it has {known}")
            table[code] = numbers[values.texts[code]]
        return table[values.codes]
    raw = [b""] * len(values.texts)
    for code in used:
        raw[code] = _packed(kind, values.texts[code], field, writing)
    if not isinstance(kind, Text):
        form = f"V{kind.least(0)}"
        filled = [each or bytes(kind.least(0)) for each in raw]
        return np.frombuffer(b"".join(filled), form)[values.codes]
    if kind.size.fixed is not None:
        return np.frombuffer(b"".join(raw), kind.dtype(writing.big))[values.codes]
    lengths = np.array([len(text) for text in raw], np.int64)
    starts = np.cumsum(lengths) - lengths
    data = np.frombuffer(b"".join(raw), np.uint8)
    return Ragged(data, starts[values.codes], lengths[values.codes])

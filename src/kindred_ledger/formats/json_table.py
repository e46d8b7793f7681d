"""Tables in JSON: long lists of records that are all written alike, taken by columns.

A program writes every record with the same keys and the same space around them; then a record is a
template with the texts of its values in it. Where one differs from the others there is no table,
and it is edited record by record.

What always holds: a value keeps its text until it becomes another value, as it does one by one.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable
from decimal import Decimal
from math import isfinite
from typing import Any

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..errors import FormatError
from .columns import Columns, Values, Words, single_kind
from .document import same_value
from .nesting import Columns as Tokens
from .stretches import tally

__all__ = ["Edit", "JsonColumns", "JsonTable", "Texts", "read_table", "scalar", "string", "text_of"]

_WORDS: dict[str, Any] = {"true": True, "false": False, "null": None}
_SURROGATE = re.compile("[\ud800-\udfff]")  # half a character: only its escape can be written
_LONGEST_INT = 4000  # digits; beyond, int() refuses
_WIDEST = 400  # bytes around a value; records with more are looked at one by one
_OPEN, _CLOSE, _LIST, _COLON = 0x7B, 0x7D, 0x5B, 0x3A
_SPACES = b" \t\r\n"


# ---- values and their texts ----------------------------------------------------------------


def scalar(text: str) -> Any:
    """Return the value of the text of a scalar; numbers exactly, as int or Decimal."""
    if text[0] == '"':
        return string(text)
    if text in _WORDS:
        return _WORDS[text]
    if len(text) > _LONGEST_INT or any(letter in text for letter in ".eE"):
        return Decimal(text)
    return int(text)


def string(text: str) -> str:
    """Return what a text in quotes says."""
    return text[1:-1] if "\\" not in text else str(json.loads(text))


def text_of(value: Any) -> str | None:
    """Return the text of a scalar, None if JSON has no such."""
    if isinstance(value, Decimal):
        return str(value)
    if isinstance(value, str):
        text = json.dumps(value, ensure_ascii=False)
        return json.dumps(value) if _SURROGATE.search(text) else text
    plain = value is None or isinstance(value, (bool, int))
    return json.dumps(value) if plain or (isinstance(value, float) and isfinite(value)) else None


class Texts(Struct, eq=False):
    """A column of texts of values: row `i` is `data[starts[i]:ends[i]]`."""

    data: bytes
    starts: Any  # (n_rows,) integers
    ends: Any

    @staticmethod
    def of(texts: Iterable[str], codes: Any = None) -> Texts:
        """Return a column of texts; with `codes` `(n_rows,)`, row `i` has that of number `codes[i]`."""
        import numpy as np

        each = [text.encode() for text in texts]
        ends = np.cumsum(np.fromiter(map(len, each), np.intp, len(each)))
        starts = np.concatenate((ends[:0], [0], ends[:-1]))[: len(each)].astype(np.intp)
        data = b"".join(each)
        return (
            Texts(data, starts, ends) if codes is None else Texts(data, starts[codes], ends[codes])
        )

    def __len__(self) -> int:
        return len(self.starts)

    def __getitem__(self, order: Any) -> Texts:
        return Texts(self.data, self.starts[order], self.ends[order])

    def joined(self, other: Texts) -> Texts:
        """Return the rows of two columns, one behind the other, in bytes of their own."""
        import numpy as np

        each = [*self.each(), *other.each()]
        ends = np.cumsum(np.fromiter(map(len, each), np.intp, len(each)))
        starts = np.concatenate((ends[:0], [0], ends[:-1]))[: len(each)].astype(np.intp)
        return Texts(b"".join(each), starts, ends)

    def each(self) -> list[bytes]:
        """Return the text of every row."""
        data = self.data
        spans = zip(self.starts.tolist(), self.ends.tolist(), strict=True)
        return [data[start:end] for start, end in spans]

    def differ(self, other: Texts) -> Any:
        """Return in which rows another column has another text: `(n_rows,) bool`."""
        import numpy as np

        pairs = zip(self.each(), other.each(), strict=True)
        return np.fromiter((one != two for one, two in pairs), np.bool_, len(self))

    def distinct(self) -> tuple[list[bytes], Any]:
        """Return every text once, and for each row which it has: `(n_rows,)`."""
        import numpy as np

        numbers: dict[bytes, int] = {}
        codes = [numbers.setdefault(text, len(numbers)) for text in self.each()]
        return list(numbers), np.array(codes, np.intp)

    def values(self) -> list[Any]:
        """Return the value of every row, as they are one by one."""
        each = self.each()
        try:
            found: list[Any] = _DECODER.decode(b"[" + b",".join(each) + b"]")
        except (msgspec.DecodeError, RecursionError, ValueError):  # half characters, endless digits
            found = [scalar(text.decode()) for text in each]
        return found


_DECODER = msgspec.json.Decoder(list[Any], float_hook=Decimal)


# ---- the columns of a table ----------------------------------------------------------------


class JsonTable(Struct, frozen=True):
    """A table as the file has it: what stands around its rows, and its columns.

    `row` is a row with 0 for each value. Before the first row stands `first`, before others a comma
    and `lead`, after the last `close`. In `nested` columns all values are lists or mappings.
    """

    count: int
    row: bytes
    first: bytes
    lead: bytes
    close: bytes
    columns: dict[str, Texts]
    nested: frozenset[str]


class Edit(Struct, frozen=True):
    """One change of columns: kind `write`, `rename`, `remove` or `take`."""

    kind: str
    name: str = ""
    to: str = ""
    texts: Texts | None = None
    order: Any = None
    note: str = ""


class JsonColumns(Columns):
    """The columns of a table in JSON; `edits` is what was done to them, in order."""

    exact = True

    def __init__(self, table: JsonTable, marked: Callable[[], None]) -> None:
        super().__init__(dict(table.columns), table.count, lambda name, column: column)
        self.table = table
        self.edits: list[Edit] = []
        self.first = table.first
        self._marked = marked
        self._nested = set(table.nested)

    def blank(self, marked: Callable[[], None]) -> JsonColumns:
        """Return the columns of a table without rows that is written as this one is."""
        import numpy as np

        none = np.zeros(0, np.intp)
        columns = {name: Texts(b"", none, none) for name in self.table.columns}
        return JsonColumns(replace(self.table, count=0, columns=columns), marked)

    def _touch(self) -> None:
        if not self.touched:
            self._marked()
        super()._touch()

    def kind(self, name: str) -> Any:
        return "json"

    def is_readable(self, name: str) -> bool:
        return name not in self._nested

    def is_nested(self, name: str) -> bool:
        return name in self._nested

    def names_in(self, name: str) -> dict[tuple[str | int, ...], int]:
        if name not in self._nested:
            return super().names_in(name)
        texts = self.cells[name].each()
        names, _ = tally(_DECODER.decode(b"[" + b",".join(texts) + b"]"))
        return {path[1:]: count for path, count in names.items()}

    def read(self, name: str) -> Any:
        if name not in self.cells:
            raise FormatError(f"the table has no column {name!r}")
        if name in self._nested:
            raise FormatError(f"the column {name!r} holds lists or mappings")
        values = self.cells[name].values()
        found = single_kind(values)
        if found is None:
            raise FormatError(f"the values of {name!r} are of several kinds, or no whole numbers")
        return found

    def comparable(self, name: str) -> Any:
        return self.cells[name]

    def filled(self, values: Any) -> Any:
        mixed = isinstance(values, Values) and single_kind(values.values) is None
        return values if mixed else super().filled(values)

    def distinct(self, name: str) -> Values:
        texts, codes = self.cells[name].distinct()
        return Values(codes, [scalar(text.decode()) for text in texts])

    def write(self, name: str, values: Any, *, note: str = "", where: Any = None) -> None:
        new = self._texts(values)
        if name in self.cells:
            new = _kept_where_same(self.cells[name], new, where)
        super().write(name, new, note=note)
        self.edits.append(Edit("write", name, texts=new, note=note))

    def rename(self, name: str, to: str) -> None:
        super().rename(name, to)
        self._nested = {to if each == name else each for each in self._nested}
        self.edits.append(Edit("rename", name, to))

    def remove(self, name: str) -> None:
        super().remove(name)
        self._nested.discard(name)
        self.edits.append(Edit("remove", name))

    def take(self, order: Any) -> None:
        ascending = bool((order[1:] > order[:-1]).all())
        if ascending and len(order) and order[0] > 0:  # it goes with what stands before it
            self.first = self.table.lead
        super().take(order)
        self.edits.append(Edit("take", order=order))

    def extend(self, other: Columns, order: Any) -> None:
        if isinstance(other, JsonColumns) and self._nested != other._nested:
            name = sorted(self._nested ^ other._nested)[0]
            raise FormatError(f"only in one of two tables {name!r} holds lists or mappings")
        if not self.count and len(order):
            self.first = self.table.first
        super().extend(other, order)

    def nested(self, name: str) -> list[Any]:
        """Return the lists or mappings of a column, as plain values; numbers exactly."""
        found: list[Any] = self.cells[name].values()
        return found

    def _texts(self, values: Any) -> Texts:
        """Return values as their texts, row by row."""
        import numpy as np

        if isinstance(values, Texts):
            return values
        if isinstance(values, (Values, Words)):
            held: list[Any] = values.values if isinstance(values, Values) else values.texts
            return Texts.of(map(_written, held), values.codes)
        if hasattr(values, "dtype"):
            whole = values.dtype.kind in "iu"
            return Texts.of(map(str if whole else _written, values.tolist()))
        return Texts.of([_written(values)], np.zeros(self.count, np.intp))


def _written(value: Any) -> str:
    text = text_of(value)
    if text is None:
        raise FormatError(f"{value!r} cannot be written in JSON")
    return text


def _kept_where_same(old: Texts, new: Texts, where: Any) -> Texts:
    """Return the new texts, but the old ones where the value is the same, or is to stay."""
    import numpy as np

    pairs = zip(old.values(), new.values(), strict=True)
    same = np.fromiter((a == b and same_value(a, b) for a, b in pairs), np.bool_, len(old))
    if where is not None:
        same |= ~where
    if not same.any():
        return new
    shift = len(old.data)
    starts = np.where(same, old.starts, new.starts.astype(np.intp) + shift)
    return Texts(old.data + new.data, starts, np.where(same, old.ends, new.ends + shift))


# ---- finding one ---------------------------------------------------------------------------


def read_table(data: bytes, tokens: Tokens, token: int, span: tuple[int, int]) -> JsonTable | None:
    """Return the list at an opening token as a table; None if its records are not written alike.

    `data` is valid JSON without comments; `span` is where the list is in it.
    """
    found = _Finder(data, tokens, token)
    return found.table(*span) if found.are_records() else None


class _Finder:
    def __init__(self, data: bytes, tokens: Tokens, token: int) -> None:
        import numpy as np

        self._data = data
        self._bytes = np.frombuffer(data, np.uint8)
        self._rows, self._inside = tokens.two_levels(token)

    def are_records(self) -> bool:
        """Tell whether there are records only, each with the same signs inside."""
        rows, count = self._rows, (len(self._rows) + 1) // 3
        if len(rows) % 3 != 2 or not len(self._inside) or len(self._inside) % count:
            return False
        self._opens, self._closes, self._commas = rows[0::3], rows[1::3], rows[2::3]
        if (self._bytes[self._opens] != _OPEN).any():
            return False
        self._grid = self._inside.reshape(count, -1)
        signs = self._bytes[self._grid]
        self._signs = signs[0].tolist()
        return bool(
            (signs == signs[0]).all()
            and (self._grid[:, 0] > self._opens).all()
            and (self._grid[:, -1] < self._closes).all()
        )

    def table(self, start: int, end: int) -> JsonTable | None:
        columns: dict[str, Texts] = {}
        nested = set()
        row = b"{"
        at, edge = 0, self._opens
        while at < len(self._signs):
            colon = self._grid[:, at]
            key = self._alike(edge + 1, colon)
            at += 1
            holds = at < len(self._signs) and self._signs[at] in (_OPEN, _LIST)
            at += 2 * holds
            stop = self._grid[:, at] if at < len(self._signs) else self._closes
            at += 1
            before, after = self._space(colon + 1, 1), self._space(stop - 1, -1)
            if key is None or before is None or after is None:
                return None
            name = string(key.strip(_SPACES).decode())
            if name in columns:
                return None
            columns[name] = Texts(self._data, colon + 1 + len(before), stop - len(after))
            if holds:
                nested.add(name)
            closing = b"}" if stop is self._closes else b","
            row += key + b":" + before + b"0" + after + closing
            edge = stop
        lead = self._alike(self._commas + 1, self._opens[1:]) if len(self._commas) else b""
        if lead is None or (self._commas != self._closes[:-1] + 1).any():
            return None
        if lead.partition(b"\n")[0] and b"\n" in lead:  # space that ends a line
            return None
        first = self._data[start + 1 : self._opens[0]]
        close = self._data[self._closes[-1] + 1 : end - 1]
        return JsonTable(len(self._opens), row, first, lead, close, columns, frozenset(nested))

    def _alike(self, starts: Any, ends: Any) -> bytes | None:
        """Return what stands between, if it is the same in all rows."""
        width = int(ends[0] - starts[0])
        if width > _WIDEST or ((ends - starts) != width).any():
            return None
        text = self._data[starts[0] : ends[0]]
        same = all((self._bytes[starts + at] == sign).all() for at, sign in enumerate(text))
        return text if same else None

    def _space(self, at: Any, step: int) -> bytes | None:
        """Return the space that begins, or ends, at places, if it is the same in all rows."""
        here = int(at[0])
        width = 0
        while self._data[here + width * step] in _SPACES:
            width += 1
        if width > _WIDEST or bool(self._is_space(at + width * step).any()):
            return None
        low = at if step > 0 else at - width + 1
        return self._alike(low, low + width)

    def _is_space(self, at: Any) -> Any:
        signs = self._bytes[at]
        return (signs == 32) | ((signs >= 9) & (signs <= 13))

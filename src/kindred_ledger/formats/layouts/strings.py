"""Kinds of fields that are bytes or text, and the sizes and counts that go before things."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ...errors import FormatError
from ..expressions import Expression
from .derived import computed_number
from .item import Field, Item, Reading, Writing
from .many import BEYOND, Many, Unmeasured
from .numbers import Varint

__all__ = ["Bytes", "Pad", "Size", "Text"]


class Size(Struct, frozen=True):
    """How long something is, or how many: fixed, told by a number before it, by another field or an
    expression, to the end, or up to a terminator."""

    fixed: int | None = None
    prefix: Any = None  # Integer or Varint
    path: str = ""
    to_end: bool = False
    terminator: bytes = b""
    expression: Expression | None = None

    def read(self, reading: Reading, field: Field) -> int:
        """Return the number; -1 for what goes on to the end or to a terminator."""
        if self.fixed is not None:
            return self.fixed
        if isinstance(self.prefix, Varint):
            return self.prefix.number_at(reading, field)
        if self.prefix is not None:
            start = reading.take(self.prefix.width, field)
            number = int(self.prefix.number(reading.data, start, reading.big))
            if number < 0:
                reading.fail(field, f"{number} is no size", start)
            return number
        if self.expression is not None:
            told = computed_number(self.expression, reading.scope)
            if told is None or told < 0:
                reading.fail(field, f"({self.expression.text}) is no size")
            return told
        if self.path:
            found = reading.scope.find(self.path)
            if found is None or not isinstance(found.value, int) or found.value < 0:
                reading.fail(field, f"{self.path} tells no size")
            return int(found.value)
        return -1

    def write(self, count: int, writing: Writing, field: Field) -> None:
        """Append the number before what it counts, or check what other fields say of it."""
        if self.prefix is not None:
            writing.out += self.prefix.pack(count, writing, field)
        elif self.fixed is not None and count != self.fixed:
            writing.fail(field, f"{count:,} were given, the field holds {self.fixed:,}")
        elif self.path:
            self._tell(count, writing, field)
        elif self.expression is not None:
            told = computed_number(self.expression, writing.scope)
            if told != count:
                what = f"there are {count:,}, and ({self.expression.text}) is {told}"
                writing.fail(field, what)

    def _tell(self, count: int, writing: Writing, field: Field) -> None:
        """Put the number into the field that tells it, which was written already."""
        found = writing.scope.find(self.path)
        told = writing.told.get(id(found))
        if found is None or (told is not None and told != count):
            writing.fail(field, f"there are {count:,}, but {self.path} tells {told}")
        writing.told[id(found)] = count
        if found.value == count:
            return
        holder = writing.holder(found)
        span = holder.span(found) if holder is not None else None
        part = writing.inside("")
        found.value = count
        found.touch()
        found.field.kind.write(part, found, found.field)
        if holder is None or span is None or len(part.out) != span[1] - span[0]:
            writing.fail(field, f"{self.path} cannot be told that there are {count:,}")
        holder.out.put(span[0], bytes(part.out))

    def told(self, many: Many, at: Any) -> tuple[Any, Any]:
        """Return how many there are, `(n,) int64` or an int, and where the number before them ends.

        Raises:
            Unmeasured: it is computed, or nothing says it.
        """
        import numpy as np

        if self.fixed is not None:
            return self.fixed, at
        if self.prefix is not None:
            count, at = many.whole(self.prefix, at)
            if getattr(self.prefix, "signed", False):
                count = np.where(count < 0, BEYOND, count)
            return count, at
        if self.path:
            return many.numbers(self.path), at
        raise Unmeasured

    def least(self, version: int) -> int:
        """Return the fewest bytes the number takes."""
        return self.prefix.least(version) if self.prefix is not None else len(self.terminator)


class Bytes(Struct, frozen=True):
    """`bytes SIZE`."""

    size: Size

    def span(self, reading: Reading, field: Field) -> tuple[int, int]:
        """Return where the bytes are, without what tells their size."""
        count = self.size.read(reading, field)
        if self.size.terminator:
            start = reading.at
            end = reading.data.find(self.size.terminator, start)
            if end < 0:
                reading.fail(field, "its end mark does not come any more")
            reading.at = end + len(self.size.terminator)
            return start, end
        start = reading.take(reading.left if count < 0 else count, field)
        return start, reading.at

    def read(self, reading: Reading, field: Field) -> Item:
        begin = reading.at
        start, end = self.span(reading, field)
        value = reading.data[start:end]
        if field.constant is not None and value != _as_bytes(field.constant):
            reading.fail(field, f"must be {field.constant!r}, is {value[:16]!r}", start)
        return reading.item(field, begin, value)

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        value = item.value
        if field.constant is not None and value == field.constant:
            value = _as_bytes(value)  # "FACE" of a layout is four letters
        if isinstance(value, str):
            try:
                value = bytes.fromhex(value)
            except ValueError:
                value = value.encode()
        if not isinstance(value, bytes):
            writing.fail(field, f"{value!r} is no bytes")
        if field.constant is not None and value != _as_bytes(field.constant):
            writing.fail(field, f"must be {field.constant!r}")
        if self.size.terminator and self.size.terminator in value:
            writing.fail(field, "the value holds its own end mark")
        self.size.write(len(value), writing, field)
        writing.out += value + self.size.terminator

    def ends(self, many: Many, at: Any) -> Any:
        if self.size.to_end:
            return many.to_stops(at)
        if self.size.terminator:
            return many.until(self.size.terminator, at)
        count, at = self.size.told(many, at)
        return at + count

    def least(self, version: int) -> int:
        return self.size.fixed or self.size.least(version)

    def dtype(self, big: bool) -> str | None:
        return f"V{self.size.fixed}" if self.size.fixed else None


class Text(Struct, frozen=True):
    """`text SIZE`: sized in bytes; a fixed width is filled up with `pad`, and read up to it.

    In UTF-16 and UTF-32 the end mark and the padding are whole units of two or four bytes.
    """

    size: Size
    encoding: str = "utf-8"
    pad: int = 0

    @property
    def unit(self) -> int:
        """How many bytes the smallest unit of the encoding has."""
        return 2 if self.encoding.startswith("utf-16") else 4 if "utf-32" in self.encoding else 1

    @property
    def _end_mark(self) -> bytes:
        return self.size.terminator * self.unit

    def read(self, reading: Reading, field: Field) -> Item:
        begin = reading.at
        if self._end_mark and self.unit > 1:
            start, end = reading.at, _aligned(reading.data, self._end_mark, reading.at)
            if end < 0:
                reading.fail(field, "its end mark does not come any more")
            reading.at = end + self.unit
        else:
            start, end = Bytes(self.size).span(reading, field)
        raw = reading.data[start:end]
        try:
            value = self.decode(raw)
        except FormatError as error:
            reading.fail(field, error.what, start)
        if field.constant is not None and value != field.constant:
            reading.fail(field, f"must be {field.constant!r}, is {value!r}", start)
        return reading.item(field, begin, value)

    def decode(self, raw: bytes) -> str:
        """Return the text of bytes; what is no text in UTF-8 is carried by escapes.

        Raises:
            FormatError: they are no text in the encoding, or end in the middle of a unit.
        """
        if self.size.fixed is not None:
            raw += b"\0" * (-len(raw) % self.unit)  # NumPy leaves zeros at the end out
            mark = self._padding
            if self.pad == 0:
                end = _aligned(raw, mark, 0)
                raw = raw if end < 0 else raw[:end]
            else:
                while raw.endswith(mark):
                    raw = raw[: -len(mark)]
        try:
            return raw.decode(self.encoding, "surrogateescape" if self.unit == 1 else "strict")
        except UnicodeDecodeError as error:
            raise FormatError(
                f"these bytes are no text in {self.encoding}: {error.reason}"
            ) from error

    @property
    def _padding(self) -> bytes:
        return bytes((self.pad,)) if self.unit == 1 else chr(self.pad).encode(self.encoding)

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        raw = self.packed(item.value, writing, field)
        self.size.write(len(raw), writing, field)
        writing.out += raw + self._end_mark

    def packed(self, value: Any, writing: Writing, field: Field) -> bytes:
        """Return the bytes of a text, filled up to a fixed width."""
        if not isinstance(value, str):
            writing.fail(field, f"{value!r} is no text")
        if field.constant is not None and value != field.constant:
            writing.fail(field, f"must be {field.constant!r}")
        try:
            raw = value.encode(self.encoding, "surrogateescape" if self.unit == 1 else "strict")
        except UnicodeEncodeError as error:
            writing.fail(field, f"{value[error.start]!r} cannot be written in {self.encoding}")
        if self.size.fixed is not None:
            if len(raw) > self.size.fixed:
                writing.fail(
                    field, f"{value!r} takes {len(raw)} bytes, the field {self.size.fixed}"
                )
            if self.pad == 0 and "\0" in value:
                writing.fail(field, "the text holds a zero, at which it would end")
            if self.pad and value.endswith(chr(self.pad)):
                writing.fail(field, "the text ends in what the field is filled up with")
            missing = self.size.fixed - len(raw)
            filled = raw + self._padding * (missing // self.unit)
            return filled + b"\0" * (self.size.fixed - len(filled))
        if self._end_mark and _aligned(raw, self._end_mark, 0) >= 0:
            writing.fail(field, "the text holds its own end mark")
        return raw

    def ends(self, many: Many, at: Any) -> Any:
        if self.unit > 1:  # not all bytes are text
            raise Unmeasured
        return Bytes(self.size).ends(many, at)

    def least(self, version: int) -> int:
        return self.size.fixed or self.size.least(version) * (self.unit if self._end_mark else 1)

    def dtype(self, big: bool) -> str | None:
        letter = "S" if self.pad == 0 else "V"
        return f"{letter}{self.size.fixed}" if self.size.fixed else None


def _aligned(data: bytes, mark: bytes, start: int) -> int:
    """Return where a mark stands first, a whole number of its own lengths behind `start`; -1 if nowhere."""
    at = data.find(mark, start)
    while at >= 0 and (at - start) % len(mark):
        at = data.find(mark, at + 1)
    return at


class Pad(Struct, frozen=True):
    """`pad N`, `align N`: bytes nobody means; kept as they are, written as zeros."""

    count: int = 0
    align: int = 0

    def read(self, reading: Reading, field: Field) -> Item:
        count = -reading.at % self.align if self.align else self.count
        start = reading.take(count, field)
        return reading.item(field, start, None)

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        writing.out += b"\0" * (-len(writing.out) % self.align if self.align else self.count)

    def ends(self, many: Many, at: Any) -> Any:
        return many.aligned(at, self.align) if self.align else at + self.count

    def least(self, version: int) -> int:
        return self.count

    def dtype(self, big: bool) -> str | None:
        return f"V{self.count}" if self.count else None


def _as_bytes(value: Any) -> bytes:
    return value.encode("latin-1") if isinstance(value, str) else bytes(value)

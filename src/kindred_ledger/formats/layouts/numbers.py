"""Kinds of fields that are one number: integers, floats, flags, names for numbers, bits."""

from __future__ import annotations

import struct
from decimal import Decimal
from typing import Any

from msgspec import Struct

from ..tree import MAPPING, SCALAR
from .item import Field, Item, Reading, Writing, same_or_none
from .many import Many, beyond_unless

__all__ = ["Bits", "Enum", "Flags", "Float", "Integer", "Varint"]

_FLOATS = {2: "e", 4: "f", 8: "d"}
_LONGEST_VARINT = 10


class Integer(Struct, frozen=True):
    """`u8` to `u64`, `i8` to `i64`, and every width of whole bytes between; `bool`."""

    width: int  # bytes
    signed: bool = False
    big: bool | None = None  # None: as the layout
    logical: bool = False

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.take(self.width, field)
        value: Any = self.number(reading.data, start, reading.big)
        if self.logical:
            if value > 1:
                reading.fail(field, f"{value} is neither 0 nor 1", start)
            value = bool(value)
        if field.constant is not None and not same_or_none(value, field.constant):
            reading.fail(field, f"must be {field.constant}, is {value}", start)
        return reading.item(field, start, value)

    def number(self, data: bytes, at: int, big: bool) -> int:
        """Return the number at an offset."""
        raw = data[at : at + self.width]
        return int.from_bytes(raw, self.order(big), signed=self.signed)

    def order(self, big: bool) -> Any:
        """Return the byte order as Python names it."""
        return "big" if (big if self.big is None else self.big) else "little"

    def pack(self, value: int, writing: Writing, field: Field) -> bytes:
        """Return the bytes of a number."""
        try:
            return int(value).to_bytes(self.width, self.order(writing.big), signed=self.signed)
        except OverflowError:
            low = -(1 << self.width * 8 - 1) if self.signed else 0
            high = (1 << self.width * 8 - int(self.signed)) - 1
            writing.fail(field, f"{value:,} does not fit; the field holds {low:,} to {high:,}")

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        value = item.value
        if isinstance(value, Decimal) and value == value.to_integral_value():
            value = item.value = int(value)
        if not isinstance(value, int) or (isinstance(value, bool) and not self.logical):
            writing.fail(field, f"{value!r} is no whole number")
        if self.logical and value not in (0, 1):
            writing.fail(field, f"{value!r} is neither true nor false")
        if field.constant is not None and not same_or_none(value, field.constant):
            writing.fail(field, f"must be {field.constant}, is {value}")
        writing.out += self.pack(value, writing, field)

    def least(self, version: int) -> int:
        return self.width

    def ends(self, many: Many, at: Any) -> Any:
        if not self.logical:
            return at + self.width
        return beyond_unless(many.gather(at, "u1") <= 1, at + self.width)

    def dtype(self, big: bool) -> str | None:
        """Return the NumPy type of a column; None for widths that it has not."""
        if self.width not in (1, 2, 4, 8):
            return None
        order = ">" if self.order(big) == "big" else "<"
        return f"{order}{'i' if self.signed else 'u'}{self.width}"


class Varint(Struct, frozen=True):
    """`varint`: seven bits a byte, the lowest first, the top bit set on all but the last."""

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.at
        value = self.number_at(reading, field)
        return reading.item(field, start, value)

    def number_at(self, reading: Reading, field: Field) -> int:
        """Read the number the reading has come to."""
        value = 0
        start = reading.at
        for step in range(_LONGEST_VARINT):
            byte = reading.data[reading.take(1, field)]
            value |= (byte & 0x7F) << 7 * step
            if byte < 0x80:
                return value
        return reading.fail(field, f"a number of more than {_LONGEST_VARINT} bytes", start)

    def pack(self, value: int, writing: Writing, field: Field) -> bytes:
        """Return the bytes of a number."""
        if not isinstance(value, int) or not 0 <= value < 1 << 64:
            writing.fail(field, f"{value!r} does not fit; the field holds 0 to 2^64 - 1")
        out = bytearray()
        while value > 0x7F:
            out.append(value & 0x7F | 0x80)
            value >>= 7
        out.append(value)
        return bytes(out)

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        writing.out += self.pack(item.value, writing, field)

    def least(self, version: int) -> int:
        return 1

    def ends(self, many: Many, at: Any) -> Any:
        return many.whole(self, at)[1]

    def dtype(self, big: bool) -> str | None:
        return None


class Float(Struct, frozen=True):
    """`f16`, `f32`, `f64` (IEEE 754); values are the shortest decimals that mean the same."""

    width: int
    big: bool | None = None

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.take(self.width, field)
        (number,) = struct.unpack_from(self._form(reading.big), reading.data, start)
        value = self.shortest(number)
        if field.constant is not None and not same_or_none(value, field.constant):
            reading.fail(field, f"must be {field.constant}, is {value}", start)
        return reading.item(field, start, value)

    def shortest(self, number: float) -> Decimal:
        """Return the shortest decimal that reads as this float of this width."""
        if self.width == 8 or number != number or number in (float("inf"), float("-inf")):
            return Decimal(repr(number))
        for digits in range(3, 10):
            text = f"{number:.{digits}g}"
            try:
                (again,) = struct.unpack(f"<{_FLOATS[self.width]}",
                                         struct.pack(f"<{_FLOATS[self.width]}", float(text)))  # fmt: skip
            except OverflowError:
                continue
            if again == number:
                return Decimal(repr(float(text)))
        return Decimal(repr(number))

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        try:
            raw = struct.pack(self._form(writing.big), float(item.value))
        except (OverflowError, ValueError, TypeError):
            writing.fail(field, f"{item.value!r} does not fit a float of {self.width * 8} bits")
        writing.out += raw
        (number,) = struct.unpack(self._form(writing.big), raw)
        item.value = self.shortest(number)  # what is read again

    def _form(self, big: bool) -> str:
        return (">" if (big if self.big is None else self.big) else "<") + _FLOATS[self.width]

    def least(self, version: int) -> int:
        return self.width

    def ends(self, many: Many, at: Any) -> Any:
        return at + self.width

    def dtype(self, big: bool) -> str | None:
        return self._form(big)[0] + f"f{self.width}"


class Enum(Struct, frozen=True):
    """`enum u8 { clear = 0, haar = 1 }`: names for numbers; a number without a name stays one."""

    number: Integer
    names: dict[int, str]

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.take(self.number.width, field)
        value = self.number.number(reading.data, start, reading.big)
        shown = self.names.get(value, value)
        if field.constant is not None and field.constant not in (shown, value):
            reading.fail(field, f"must be {field.constant}, is {shown}", start)
        return reading.item(field, start, shown)

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        value = item.value
        if isinstance(value, str):
            numbers = [n for n, name in self.names.items() if name == value]
            if not numbers:
                known = ", ".join(self.names.values())
                writing.fail(field, f"{value!r} is no name it has; it has {known}")
            value = numbers[0]
        if not isinstance(value, int):
            writing.fail(field, f"{value!r} is neither a name nor a number")
        writing.out += self.number.pack(value, writing, field)
        item.value = self.names.get(value, value)  # what is read again

    def least(self, version: int) -> int:
        return self.number.width

    def ends(self, many: Many, at: Any) -> Any:
        return at + self.number.width

    def dtype(self, big: bool) -> str | None:
        return self.number.dtype(big)


class Bits(Struct, frozen=True):
    """`bits u8 { depth 3, lit 1 }`: parts of a number, the lowest first; `flags`: single bits.

    Bits without a name are kept under `other` if any is set.
    """

    number: Integer
    parts: tuple[tuple[str, int, int], ...]  # name, lowest bit, how many
    logical: bool = False  # flags: true and false instead of numbers

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.take(self.number.width, field)
        value = self.number.number(reading.data, start, reading.big)
        item = reading.item(field, start, None, MAPPING)
        item.members = []
        for name, low, count in self.parts:
            part: Any = value >> low & (1 << count) - 1
            value &= ~(((1 << count) - 1) << low)
            self._add(item, name, bool(part) if self.logical else part)
        if value:
            self._add(item, _OTHER, value)
        return item

    def _add(self, item: Item, name: str, value: Any) -> None:
        member = Item(SCALAR, key=name, value=value, parent=item, buffer=item.buffer,
                      start=item.start, end=item.end, field=item.field)  # fmt: skip
        item.members.append(member)  # type: ignore[union-attr]

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        parts = {name: (low, count) for name, low, count in self.parts}
        number = 0
        for member in item.members or ():
            value = member.value
            if member.key == _OTHER and isinstance(value, int):
                if value & ~self._unnamed():
                    writing.fail(field, f"{value:#x} sets bits that have names of their own")
                number |= value
                continue
            if member.key not in parts:
                writing.fail(field, f"there is no {member.key!r} in it")
            low, count = parts[member.key]
            if not isinstance(value, int) or not 0 <= value < 1 << count:
                writing.fail(field, f"{value!r} does not fit the {count} bits of {member.key!r}")
            number |= int(value) << low
            if self.logical:
                member.value = bool(value)  # what is read again
        writing.out += self.number.pack(number, writing, field)

    def parted(self, number: int) -> dict[str, Any]:
        """Return a number as its parts, by name."""
        out: dict[str, Any] = {}
        for name, low, count in self.parts:
            part = number >> low & (1 << count) - 1
            out[name] = bool(part) if self.logical else part
        rest = number & self._unnamed()
        return {**out, _OTHER: rest} if rest else out

    def _unnamed(self) -> int:
        every = (1 << self.number.width * 8) - 1
        for _, low, count in self.parts:
            every &= ~(((1 << count) - 1) << low)
        return every

    def least(self, version: int) -> int:
        return self.number.width

    def ends(self, many: Many, at: Any) -> Any:
        return at + self.number.width

    def dtype(self, big: bool) -> str | None:
        return self.number.dtype(big)


Flags = Bits
_OTHER = "other"

"""Kinds of one fixed width whose bytes mean more than a number: ids, fixed point, times, colours.

What the meaning cannot say (a time before year 1, say) stays the number it is, and comes back as that.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from typing import Any
from uuid import UUID

from msgspec import Struct

from .item import Field, Item, Reading, Writing
from .many import Many
from .numbers import Integer

__all__ = ["UNITS", "Colour", "Fixed", "Time", "Uuid"]

# Ticks a second.
UNITS = {
    "seconds": 1, "milliseconds": 10**3, "microseconds": 10**6, "ticks": 10**7, "nanoseconds": 10**9,
}  # fmt: skip
_DAY = 86_400
_TIME = re.compile(
    r"(-?\d{4,6})-(\d\d)-(\d\d)(?:[T ](\d\d):(\d\d)(?::(\d\d)(?:\.(\d{1,9}))?)?)?(?:Z|\+00:00)?"
)
_COLOUR = re.compile(r"#([0-9a-fA-F]{2})+")


class Uuid(Struct, frozen=True):
    """`uuid`: 16 bytes as RFC 9562 writes them; `uuid little`: the first three parts low byte first."""

    little: bool = False

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.take(16, field)
        value = self.meant(bytes(reading.data[start : start + 16]), False)
        if field.constant is not None and value != str(field.constant).lower():
            reading.fail(field, f"must be {field.constant}, is {value}", start)
        return reading.item(field, start, value)

    def meant(self, raw: bytes, big: bool) -> str:
        """Return the value of some bytes."""
        return str(UUID(bytes_le=raw) if self.little else UUID(bytes=raw))

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        try:
            value = UUID(item.value if isinstance(item.value, str) else "")
        except ValueError:
            writing.fail(field, f"{item.value!r} is no id of 32 hexadecimal digits")
        if field.constant is not None and str(value) != str(field.constant).lower():
            writing.fail(field, f"must be {field.constant}, is {value}")
        item.value = str(value)
        writing.out += value.bytes_le if self.little else value.bytes

    def least(self, version: int) -> int:
        return 16

    def ends(self, many: Many, at: Any) -> Any:
        return at + 16

    def dtype(self, big: bool) -> str | None:
        return "V16"


class _OfNumber(Struct, frozen=True):
    """A kind that is kept in an integer."""

    number: Integer

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.take(self.number.width, field)
        value = self.meant(reading.data[start : reading.at], reading.big)
        if field.constant is not None and str(value) != str(field.constant):
            reading.fail(field, f"must be {field.constant}, is {value}", start)
        return reading.item(field, start, value)

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        if field.constant is not None and str(item.value) != str(field.constant):
            writing.fail(field, f"must be {field.constant}, is {item.value}")
        number = self.counted(item.value, writing, field)
        writing.out += self.number.pack(number, writing, field)
        item.value = self.shown(number)

    def meant(self, raw: bytes, big: bool) -> Any:
        """Return the value of some bytes."""
        return self.shown(self.number.number(raw, 0, big))

    def shown(self, number: int) -> Any:
        raise NotImplementedError

    def counted(self, value: Any, writing: Writing, field: Field) -> int:
        raise NotImplementedError

    def least(self, version: int) -> int:
        return self.number.width

    def ends(self, many: Many, at: Any) -> Any:
        return at + self.number.width

    def dtype(self, big: bool) -> str | None:
        return f"V{self.number.width}"


class Fixed(_OfNumber, frozen=True):
    """`fixed i32 over 65536`: a whole number of parts; values are exact decimals.

    `over` has no prime factor but 2 and 5, so that every value ends.
    """

    over: int = 1

    def shown(self, number: int) -> Any:
        whole, rest = divmod(number, self.over)
        if not rest:
            return Decimal(whole)
        digits = _digits(self.over)
        scaled = number * 10**digits // self.over
        return Decimal(scaled).scaleb(-digits).normalize()

    def counted(self, value: Any, writing: Writing, field: Field) -> int:
        if isinstance(value, bool) or not isinstance(value, (int, Decimal)):
            writing.fail(field, f"{value!r} is no number")
        top, bottom = value.as_integer_ratio()
        number, rest = divmod(top * self.over, bottom)
        if rest:
            near = self.shown(number), self.shown(number + 1)
            what = (
                f"{value} is no multiple of 1/{self.over:,}; next to it are {near[0]} and {near[1]}"
            )
            writing.fail(field, what)
        return number


def _digits(over: int) -> int:
    """Return how many decimals a part of so many has."""
    twos = fives = 0
    while over % 2 == 0:
        over, twos = over // 2, twos + 1
    while over % 5 == 0:
        over, fives = over // 5, fives + 1
    return max(twos, fives)


class Time(_OfNumber, frozen=True):
    """`time u32 seconds from "1970-01-01"`: so many units since a moment; shown in UTC (RFC 3339).

    `unit` is how many there are in a second, 0 for days. A moment outside the years 1 to 9999 stays a number.
    """

    unit: int = 1
    epoch: str = "1970-01-01"

    def shown(self, number: int) -> Any:
        seconds, rest = (number * _DAY, 0) if not self.unit else divmod(number, self.unit)
        try:
            moment = _moment(self.epoch) + timedelta(seconds=seconds)
        except OverflowError:
            return number
        if not self.unit:
            return moment.strftime("%Y-%m-%d").rjust(10, "0")
        text = moment.strftime("%Y-%m-%dT%H:%M:%S").rjust(19, "0")
        digits = len(str(self.unit)) - 1
        return f"{text}{f'.{rest:0{digits}}' if rest else ''}Z"

    def counted(self, value: Any, writing: Writing, field: Field) -> int:
        if isinstance(value, int) and not isinstance(value, bool):
            return value
        match = _TIME.fullmatch(value) if isinstance(value, str) else None
        try:
            if match is None:
                raise ValueError
            year, month, day, hour, minute, second = (int(part or 0) for part in match.groups()[:6])
            moment = datetime(year, month, day, hour, minute, second, tzinfo=UTC)
        except (ValueError, OverflowError):
            shown = "2026-11-30" if not self.unit else "2026-11-30T18:05:00Z"
            writing.fail(field, f"{value!r} is no moment; one is written like {shown}")
        passed = moment - _moment(self.epoch)
        seconds = passed.days * _DAY + passed.seconds
        if not self.unit:
            number, rest = divmod(seconds, _DAY)
            inexact = bool(rest or match[7])
        else:
            nanoseconds = int((match[7] or "").ljust(9, "0"))
            part, rest = divmod(nanoseconds * self.unit, 10**9)
            number, inexact = seconds * self.unit + part, bool(rest)
        if inexact:
            writing.fail(field, f"{value} is more exact than the field")
        return number


def _moment(epoch: str) -> datetime:
    return datetime.fromisoformat(epoch).replace(tzinfo=UTC)


class Colour(Struct, frozen=True):
    """`colour bgra`: a byte a channel, in this order; shown as #rrggbb or #rrggbbaa."""

    order: str

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.take(len(self.order), field)
        value = self.meant(reading.data[start : reading.at], False)
        if field.constant is not None and value != str(field.constant).lower():
            reading.fail(field, f"must be {field.constant}, is {value}", start)
        return reading.item(field, start, value)

    def meant(self, raw: bytes, big: bool) -> str:
        """Return the value of some bytes."""
        return "#" + "".join(f"{raw[self.order.index(c)]:02x}" for c in self._shown)

    @property
    def _shown(self) -> str:
        return "rgba"[: len(self.order)]

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        value = item.value
        wanted = 1 + 2 * len(self.order)
        if not isinstance(value, str) or not _COLOUR.fullmatch(value) or len(value) != wanted:
            writing.fail(
                field, f"{value!r} is no colour; one is written like #{'c08040ff'[: wanted - 1]}"
            )
        if field.constant is not None and value.lower() != str(field.constant).lower():
            writing.fail(field, f"must be {field.constant}, is {value}")
        parts = dict(zip(self._shown, bytes.fromhex(value[1:]), strict=True))
        writing.out += bytes(parts[channel] for channel in self.order)
        item.value = value.lower()

    def least(self, version: int) -> int:
        return len(self.order)

    def ends(self, many: Many, at: Any) -> Any:
        return at + len(self.order)

    def dtype(self, big: bool) -> str | None:
        return f"V{len(self.order)}"

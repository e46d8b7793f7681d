"""Lists of numbers that do not lie one behind the other: of some bits each, or as runs of equal ones.

Values are lists of whole numbers; a list that was not edited keeps its bytes, runs as they are and all. Each
number is an item of its own, so there may not be more than a million in a file of usual size.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ..tree import LIST, SCALAR
from .item import Field, Item, Reading, Writing
from .numbers import Integer
from .strings import Size

__all__ = ["Packed", "Runs"]

_EACH = 256  # bytes that a number takes in memory: a million of them in a file, more in one of over 32 MB


class Packed(Struct, frozen=True):
    """`packed SIZE of N bits`: numbers of N bits, the lowest bit of each byte first; `high`: the highest.

    What is left of the last byte is zero when it is written.
    """

    size: Size
    bits: int
    high: bool = False

    def read(self, reading: Reading, field: Field) -> Item:
        begin = reading.at
        count = self.size.read(reading, field)
        if count < 0:
            count = reading.left * 8 // self.bits
        length = (count * self.bits + 7) // 8
        if length > reading.left:
            reading.fail(
                field,
                f"{count:,} numbers of {self.bits} bits are announced, {reading.left:,} bytes are left",
            )
        reading.spend(count * _EACH, field)
        start = reading.take(length, field)
        values = self._unpacked(reading.data[start : reading.at], count)
        return _list(reading, field, begin, values)

    def _unpacked(self, raw: bytes, count: int) -> list[int]:
        import numpy as np

        order: Any = "big" if self.high else "little"
        bits = np.unpackbits(np.frombuffer(raw, np.uint8), bitorder=order, count=count * self.bits)
        places = np.arange(self.bits, dtype=np.uint64)
        weights = np.left_shift(np.uint64(1), places[::-1] if self.high else places)
        numbers: list[int] = (
            (bits.reshape(count, self.bits) * weights).sum(1, dtype=np.uint64).tolist()
        )
        return numbers

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        import numpy as np

        values = _values(writing, item, field, 0, (1 << self.bits) - 1)
        self.size.write(len(values), writing, field)
        numbers = np.array(values, np.uint64).reshape(-1, 1)
        places = np.arange(self.bits, dtype=np.uint64)
        bits = (numbers >> (places[::-1] if self.high else places)) & np.uint64(1)
        packed = np.packbits(
            bits.astype(np.uint8).ravel(), bitorder="big" if self.high else "little"
        )
        writing.out += packed.tobytes()

    def least(self, version: int) -> int:
        return ((self.size.fixed or 0) * self.bits + 7) // 8 or self.size.least(version)


class Runs(Struct, frozen=True):
    """`runs SIZE of LENGTH VALUE`: SIZE pairs of how often and which number; the value is all of them.

    What is edited is written in the longest runs that there are.
    """

    size: Size
    length: Integer
    value: Integer

    def read(self, reading: Reading, field: Field) -> Item:
        begin = reading.at
        count = self.size.read(reading, field)
        pair = self.length.width + self.value.width
        if count < 0:
            count = reading.left // pair
        if count * pair > reading.left:
            reading.fail(
                field,
                f"{count:,} runs are announced, at most {reading.left // pair:,} fit into the rest",
            )
        values: list[int] = []
        for _ in range(count):
            at = reading.take(pair, field)
            times = self.length.number(reading.data, at, reading.big)
            if times < 0:
                reading.fail(field, f"a run of {times} is none", at)
            reading.spend(times * _EACH, field)
            number = self.value.number(reading.data, at + self.length.width, reading.big)
            values += [number] * times
        item = _list(reading, field, begin, values)
        item.shape = count
        return item

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        width = self.value.width * 8
        low, high = (
            (-(1 << width - 1), (1 << width - 1) - 1)
            if self.value.signed
            else (0, (1 << width) - 1)
        )
        values = _values(writing, item, field, low, high)
        most = (1 << self.length.width * 8 - int(self.length.signed)) - 1
        runs: list[list[int]] = []
        for number in values:
            if runs and runs[-1][1] == number and runs[-1][0] < most:
                runs[-1][0] += 1
            else:
                runs.append([1, number])
        self.size.write(len(runs), writing, field)
        for times, number in runs:
            writing.out += self.length.pack(times, writing, field)
            writing.out += self.value.pack(number, writing, field)

    def least(self, version: int) -> int:
        return self.size.least(version)


def _list(reading: Reading, field: Field, start: int, values: list[int]) -> Item:
    item = Item(
        LIST,
        key=field.name,
        members=[],
        buffer=reading.data,
        start=start,
        end=reading.at,
        field=field,
    )
    item.members = [
        Item(
            SCALAR,
            value=value,
            parent=item,
            at=at,
            buffer=reading.data,
            start=start,
            end=reading.at,
        )
        for at, value in enumerate(values)
    ]
    return item


def _values(writing: Writing, item: Item, field: Field, low: int, high: int) -> list[int]:
    if item.kind != LIST:
        writing.fail(field, "a list of numbers is needed here")
    values: list[Any] = [member.value for member in item.members or ()]
    for at, value in enumerate(values):
        if type(value) is not int:
            writing.fail(field, f"[{at}]: {value!r} is no whole number")
        if not low <= value <= high:
            writing.fail(field, f"[{at}]: {value:,} does not fit; it holds {low:,} to {high:,}")
    return values

"""Checksums over ranges of a file: held against its bytes when it is read, made anew when written."""

from __future__ import annotations

import hashlib
import zlib
from typing import Any

import blake3
from msgspec import Struct

from .item import Field, Item, Reading, Writing

__all__ = ["DIGESTS", "Checksum"]

DIGESTS = {"crc32": 4, "adler32": 4, "sum8": 1, "sum16": 2, "sum32": 4, "sha256": 32, "blake3": 32}


class Checksum(Struct, frozen=True):
    """`crc32 of start to here`: a checksum of all bytes between two places.

    A place is `start`, `here`, `end` or a field: where it begins as the first, where it ends as the
    second.
    """

    method: str
    first: str
    last: str
    derived: bool = True

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.take(DIGESTS[self.method], field)
        raw = reading.data[start : reading.at]
        value = self._shown(raw, reading.big)
        item = reading.item(field, start, value)
        groups = list(reading.scope.groups)

        def check(end: Reading) -> None:
            scope = type(end.scope)(groups)
            data = end.data
            span = self._span(lambda path: _place(scope, path), start, reading.at, len(data))
            if span is None:
                end.fail(field, f"{self.first} to {self.last} are no places", start)
            # The field itself, where it lies in the range, counts as zeros.
            part = data[span[0] : span[1]]
            if span[0] <= start < span[1]:
                blank = b"\0" * len(raw)
                part = data[span[0] : start] + blank + data[start + len(raw) : span[1]]
            told = _digest(self.method, part, end.big)
            if told != raw:
                end.fail(field, f"the {self.method} is {self._shown(told, end.big)}, the file tells {value}: "
                                "it is damaged, or was changed by hand", start)  # fmt: skip

        reading.late.append(check)
        return item

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        at = len(writing.out)
        size = DIGESTS[self.method]
        writing.out += b"\0" * size
        groups = list(writing.scope.groups)

        def fill(end: Writing) -> None:
            scope = type(end.scope)(groups)

            def place(path: str) -> tuple[int, int] | None:
                found = scope.find(path)
                return None if found is None else end.span(found)

            span = self._span(place, at, at + size, len(end.out))
            if span is None:
                end.fail(field, f"{self.first} to {self.last} are no places")
            raw = _digest(self.method, end.out.part(*span), end.big)
            end.out.put(at, raw)
            item.value = self._shown(raw, end.big)

        writing.checks.append(fill)

    def _span(self, place: Any, start: int, after: int, end: int) -> tuple[int, int] | None:
        known = {"start": (0, 0), "here": (after, start), "end": (end, end)}
        first = known.get(self.first) or place(self.first)
        last = known.get(self.last) or place(self.last)
        return None if first is None or last is None else (first[0], last[1])

    def _shown(self, raw: bytes, big: bool) -> Any:
        return raw.hex() if len(raw) > 4 else int.from_bytes(raw, "big" if big else "little")

    def least(self, version: int) -> int:
        return DIGESTS[self.method]


def _place(scope: Any, path: str) -> tuple[int, int] | None:
    found = scope.find(path)
    return None if found is None else (found.start, found.end)


def _digest(method: str, data: bytes, big: bool) -> bytes:
    if method == "sha256":
        return hashlib.sha256(data).digest()
    if method == "blake3":
        return blake3.blake3(data).digest()
    if method == "crc32":
        number = zlib.crc32(data)
    elif method == "adler32":
        number = zlib.adler32(data)
    else:
        number = _sum(data) % (1 << DIGESTS[method] * 8)
    return number.to_bytes(DIGESTS[method], "big" if big else "little")


def _sum(data: bytes) -> int:
    if len(data) < 1 << 12:
        return sum(data)
    import numpy as np

    return int(np.frombuffer(data, np.uint8).sum(dtype=np.uint64))

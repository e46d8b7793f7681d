"""Checksums over ranges of a file: held against its bytes when it is read, made anew when written.

CRCs have the names of the catalogue of parametrised CRC algorithms (Cook, "Catalogue of parametrised CRC
algorithms"); FNV-1 and FNV-1a are those of draft-eastlake-fnv, xxHash is that of its specification 0.1.1.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Callable
from typing import Any

import blake3
from msgspec import Struct

from ...extensions import package
from .item import Field, Item, Reading, Writing

__all__ = ["DIGESTS", "Checksum", "digest"]

_CRC = {  # by the names of `fastcrc`
    "crc16": (2, "arc"), "crc16-xmodem": (2, "xmodem"), "crc16-ccitt-false": (2, "ibm_3740"),
    "crc16-kermit": (2, "kermit"), "crc16-modbus": (2, "modbus"), "crc16-usb": (2, "usb"),
    "crc16-x25": (2, "ibm_sdlc"), "crc32c": (4, "iscsi"), "crc32-bzip2": (4, "bzip2"),
    "crc32-mpeg2": (4, "mpeg_2"), "crc32-jam": (4, "jamcrc"), "crc64": (8, "ecma_182"),
    "crc64-xz": (8, "xz"),
}  # fmt: skip
_XXHASH = {
    "xxh32": (4, "xxh32_intdigest"),
    "xxh64": (8, "xxh64_intdigest"),
    "xxh3-64": (8, "xxh3_64_intdigest"),
}
_HASHES = {"md5": 16, "sha1": 20, "sha256": 32}
_FNV = {"fnv1-32": 4, "fnv1a-32": 4, "fnv1-64": 8, "fnv1a-64": 8}
_FNV_NUMBERS = {4: (0x01000193, 0x811C9DC5), 8: (0x100000001B3, 0xCBF29CE484222325)}  # prime, basis
_SUMS = {"sum8": 1, "sum16": 2, "sum32": 4, "xor8": 1}

# How many bytes each takes.
DIGESTS = {
    "crc32": 4, "adler32": 4, **_SUMS,
    **{name: size for name, (size, _) in (*_CRC.items(), *_XXHASH.items())},
    **_FNV, **_HASHES, "blake3": 32,
}  # fmt: skip

Range = tuple[str, str]  # the places where it begins and ends


class Checksum(Struct, frozen=True):
    """`crc32 of start to here`, `crc32 of start to head and body to end`: a checksum of all bytes in ranges.

    A place is `start`, `here`, `end` or a field: where it begins as the first, where it ends as the
    second. The field itself, where it lies in a range, counts as zeros.
    """

    method: str
    ranges: tuple[Range, ...]
    big: bool | None = None  # None: as the layout
    derived: bool = True

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.take(DIGESTS[self.method], field)
        raw = reading.data[start : reading.at]
        big = self._is_big(reading.big)
        value = _shown(raw, big)
        item = reading.item(field, start, value)
        groups = list(reading.scope.groups)

        def check(end: Reading) -> None:
            scope = type(end.scope)(groups)
            spans = self._spans(lambda path: _place(scope, path), start, reading.at, len(end.data))
            if spans is None:
                end.fail(field, f"{self._told} are no places", start)
            parts = (_without(end.data, span, start, len(raw)) for span in spans)
            told = digest(self.method, b"".join(parts), big=big)
            if told != raw:
                end.fail(field, f"the {self.method} is {_shown(told, big)}, the file tells {value}: "
                                "it is damaged, or was changed by hand", start)  # fmt: skip

        reading.late.append(check)
        return item

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        at = len(writing.out)
        size = DIGESTS[self.method]
        writing.out += b"\0" * size
        groups = list(writing.scope.groups)
        big = self._is_big(writing.big)

        def fill(end: Writing) -> None:
            scope = type(end.scope)(groups)

            def place(path: str) -> tuple[int, int] | None:
                found = scope.find(path)
                return None if found is None else end.span(found)

            spans = self._spans(place, at, at + size, len(end.out))
            if spans is None:
                end.fail(field, f"{self._told} are no places")
            raw = digest(self.method, b"".join(end.out.part(*span) for span in spans), big=big)
            end.out.put(at, raw)
            item.value = _shown(raw, big)

        writing.checks.append(fill)

    def _is_big(self, big: bool) -> bool:
        return big if self.big is None else self.big

    @property
    def _told(self) -> str:
        return " and ".join(f"{first} to {last}" for first, last in self.ranges)

    def _spans(self, place: Any, start: int, after: int, end: int) -> list[tuple[int, int]] | None:
        known = {"start": (0, 0), "here": (after, start), "end": (end, end)}
        spans = []
        for first, last in self.ranges:
            one = known.get(first) or place(first)
            other = known.get(last) or place(last)
            if one is None or other is None:
                return None
            spans.append((one[0], other[1]))
        return spans

    def least(self, version: int) -> int:
        return DIGESTS[self.method]


def _without(data: bytes, span: tuple[int, int], at: int, size: int) -> bytes:
    """Return a range of a file with zeros where the checksum itself lies in it."""
    part = bytearray(data[span[0] : span[1]])
    first, last = max(at, span[0]), min(at + size, span[1])
    if first < last:
        part[first - span[0] : last - span[0]] = bytes(last - first)
    return bytes(part)


def _shown(raw: bytes, big: bool) -> Any:
    return raw.hex() if len(raw) > 4 else int.from_bytes(raw, "big" if big else "little")


def _place(scope: Any, path: str) -> tuple[int, int] | None:
    found = scope.find(path)
    return None if found is None else (found.start, found.end)


def digest(method: str, data: bytes, *, big: bool = False) -> bytes:
    """Return the checksum of bytes as a file has it; `big` tells the order of those that are numbers.

    >>> digest("fnv1a-32", b"123456789", big=True).hex(), digest("xor8", b"\\x01\\x03")
    ('bb86b11c', b'\\x02')
    """
    if method in _HASHES:
        return hashlib.new(method, data, usedforsecurity=False).digest()
    if method == "blake3":
        return blake3.blake3(data).digest()
    number = _number(method)(data)
    return number.to_bytes(DIGESTS[method], "big" if big else "little")


def _number(method: str) -> Callable[[bytes], int]:
    if method in _CRC:
        size, name = _CRC[method]
        found: Any = getattr(
            package(f"fastcrc.crc{size * 8}", "checksums of this kind are made"), name
        )
        return lambda data: int(found(data))
    if method in _XXHASH:
        made: Any = getattr(
            package("xxhash", "checksums of this kind are made"), _XXHASH[method][1]
        )
        return lambda data: int(made(data))
    if method in _FNV:
        return lambda data: _fnv(data, DIGESTS[method], "1a" in method)
    if method == "xor8":
        return _xor
    if method in _SUMS:
        return lambda data: _sum(data) % (1 << DIGESTS[method] * 8)
    return {"crc32": zlib.crc32, "adler32": zlib.adler32}[method]


def _fnv(data: bytes, size: int, first: bool) -> int:
    """Return FNV-1a, or FNV-1 where each byte comes after the multiplication."""
    prime, number = _FNV_NUMBERS[size]
    mask = (1 << size * 8) - 1
    if first:
        for byte in data:
            number = (number ^ byte) * prime & mask
    else:
        for byte in data:
            number = number * prime & mask ^ byte
    return number


def _xor(data: bytes) -> int:
    import numpy as np

    return int(np.bitwise_xor.reduce(np.frombuffer(data, np.uint8)))


def _sum(data: bytes) -> int:
    if len(data) < 1 << 12:
        return sum(data)
    import numpy as np

    return int(np.frombuffer(data, np.uint8).sum(dtype=np.uint64))

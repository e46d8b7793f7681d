"""CBOR (RFC 8949), edited in place; see `packed` for what stays as it is: everything not edited.

Numbers are written in the form they had if the new one fits it, else in the shortest one. A tag
belongs to the value it stands before; tagged values are carried, and shown as their bytes unless
they are plain numbers or text.
"""

from __future__ import annotations

import struct
from decimal import Decimal
from typing import Any

import cbor2

from ..errors import FormatError
from .packed import Head, PackedDocument, truncated
from .tree import LIST, MAPPING, SCALAR

__all__ = ["CborDocument"]

_KINDS = {4: LIST, 5: MAPPING}
_FLOATS = {0xF9: ">e", 0xFA: ">f", 0xFB: ">d"}
_MOST_TAGS = 100


class CborDocument(PackedDocument):
    """A CBOR file as a document."""

    _stop = 0xFF

    def _head(self, at: int) -> Head:
        start = at
        for _ in range(_MOST_TAGS):
            major, number, after = self._number(at)
            if major != 6:
                break
            at = after  # a tag; what follows is the value
        else:
            raise FormatError("more tags than any file has", where=f"byte {start}")
        if major in _KINDS:
            if at != start:  # a tagged container is one value to us
                return Head(SCALAR, 0, self._skip(at))
            return Head(_KINDS[major], number, after)
        if major in (2, 3):
            if number < 0:
                return Head(SCALAR, 0, self._skip(at))
            after += number
            if after > len(self._data):
                raise truncated(start)
        elif number < 0:
            raise FormatError("a stop code stands where a value should", where=f"byte {at}")
        return Head(SCALAR, 0, after)

    def _number(self, at: int) -> tuple[int, int, int]:
        """Return major type, argument (-1: of unknown length) and where what follows begins."""
        data = self._data
        if at >= len(data):
            raise truncated(at)
        major, low = data[at] >> 5, data[at] & 31
        if low < 24:
            return major, low, at + 1
        if low == 31 and major in (2, 3, 4, 5, 7):
            return major, -1, at + 1
        if low > 27:
            raise FormatError(f"no value begins with {data[at]:#04x}", where=f"byte {at}")
        width = 1 << (low - 24)
        if at + 1 + width > len(data):
            raise truncated(at)
        return major, int.from_bytes(data[at + 1 : at + 1 + width], "big"), at + 1 + width

    def _skip(self, at: int) -> int:
        """Return the end of any value, whatever is in it."""
        left = [1]
        while left:
            if left[-1] == 0:
                left.pop()
                continue
            if left[-1] < 0 and at < len(self._data) and self._data[at] == self._stop:
                left.pop()
                at += 1
                continue
            left[-1] -= left[-1] > 0
            major, number, after = self._number(at)
            if major == 6:
                left.append(1)
            elif major in _KINDS or (major in (2, 3) and number < 0):
                count = number * (2 if major == 5 and number > 0 else 1)
                if count > len(self._data) - after or len(left) > 500:
                    raise truncated(at)
                left.append(count)
            elif major in (2, 3):
                after += number
            elif number < 0:
                raise FormatError("a stop code stands where a value should", where=f"byte {at}")
            if after > len(self._data):
                raise truncated(at)
            at = after
        return at

    def _unpack(self, raw: bytes) -> Any:
        if raw[0] >> 5 == 6:
            return raw
        try:
            value = cbor2.loads(raw)
        except (cbor2.CBORDecodeError, ValueError, TypeError, RecursionError):
            return raw
        known = (str, bytes, int, float, bool, type(None))
        return value if isinstance(value, known) else raw

    def _pack(self, value: Any, like: bytes | None) -> bytes:
        if isinstance(value, Decimal):
            value = float(value)
        if isinstance(value, float):
            form = _FLOATS.get(like[0]) if like else None
            if form:
                try:
                    narrow = struct.pack(form, value)
                    if struct.unpack(form, narrow)[0] == value or value != value:
                        return like[:1] + narrow  # type: ignore[index]
                except (OverflowError, struct.error):
                    pass
            return b"\xfb" + struct.pack(">d", value)
        if isinstance(value, int) and not isinstance(value, bool) and like:
            major, low, number = like[0] >> 5, like[0] & 31, value if value >= 0 else -1 - value
            if major in (0, 1) and 24 <= low <= 27 and number < 1 << (8 << (low - 24)):
                first = (0 if value >= 0 else 0x20) | low
                return bytes((first,)) + number.to_bytes(1 << (low - 24), "big")
        return cbor2.dumps(value)

    def _container_head(self, kind: str, count: int, like: bytes) -> bytes:
        head = bytearray(cbor2.dumps(count))
        head[0] |= (5 if kind == MAPPING else 4) << 5
        return bytes(head)

"""MessagePack, edited in place; see `packed` for what stays as it is: everything not edited.

Numbers are written in the form they had if the new one fits it, else in the shortest one. Extension
values are carried, and shown as their type and bytes.
"""

from __future__ import annotations

import struct
from decimal import Decimal
from typing import Any

import msgpack

from ..errors import FormatError
from .packed import Head, PackedDocument, truncated
from .tree import LIST, MAPPING, SCALAR

__all__ = ["MessagePackDocument"]

# By first byte: (kind, bytes of the length field, bytes besides); fixed sizes have no field.
_FIXED = {
    0xC0: 0, 0xC2: 0, 0xC3: 0, 0xCA: 4, 0xCB: 8, 0xCC: 1, 0xCD: 2, 0xCE: 4, 0xCF: 8,
    0xD0: 1, 0xD1: 2, 0xD2: 4, 0xD3: 8, 0xD4: 2, 0xD5: 3, 0xD6: 5, 0xD7: 9, 0xD8: 17,
}  # fmt: skip
_SIZED = {0xC4: (1, 0), 0xC5: (2, 0), 0xC6: (4, 0), 0xC7: (1, 1), 0xC8: (2, 1), 0xC9: (4, 1),
          0xD9: (1, 0), 0xDA: (2, 0), 0xDB: (4, 0)}  # fmt: skip
_COUNTED = {0xDC: (LIST, 2), 0xDD: (LIST, 4), 0xDE: (MAPPING, 2), 0xDF: (MAPPING, 4)}
_INTS = {
    0xCC: ">B",
    0xCD: ">H",
    0xCE: ">I",
    0xCF: ">Q",
    0xD0: ">b",
    0xD1: ">h",
    0xD2: ">i",
    0xD3: ">q",
}


class MessagePackDocument(PackedDocument):
    """A MessagePack file as a document."""

    def _head(self, at: int) -> Head:
        data = self._data
        if at >= len(data):
            raise truncated(at)
        first = data[at]
        if first < 0x80 or first >= 0xE0:
            return Head(SCALAR, 0, at + 1)
        if first < 0x90:
            return Head(MAPPING, first & 15, at + 1)
        if first < 0xA0:
            return Head(LIST, first & 15, at + 1)
        if first < 0xC0:
            end = at + 1 + (first & 31)
        elif first in _FIXED:
            end = at + 1 + _FIXED[first]
        elif first in _SIZED:
            width, more = _SIZED[first]
            end = at + 1 + width + more + int.from_bytes(data[at + 1 : at + 1 + width], "big")
        elif first in _COUNTED:
            kind, width = _COUNTED[first]
            end = at + 1 + width
            if end > len(data):
                raise truncated(at)
            return Head(kind, int.from_bytes(data[at + 1 : end], "big"), end)
        else:
            raise FormatError(f"no value begins with {first:#04x}", where=f"byte {at}")
        if end > len(data):
            raise truncated(at)
        return Head(SCALAR, 0, end)

    def _unpack(self, raw: bytes) -> Any:
        try:
            value = msgpack.unpackb(raw, strict_map_key=False, unicode_errors="surrogateescape")
        except (ValueError, msgpack.UnpackException, TypeError):
            return raw  # as a container that is a key, or a time out of range
        if isinstance(value, (msgpack.ExtType, msgpack.Timestamp)):
            return raw
        return value

    def _pack(self, value: Any, like: bytes | None) -> bytes:
        if isinstance(value, Decimal):
            value = float(value)
        if isinstance(value, int) and not isinstance(value, bool) and like and like[0] in _INTS:
            try:
                return like[:1] + struct.pack(_INTS[like[0]], value)
            except struct.error:
                pass
        if isinstance(value, float) and like and like[0] == 0xCA:
            narrow = struct.pack(">f", value)
            if struct.unpack(">f", narrow)[0] == value or value != value:
                return like[:1] + narrow
        packed: bytes = msgpack.packb(value, unicode_errors="surrogateescape")
        return packed

    def _container_head(self, kind: str, count: int, like: bytes) -> bytes:
        packer = msgpack.Packer()
        head: bytes = (
            packer.pack_map_header(count) if kind == MAPPING else packer.pack_array_header(count)
        )
        return head

"""The size of a picture, from its first bytes: PNG, GIF, BMP and JPEG; nothing is decoded."""

from __future__ import annotations

import struct

__all__ = ["HEAD", "picture_size"]

HEAD = 256 << 10  # bytes: before the size of a JPEG may stand whole previews


def picture_size(head: bytes) -> tuple[int, int] | None:
    """Return the width and height in pixels; None if it is no picture of a kind that is read.

    Sources: PNG (ISO/IEC 15948, 11.2.2), GIF89a (18), BITMAPINFOHEADER, JPEG (ITU-T T.81, B.2.2).

    >>> picture_size(b"GIF89a\\x40\\x00\\x20\\x00")
    (64, 32)
    """
    try:
        if head.startswith(b"\x89PNG\r\n\x1a\n") and head[12:16] == b"IHDR":
            width, height = struct.unpack(">II", head[16:24])
        elif head.startswith((b"GIF87a", b"GIF89a")):
            width, height = struct.unpack("<HH", head[6:10])
        elif head.startswith(b"BM"):
            width, height = struct.unpack("<ii", head[18:26])
        elif head.startswith(b"\xff\xd8"):
            return _jpeg(head)
        else:
            return None
    except struct.error:
        return None
    return abs(width), abs(height)


def _jpeg(head: bytes) -> tuple[int, int] | None:
    """Follow the segments of a JPEG to the one that has its size."""
    at = 2
    while at + 9 < len(head):
        if head[at] != 0xFF:
            return None
        mark = head[at + 1]
        if mark == 0xFF:  # a fill byte
            at += 1
        elif 0xC0 <= mark <= 0xCF and mark not in (0xC4, 0xC8, 0xCC):
            height, width = struct.unpack(">HH", head[at + 5 : at + 9])
            return width, height
        else:
            at += 2 + struct.unpack(">H", head[at + 2 : at + 4])[0]
    return None

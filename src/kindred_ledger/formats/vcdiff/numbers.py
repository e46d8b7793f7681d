"""Numbers in a delta: seven bits a byte, the highest first; the top bit says that more follow.

RFC 3284, section 2.
"""

from __future__ import annotations

from typing import Any

from ...errors import FormatError

__all__ = ["packed", "packed_all", "read_number"]

_LONGEST = 10  # bytes; a number has at most 64 bits


def read_number(data: Any, at: int) -> tuple[int, int]:
    """Return the number at an offset of bytes, and where it ends.

    >>> read_number(bytes((186, 239, 154, 21)), 0)
    (123456789, 4)

    Raises:
        FormatError: it is cut short, or has more than 64 bits.
    """
    number = 0
    for end in range(at, min(at + _LONGEST, len(data))):
        byte = data[end]
        number = number << 7 | byte & 127
        if byte < 128:
            if number >> 64:
                break
            return number, end + 1
    if at + _LONGEST > len(data):
        raise FormatError("a number is cut short")
    raise FormatError("a number has more than 64 bits")


def packed(number: int) -> bytes:
    """Return a number as it is written."""
    out = bytearray((number & 127,))
    while number := number >> 7:
        out.append(number & 127 | 128)
    return bytes(reversed(out))


def packed_all(numbers: Any) -> tuple[Any, Any]:
    """Return numbers `(n,) int64` as they are written: their bytes one after another, and how many each has.

    Both are arrays: `(n_bytes,) uint8` and `(n,) intp`.
    """
    import numpy as np

    lengths = np.ones(len(numbers), np.intp)
    for bits in range(7, 64, 7):
        more = numbers >> bits > 0
        if not more.any():
            break
        lengths += more
    ends = np.cumsum(lengths)
    out = np.empty(int(ends[-1]) if len(ends) else 0, np.uint8)
    for place in range(int(lengths.max(initial=0))):  # from the last byte to the first
        here = lengths > place
        part = numbers[here] >> 7 * place & 127
        out[ends[here] - 1 - place] = part | (128 if place else 0)
    return out, lengths

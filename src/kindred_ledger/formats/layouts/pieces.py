"""Pieces: bytes put together in order, without copying the large ones until the end."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

__all__ = ["Pieces"]

_LARGE = 1 << 16  # bytes; smaller ones are gathered


class Pieces:
    """What is written so far. `+=` appends; a span of it may be put right, and read again."""

    def __init__(self) -> None:
        self._done: list[Any] = []
        self._starts: list[int] = []
        self._open = bytearray()
        self._length = 0

    def __len__(self) -> int:
        return self._length

    def __iadd__(self, data: Any) -> Pieces:
        if isinstance(data, Pieces):
            data = bytes(data)
        size = len(data)
        if size >= _LARGE:
            self._close()
            self._add(data)
        else:
            self._open += data
        self._length += size
        return self

    def __iter__(self) -> Iterator[Any]:
        yield from self._done
        yield self._open

    def __bytes__(self) -> bytes:
        return b"".join(self)

    def part(self, start: int, end: int) -> bytes:
        """Return the bytes of a span."""
        if self._done and end - start < self._length:
            whole = b"".join(self)
            return whole[start:end]
        return bytes(self)[start:end]

    def put(self, start: int, data: bytes) -> None:
        """Put other bytes, as many, in the place of those at an offset."""
        self._close()
        at = start
        for number, begin in enumerate(self._starts):
            piece = self._done[number]
            first, last = max(at - begin, 0), min(start + len(data) - begin, len(piece))
            if at < begin + len(piece) and last > first:
                if not isinstance(piece, bytearray):
                    piece = self._done[number] = bytearray(piece)
                piece[first:last] = data[begin + first - start : begin + last - start]
                at = begin + last

    def _close(self) -> None:
        if self._open:
            self._add(self._open)
            self._open = bytearray()

    def _add(self, piece: Any) -> None:
        begin = self._starts[-1] + len(self._done[-1]) if self._done else 0
        self._starts.append(begin)
        self._done.append(piece)

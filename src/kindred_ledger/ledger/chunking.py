"""Chunking: where a large content is cut, found in the content itself.

A cut depends only on the bytes before it, so bytes put in or taken out move the cuts along and
leave all other chunks as they were (content-defined chunking; Muthitacharoen, Chen and Mazières,
"A low-bandwidth network file system", 2001). The same content is cut the same way everywhere,
however it is handed over in blocks.

Three NumPy passes that stay in uint8 mix the 13 bytes before each position into one. A cut is
allowed where that has one value and was below another 19 bytes earlier: 1 position in 16,384, fewer
in data of long runs. Both cannot be in constant data, which is cut at the largest size.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
import numpy.typing as npt

__all__ = ["LARGEST", "SMALLEST", "Chunker"]

SMALLEST, LARGEST = 32 << 10, 256 << 10  # bytes; 50 to 100 KiB on average
_PASSES = ((0x6D, 1), (0xB5, 3), (0x9B, 8))  # odd multiplier, distance: 1 + 1 + 3 + 8 bytes
_LOST = sum(distance for _, distance in _PASSES)  # positions at the front without all their bytes
_NOW, _BELOW, _APART = 0x5A, 4, 19
_FRONT = _LOST + _APART
_PIECE = 256 << 10  # bytes mixed at a time: the scratch stays in the processor's cache


class Chunker:
    """Cuts streams into chunks; holds the scratch, so one a thread."""

    def __init__(self) -> None:
        self._scratch = np.empty((2, _PIECE), np.uint8)
        self._tests = np.empty((2, _PIECE), np.bool_)
        self._allowed = bytearray()

    def chunks_of(self, blocks: Iterable[bytes]) -> Iterator[memoryview]:
        """Cut a stream of blocks into chunks."""
        held = b""
        for block in blocks:
            data = held + block if held else block
            self._mark(data)
            view = memoryview(data)
            start = 0
            while cut := self._next_cut(start, len(data)):
                yield view[start:cut]
                start = cut
            held = bytes(view[start:])
        if held:
            yield memoryview(held)

    def _next_cut(self, start: int, size: int) -> int:
        """Return the next cut, 0 if that can only be told with more data."""
        most = start + LARGEST
        cut = self._allowed.find(1, start + SMALLEST, min(most, size + 1))
        return cut if cut > 0 else most if most <= size else 0

    def _mark(self, data: bytes) -> None:
        """Note for every position of `data` whether its bytes allow a cut there."""
        size = len(data)
        if len(self._allowed) <= size:
            self._allowed = bytearray(size + 1)
        allowed = np.frombuffer(self._allowed, np.bool_)
        allowed[: _FRONT + 1] = False
        whole = np.frombuffer(data, np.uint8)
        for start in range(0, max(0, size - _FRONT), _PIECE - _FRONT):
            mixed = self._mix(whole[start : start + _PIECE])
            now, earlier = (row[: mixed.size - _APART] for row in self._tests)
            np.equal(mixed[_APART:], np.uint8(_NOW), out=now)
            np.less(mixed[:-_APART], np.uint8(_BELOW), out=earlier)
            at = start + _FRONT + 1
            np.logical_and(now, earlier, out=allowed[at : at + now.size])

    def _mix(self, piece: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint8]:
        """Return the mix for every position with all its bytes: (n - _LOST,) uint8, a scratch."""
        mixed = piece
        for number, (multiplier, distance) in enumerate(_PASSES):
            further = self._scratch[number & 1][: mixed.size - distance]
            np.multiply(mixed[distance:], np.uint8(multiplier), out=further)
            np.subtract(further, mixed[:-distance], out=further)
            mixed = further
        return mixed

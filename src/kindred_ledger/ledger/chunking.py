"""Chunking: where a large content is cut, found in the content itself.

A cut depends only on the bytes around it, so bytes put in or taken out move the cuts along and
leave all other chunks as they were (content-defined chunking; Muthitacharoen, Chen and Mazières,
"A low-bandwidth network file system", 2001). The same content is cut the same way everywhere,
however it is handed over in blocks.

A byte-wide mix of the 13 bytes before each position is computed by three NumPy passes that stay in
uint8; where it hits one value (1 in 256) a stronger hash of the 32 bytes before decides. Of hits
close together only the first counts, or constant data would be all hits.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
import numpy.typing as npt

__all__ = ["LARGEST", "SMALLEST", "Chunker"]

SMALLEST, LARGEST = 16 << 10, 256 << 10  # bytes
_PIECE = 256 << 10  # bytes mixed at a time: the scratch stays in the processor's cache
_PASSES = ((0x6D, 1), (0xB5, 3), (0x9B, 8))  # odd multiplier, distance: 1 + 1 + 3 + 8 bytes
_LOST = sum(distance for _, distance in _PASSES)  # positions at the front that have no full window
_HIT = 0x5A
_CLOSE = 8  # hits nearer than this to the one before are part of a run
_WINDOW = 32  # bytes before a cut that decide about it, as four words
_FACTORS = np.array(  # odd, from the digits of pi, e, the square roots of 2 and 3
    [0x243F6A8885A308D3, 0xB7E151628AED2A6B, 0x6A09E667F3BCC909, 0xBB67AE8584CAA73B], np.uint64
)
_BITS = np.uint64(57)  # 1 in 128 of the hits: about 32 KiB between cuts, above the smallest chunk


class Chunker:
    """Cuts streams into chunks; holds the scratch, so one a thread."""

    def __init__(self) -> None:
        self._scratch = np.empty((2, _PIECE), np.uint8)
        self._mask = np.empty(_PIECE, np.bool_)

    def chunks_of(self, blocks: Iterable[bytes]) -> Iterator[memoryview]:
        """Cut a stream of blocks into chunks."""
        held = b""
        for block in blocks:
            data = held + block if held else block
            view = memoryview(data)
            start = 0
            for cut in _chosen(self.cut_points(data), len(data)):
                yield view[start:cut]
                start = cut
            held = bytes(view[start:])
        if held:
            yield memoryview(held)

    def cut_points(self, data: bytes) -> npt.NDArray[np.intp]:
        """Return every position in `data` where its bytes allow a cut, (n,) intp, ascending."""
        whole = np.frombuffer(data, np.uint8)
        step = _PIECE - _LOST
        found = [
            self._hits(whole[start : start + _PIECE]) + start
            for start in range(0, max(0, whole.size - _LOST), step)
        ]
        hits = np.concatenate(found) if found else np.empty(0, np.intp)
        hits = hits[hits >= _WINDOW]
        if not hits.size:
            return hits
        hits = hits[np.concatenate(([True], np.diff(hits) >= _CLOSE))]
        words = np.lib.stride_tricks.as_strided(
            np.frombuffer(data, "<u8", count=1), shape=(whole.size - 7,), strides=(1,)
        )
        strong = np.zeros(hits.size, np.uint64)
        for number, factor in enumerate(_FACTORS):
            strong ^= words[hits - _WINDOW + 8 * number]
            strong *= factor
            strong ^= strong >> np.uint64(29)
        chosen: npt.NDArray[np.intp] = hits[(strong >> _BITS) == 0]
        return chosen

    def _hits(self, piece: npt.NDArray[np.uint8]) -> npt.NDArray[np.intp]:
        """Return the positions behind a window whose mix hits, relative to the piece."""
        mixed = piece
        for number, (multiplier, distance) in enumerate(_PASSES):
            further = self._scratch[number & 1][: mixed.size - distance]
            np.multiply(mixed[distance:], np.uint8(multiplier), out=further)
            np.subtract(further, mixed[:-distance], out=further)
            mixed = further
        mask = self._mask[: mixed.size]
        np.equal(mixed, np.uint8(_HIT), out=mask)
        whole = mask.size & ~7
        groups = np.flatnonzero(mask[:whole].view(np.uint64))
        rows, columns = np.nonzero(mask[:whole].reshape(-1, 8)[groups])
        hits = groups[rows] * 8 + columns
        if whole < mask.size:
            hits = np.concatenate((hits, np.flatnonzero(mask[whole:]) + whole))
        return hits + (_LOST + 1)


def _chosen(candidates: npt.NDArray[np.intp], size: int) -> Iterator[int]:
    """Yield the cuts to make, none of which can change with more data to come."""
    start = at = 0
    found = candidates.tolist()
    while True:
        while at < len(found) and found[at] < start + SMALLEST:
            at += 1
        cut = min(found[at] if at < len(found) else size + 1, start + LARGEST)
        if cut > size:
            return
        yield cut
        start = cut

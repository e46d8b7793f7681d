"""Writing contents into packs: cut into chunks, what is there already left out, the rest packed.

Each byte is read once. Small files are one chunk; large ones are cut by their content, or, where
the size is that of what stood under the path before, just as that was cut. A new chunk that differs
from the one it replaces in few places is stored as the exclusive or of the two, which packs to
almost nothing; its base is always a chunk that is stored whole, so two readings put it together.
Chunks share frames of about 1 MiB, which threads pack while the next file is read.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from itertools import accumulate
from typing import TYPE_CHECKING

from blake3 import blake3

from ..errors import LedgerDamaged
from . import zstd
from .index import Index, Location
from .packs import PackWriter, Piece, Recipe
from .reading import EMPTY, Frames

if TYPE_CHECKING:
    from .chunking import Chunker

__all__ = ["WHOLE", "ContentWriter"]

WHOLE = 256 << 10  # bytes; a file up to this size is one chunk
_FRAME = 1 << 20  # a frame is closed at this size: enough for the compressor, cheap to seek in
_PACK = 64 << 20  # a pack is sealed at this stored size: few files, few syncs, bounded rewriting
_SYNC = 16 << 20  # stored bytes after which the disk is set to work, so that sealing need not wait
_WORKERS = max(2, os.cpu_count() or 2)
_SPARSE = 4  # a difference is worth it while fewer than one byte in this many differs

_Frame = tuple[Future[bytes], list[Piece]]


class ContentWriter:
    """Stores contents in new packs; `close` makes them durable, `abandon` drops the open pack.

    Packs sealed before an `abandon` stay: what they hold is whole and will not be stored again.
    """

    def __init__(self, index: Index, *, packs_folder: str, part: str) -> None:
        self._index = index
        self._packs_folder = packs_folder
        self._part = part
        self._pack: PackWriter | None = None
        self._pool = ThreadPoolExecutor(_WORKERS)
        self._syncing = ThreadPoolExecutor(1)  # waits for the disk while others pack
        self._pending: deque[_Frame | Recipe] = deque()
        self._sealing: list[Future[object]] = []
        self._new: set[bytes] = set()
        self._plain = _Block()
        self._differences = _Block()
        self._cutter: Chunker | None = None
        self._old: Frames | None = None
        self._packs = 0
        self._unsynced = 0
        self.stored_bytes = 0

    def add(
        self, blocks: Iterable[bytes], *, size: int = 0, before: bytes | None = None
    ) -> tuple[bytes, int]:
        """Store one content given in blocks; return its digest and size in bytes.

        `size` is what the size should be; `before` is the digest of what stood there before.
        """
        if size <= WHOLE:
            data = b"".join(blocks)
            if len(data) <= WHOLE:
                return self._add_small(data), len(data)
            blocks = [data]
        return self._add_large(blocks, _Before.find(self._index, before), size)

    def close(self) -> None:
        """Make all that was added durable."""
        self._flush(self._plain)
        self._flush(self._differences)
        self._write_pending(0)
        self._seal()
        for sealed in self._sealing:
            sealed.result()
        self._release()
        self._index.sync()

    def abandon(self) -> None:
        """Drop the pack that is not finished."""
        self._release()
        if self._pack is not None:
            self._pack.abandon()

    def _release(self) -> None:
        self._pool.shutdown(cancel_futures=True)
        self._syncing.shutdown(cancel_futures=True)
        if self._old is not None:
            self._old.close()

    def _add_small(self, data: bytes) -> bytes:
        digest = blake3(data).digest()
        if digest != EMPTY and digest not in self._new and not self._index.has(digest):
            self._put(digest, data)
        return digest

    def _add_large(self, blocks: Iterable[bytes], before: _Before, size: int) -> tuple[bytes, int]:
        whole = blake3()
        digests: list[bytes] = []
        at = 0
        for chunk in self._cut(blocks, before, size):
            whole.update(chunk)
            digest = blake3(chunk).digest()
            digests.append(digest)
            if digest in self._new or self._index.chunk(digest) is not None:
                before.met(digest, at)
            else:
                self._put_new(digest, chunk, before.at(at, len(chunk)))
            at += len(chunk)
        digest = whole.digest()
        if len(digests) > 1 and digest not in self._new and not self._index.has(digest):
            self._new.add(digest)
            self._pending.append(Recipe(digest, at, tuple(digests)))
        return digest, at

    def _cut(self, blocks: Iterable[bytes], before: _Before, size: int) -> Iterator[memoryview]:
        if before.sizes and sum(before.sizes) == size:
            return _cut_as(blocks, before.sizes)
        if self._cutter is None:
            from .chunking import Chunker  # NumPy costs 100 ms, and small files do without

            self._cutter = Chunker()
        return self._cutter.chunks_of(blocks)

    def _put_new(self, digest: bytes, chunk: memoryview, base: Location | None) -> None:
        if base is not None and base.base:
            base = self._index.chunk(base.base)
        difference = self._difference(chunk, base) if base is not None else None
        if base is None or difference is None:
            self._put(digest, chunk)
            return
        self._new.add(digest)
        self._differences.add(Piece(digest, len(chunk), base.digest), difference)
        if self._differences.size >= _FRAME:
            self._flush(self._differences)

    def _difference(self, chunk: memoryview, base: Location) -> bytes | None:
        """Return the exclusive or with the base, or None if it is not worth it."""
        import numpy as np

        if self._old is None:
            self._old = Frames(self._index)
        try:
            old = self._old.chunk(base)
        except LedgerDamaged:  # what is damaged is no base for anything new
            return None
        if len(old) != len(chunk):
            return None
        both = np.frombuffer(chunk, np.uint8) ^ np.frombuffer(old, np.uint8)
        return both.tobytes() if np.count_nonzero(both) * _SPARSE < len(chunk) else None

    def _put(self, digest: bytes, chunk: bytes | memoryview) -> None:
        self._new.add(digest)
        self._plain.add(Piece(digest, len(chunk)), chunk)
        if self._plain.size >= _FRAME:
            self._flush(self._plain)

    def _flush(self, block: _Block) -> None:
        if block.pieces:
            data, pieces = block.take()
            self._pending.append((self._pool.submit(zstd.compress, data), pieces))
            self._write_pending(2 * _WORKERS)

    def _write_pending(self, leave: int) -> None:
        while len(self._pending) > leave:
            item = self._pending.popleft()
            if self._pack is None:
                self._packs += 1
                self._pack = PackWriter(f"{self._part}-{self._packs}")
            if isinstance(item, Recipe):
                self._pack.add_recipe(item)
                continue
            frame, pieces = item
            before = self._pack.stored_bytes
            self._pack.add_frame(frame.result(), pieces)
            self._unsynced += self._pack.stored_bytes - before
            if self._pack.stored_bytes >= _PACK:
                self._seal()
            elif self._unsynced >= _SYNC:
                self._unsynced = 0
                self._sealing.append(self._syncing.submit(self._pack.sync))

    def _seal(self) -> None:
        if self._pack is not None:
            self.stored_bytes += self._pack.stored_bytes
            self._sealing.append(self._syncing.submit(self._pack.seal, self._packs_folder))
            self._pack = None
            self._unsynced = 0


class _Block:
    """Chunks gathered until they fill a frame."""

    def __init__(self) -> None:
        self._data = bytearray()
        self.pieces: list[Piece] = []

    @property
    def size(self) -> int:
        return len(self._data)

    def add(self, piece: Piece, data: bytes | memoryview) -> None:
        self._data += data
        self.pieces.append(piece)

    def take(self) -> tuple[bytearray, list[Piece]]:
        taken = self._data, self.pieces
        self._data, self.pieces = bytearray(), []
        return taken


class _Before:
    """What stood under a path before: its chunks, by where they began."""

    def __init__(self, chunks: tuple[Location, ...]) -> None:
        self.sizes = [chunk.size for chunk in chunks]
        starts = accumulate(self.sizes, initial=0)
        self._by_start = dict(zip(starts, chunks, strict=False))
        self._start_of = {chunk.digest: start for start, chunk in self._by_start.items()}
        self._shift = 0

    @staticmethod
    def find(index: Index, digest: bytes | None) -> _Before:
        return _Before((index.locate(digest) if digest else None) or ())

    def met(self, digest: bytes, at: int) -> None:
        """Note that a chunk of then stands at `at` now: what follows moved along with it."""
        if digest in self._start_of:
            self._shift = self._start_of[digest] - at

    def at(self, start: int, size: int) -> Location | None:
        """Return the chunk that a new one of this size replaces; None if it was cut differently."""
        found = self._by_start.get(start + self._shift)
        return found if found is not None and found.size == size else None


def _cut_as(blocks: Iterable[bytes], sizes: Iterable[int]) -> Iterator[memoryview]:
    """Cut a stream into chunks of the sizes given; what is left over is one chunk a block."""
    held = b""
    coming = iter(sizes)
    size = next(coming, 0)
    for block in blocks:
        data = held + block if held else block
        view = memoryview(data)
        start = 0
        while size and start + size <= len(data):
            yield view[start : start + size]
            start += size
            size = next(coming, 0)
        if not size and start < len(data):
            yield view[start:]
            start = len(data)
        held = bytes(view[start:])
    if held:
        yield memoryview(held)

"""Writing contents into packs: what is there already left out, the rest packed, in few files.

Each byte is read once. Where much of a new chunk stood there before, only what is new in it is
stored (see `sharing`). Small chunks share frames of about 1 MiB; threads pack frames and one thread
writes them while the next contents are read.
"""

from __future__ import annotations

import contextlib
import os
from collections import deque
from collections.abc import Callable, Generator, Iterable, Mapping
from contextlib import closing
from typing import TYPE_CHECKING, Any

from blake3 import blake3

from ..errors import LedgerDamaged
from .index import Index
from .packs import PackIndex, PackWriter, Piece, Recipe, Slice, packed
from .preparing import Batch, Chunk, Ended, Part, ahead, prepare
from .reading import EMPTY, Frames
from .sharing import New, Old

if TYPE_CHECKING:
    from concurrent.futures import Future

    _Frame = tuple[Future[bytes], list[Piece]]

__all__ = ["ContentWriter"]

_FRAME = 1 << 20  # a shared frame is closed at this size: enough for the compressor
_ALONE = 512 << 10  # a chunk of this size has a frame of its own
_PACK = 64 << 20  # a pack is finalized at this stored size: few files, few syncs, bounded rewriting
_SYNC = (
    16 << 20
)  # stored bytes after which the disk is set to work, so that finalizing need not wait
_WORKERS = max(2, os.cpu_count() or 2)
_BESIDE = 64 << 10  # bytes; smaller files are read and hashed here: threads would only wait in turn
_UNWRITTEN = 16  # frames that may wait for the disk


class ContentWriter:
    """Stores contents in new packs; `close` makes them durable, `abandon` drops the open pack.

    Packs finalized before an `abandon` stay: what they hold is whole and will not be stored again.
    """

    def __init__(self, index: Index, *, part: str) -> None:
        self._index = index
        self._part = part
        self._pack: PackWriter | None = None
        from concurrent.futures import ThreadPoolExecutor

        self._pool = ThreadPoolExecutor(_WORKERS)
        self._disk = ThreadPoolExecutor(1)  # writes and waits, in order, while others pack
        self._pending: deque[_Frame | Recipe] = deque()
        self._unwritten: deque[Future[Any]] = deque()
        self._finalizing: list[tuple[Future[tuple[str, PackIndex]], PackWriter]] = []
        self._new: set[bytes] = set()
        self._empty = index.is_empty()
        self._plain = _Block()
        self._differences = _Block()
        self._frames: Frames | None = None
        self._packs = 0
        self._unsynced = 0

    def add(
        self,
        contents: Iterable[tuple[str, Iterable[bytes]]],
        sizes: Mapping[str, int],
        before: Mapping[str, bytes],
        *,
        as_read: bool = False,
    ) -> Generator[Ended | Batch, None, None]:
        """Store contents given as (path, blocks); yield the end of each, or a batch, once taken over.

        `sizes` is what each should have; `before` the digest of what stood under some paths before;
        `as_read` stores a content that changed while it was read as it was read.
        """
        slices: list[Slice] = []  # of the large content that is under way
        old: Old | None = None  # what stood there before
        size = 0
        prepared = prepare(contents, sizes, as_read=as_read)
        large = any(size > _BESIDE for size in sizes.values())
        with closing(ahead(prepared) if large else prepared) as items:
            for item in items:
                if isinstance(item, Part):
                    if not slices:
                        old, size = self._old_of(before.get(item.path)), 0
                    slices += self._take(item.chunk, old, size)
                    size += len(item.chunk[1])
                    continue
                if isinstance(item, Ended):
                    self._add_recipe(item.digest, item.size, slices)
                    slices = []
                else:
                    self._take_batch(item, before)
                yield item

    def _take_batch(self, batch: Batch, before: Mapping[str, bytes]) -> None:
        """Store contents that are one chunk each; most are small, new, and stood nowhere before."""
        digests = [digest for _, digest, _ in batch.files]
        stored = set() if self._empty else self._index.chunks_among(digests)
        new = self._new
        for path, digest, data in batch.files:
            if digest in stored or digest in new or not data:
                continue
            if path in before or len(data) >= _ALONE:
                slices = self._take((digest, data), self._old_of(before.get(path)), 0)
                self._add_recipe(digest, len(data), slices)
            else:
                self._add_chunk(Piece(digest, len(data)), data)

    def close(self) -> None:
        """Make all that was added durable."""
        self._flush(self._plain)
        self._flush(self._differences)
        self._take_packed(0)
        self._finalize()
        self._await_written(0)
        self._release()
        for finalized, _ in self._finalizing:
            self._index.add(*finalized.result())

    def abandon(self) -> None:
        """Drop the packs that are not finished."""
        self._release()
        unfinished = [pack for finalized, pack in self._finalizing if finalized.cancelled()]
        for pack in (*unfinished, *((self._pack,) if self._pack is not None else ())):
            pack.abandon()

    def _release(self) -> None:
        self._pool.shutdown(cancel_futures=True)
        self._disk.shutdown(cancel_futures=True)
        if self._frames is not None:
            self._frames.close()

    def _old_of(self, digest: bytes | None) -> Old | None:
        spans = self._index.locate(digest, lasting=True) if digest else None
        if not spans:
            return None
        if self._frames is None:
            self._frames = Frames(self._index)
        return Old(spans, self._frames)

    def _take(self, chunk: Chunk, old: Old | None, at: int) -> list[Slice]:
        """Store a chunk if it is new; `old` is what its content replaces, `at` its offset there.

        Return of what slices it is made.
        """
        digest, data = chunk
        if digest == EMPTY:
            return []
        whole = [Slice(digest, 0, len(data))]
        if self._has_chunk(digest):
            return whole
        parts: list[Slice | New] = [New(data)]
        if old is not None:
            with contextlib.suppress(LedgerDamaged):  # what is damaged is no base for the new
                parts = old.express(data, at)
        if len(parts) == 1 and isinstance(parts[0], New):
            self._add_chunk(Piece(digest, len(data), parts[0].base), parts[0].stored)
            return whole
        return [part if isinstance(part, Slice) else self._add_new(part.stored) for part in parts]

    def _add_new(self, data: bytes) -> Slice:
        digest = blake3(data).digest()
        if not self._has_chunk(digest):
            self._add_chunk(Piece(digest, len(data)), data)
        return Slice(digest, 0, len(data))

    def _add_recipe(self, digest: bytes | None, size: int, slices: list[Slice]) -> None:
        """Note of what a content is made, unless it is one chunk."""
        if digest is None or not slices or slices[0].digest == digest:
            return
        if digest not in self._new and not self._index.has(digest):
            self._new.add(digest)
            self._pending.append(Recipe(digest, size, tuple(slices)))

    def _has_chunk(self, digest: bytes) -> bool:
        return digest in self._new or self._index.chunk(digest, lasting=True) is not None

    def _add_chunk(self, piece: Piece, data: bytes) -> None:
        self._new.add(piece.digest)
        block = self._differences if piece.base else self._plain
        if piece.size >= _ALONE:  # it needs no company to be worth a frame, and no copy
            self._flush(block)
            self._submit(data, [piece])
            return
        block.add(piece, data)
        if block.size >= _FRAME:
            self._flush(block)

    def _flush(self, block: _Block) -> None:
        if block.pieces:
            self._submit(*block.take())

    def _submit(self, data: bytes | bytearray, pieces: list[Piece]) -> None:
        self._pending.append(
            (self._pool.submit(packed, data, self._index.storage.encryption), pieces)
        )
        self._take_packed(2 * _WORKERS)

    def _take_packed(self, leave: int) -> None:
        """Hand packed frames to the disk, in order, until `leave` are left."""
        while len(self._pending) > leave:
            item = self._pending.popleft()
            if self._pack is None:
                self._packs += 1
                self._pack = PackWriter(f"{self._part}-{self._packs}")
            if isinstance(item, Recipe):
                self._pack.add_recipe(item)
                continue
            frame = item[0].result()
            self._pack.add_frame(len(frame), item[1])
            self._on_disk(self._pack.write, frame)
            self._unsynced += len(frame)
            if self._pack.stored_bytes >= _PACK:
                self._finalize()
            elif self._unsynced >= _SYNC:
                self._unsynced = 0
                self._on_disk(self._pack.sync)
            self._await_written(_UNWRITTEN)

    def _finalize(self) -> None:
        if self._pack is not None:
            finalized = self._disk.submit(self._pack.finalize, self._index.storage)
            self._unwritten.append(finalized)
            self._finalizing.append((finalized, self._pack))
            self._pack = None
            self._unsynced = 0

    def _on_disk(self, work: Callable[..., object], *args: object) -> None:
        self._unwritten.append(self._disk.submit(work, *args))

    def _await_written(self, leave: int) -> None:
        """Wait until at most `leave` pieces of work are left for the disk; raise what it raised."""
        while len(self._unwritten) > leave:
            self._unwritten.popleft().result()


class _Block:
    """Chunks gathered until they fill a frame."""

    def __init__(self) -> None:
        self._data = bytearray()
        self.pieces: list[Piece] = []

    @property
    def size(self) -> int:
        return len(self._data)

    def add(self, piece: Piece, data: bytes) -> None:
        self._data += data
        self.pieces.append(piece)

    def take(self) -> tuple[bytearray, list[Piece]]:
        taken = self._data, self.pieces
        self._data, self.pieces = bytearray(), []
        return taken

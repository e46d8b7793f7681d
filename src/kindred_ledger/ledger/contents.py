"""Contents: writing them into packs and reading them back, verified.

Writing hashes each block once, leaves out what is stored already, gathers small files into
blocks and lets threads compress while the next file is read. Reading goes through the packs in
order, unpacks each frame once, a few ahead of need, and never hands on a byte whose digest was
not checked.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor

from blake3 import blake3

from ..errors import LedgerDamaged
from . import zstd
from .index import Index, Location
from .packs import PackWriter, Recipe, read_frame

__all__ = ["ContentWriter", "read_contents"]

CHUNK = 4 << 20  # larger files are cut into chunks of this size, so memory stays bounded
_SMALL = 512 << 10  # chunks up to this size share a frame
_FRAME = 1 << 20  # a shared frame is closed at this size: enough for the compressor, cheap to seek
_PACK = 64 << 20  # a pack is sealed at this stored size: few files, few syncs, bounded rewriting
_SYNC = 16 << 20  # stored bytes after which the disk is set to work, so that sealing need not wait
_WORKERS = max(2, os.cpu_count() or 2)
_AHEAD = 4  # frames unpacked ahead of need

_EMPTY = blake3(b"").digest()  # the digest of nothing, which is stored nowhere

# Where a content begins (pack and offset), its name, its digest, and its chunks if all are there.
_Wanted = tuple[tuple[int, int], str, bytes, tuple[Location, ...] | None]
Frame = tuple[Future[bytes], list[tuple[bytes, int]]]


class ContentWriter:
    """Stores contents in new packs; `close` makes them durable, `abandon` drops the open pack.

    Packs sealed before an `abandon` stay: what they hold is whole and will not be stored again.
    """

    def __init__(self, index: Index, *, packs_folder: str, part: str) -> None:
        self._index = index
        self._folder = packs_folder
        self._part = part
        self._pack: PackWriter | None = None
        self._pool = ThreadPoolExecutor(_WORKERS)
        self._syncing = ThreadPoolExecutor(1)  # waits for the disk while others compress
        self._pending: deque[Frame | Recipe] = deque()
        self._sealing: list[Future[object]] = []
        self._new: set[bytes] = set()
        self._block = bytearray()
        self._block_chunks: list[tuple[bytes, int]] = []
        self._packs = 0
        self._unsynced = 0
        self.stored_bytes = 0

    def add(self, blocks: Iterable[bytes]) -> tuple[bytes, int]:
        """Store one content given in blocks; return its digest and size in bytes."""
        whole = blake3()
        digests: list[bytes] = []
        size = 0
        for chunk in _rechunk(blocks):
            digest = blake3(chunk).digest()
            if len(chunk) == CHUNK or digests:
                whole.update(chunk)
            digests.append(digest)
            size += len(chunk)
            if not self._known(digest):
                self._new.add(digest)
                self._add_chunk(digest, chunk)
        if len(digests) <= 1:
            return digests[0] if digests else whole.digest(), size
        recipe = Recipe(whole.digest(), size, tuple(digests))
        if not self._known(recipe.digest):
            self._new.add(recipe.digest)
            self._pending.append(recipe)
        return recipe.digest, size

    def close(self) -> None:
        """Make all that was added durable."""
        self._flush_block()
        self._write_pending(0)
        self._seal()
        for sealed in self._sealing:
            sealed.result()
        self._pool.shutdown()
        self._syncing.shutdown()
        self._index.sync()

    def abandon(self) -> None:
        """Drop the pack that is not finished."""
        self._pool.shutdown(cancel_futures=True)
        self._syncing.shutdown(cancel_futures=True)
        if self._pack is not None:
            self._pack.abandon()

    def _known(self, digest: bytes) -> bool:
        return digest in self._new or self._index.has(digest)

    def _add_chunk(self, digest: bytes, chunk: bytes) -> None:
        if len(chunk) > _SMALL:
            self._submit(chunk, [(digest, len(chunk))])
            return
        self._block += chunk
        self._block_chunks.append((digest, len(chunk)))
        if len(self._block) >= _FRAME:
            self._flush_block()

    def _flush_block(self) -> None:
        if self._block_chunks:
            self._submit(self._block, self._block_chunks)
            self._block, self._block_chunks = bytearray(), []

    def _submit(self, data: bytes | bytearray, chunks: list[tuple[bytes, int]]) -> None:
        self._pending.append((self._pool.submit(zstd.compress, data), chunks))
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
            frame, chunks = item
            before = self._pack.stored_bytes
            self._pack.add_frame(frame.result(), chunks)
            self._unsynced += self._pack.stored_bytes - before
            if self._pack.stored_bytes >= _PACK:
                self._seal()
            elif self._unsynced >= _SYNC:
                self._unsynced = 0
                self._sealing.append(self._syncing.submit(self._pack.sync))

    def _seal(self) -> None:
        if self._pack is not None:
            self.stored_bytes += self._pack.stored_bytes
            self._sealing.append(self._syncing.submit(self._pack.seal, self._folder))
            self._pack = None
            self._unsynced = 0


def _rechunk(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Cut a stream of blocks into chunks, whatever the size of the blocks."""
    held = b""
    for block in blocks:
        if held or len(block) > CHUNK:
            held += block
            while len(held) >= CHUNK:
                yield held[:CHUNK]
                held = held[CHUNK:]
        elif len(block) == CHUNK:
            yield block
        else:
            held = block
    if held:
        yield held


def read_contents(
    index: Index, wanted: Iterable[tuple[str, bytes]], *, where: str
) -> Iterator[tuple[str, Iterator[bytes]]]:
    """Yield (name, blocks) for each wanted (name, digest), in the order they lie in the packs.

    `where` is what the names are names in, for errors. One content that is damaged or missing
    does not keep the others from being read.

    Raises:
        LedgerDamaged: while the blocks are taken: the content is missing, or its bytes do not
            have its digest.
    """
    plan: list[_Wanted] = []
    for name, digest in wanted:
        places = () if digest == _EMPTY else index.locate(digest)
        first = (places[0].pack, places[0].at) if places else (0, 0)
        plan.append((first, name, digest, places))
    plan.sort(key=lambda item: item[:2])
    with _Frames(index, [part for item in plan for part in item[3] or ()]) as frames:
        for _, name, digest, places in plan:
            yield name, _verified(frames, f"{where}/{name}", digest, places)


def _verified(
    frames: _Frames, name: str, digest: bytes, places: tuple[Location, ...] | None
) -> Iterator[bytes]:
    if places is None:
        raise LedgerDamaged(
            f"its content {digest.hex()[:16]}… is not in the ledger",
            where=name,
            remedy="A pack may be missing; bring it back from a copy of the ledger.",
        )
    whole = blake3()
    for part in places:
        try:
            chunk = frames.chunk(part)
        except LedgerDamaged as error:
            raise error.inside(name) from None
        if len(places) > 1:
            whole.update(chunk)
        yield chunk
    if len(places) > 1 and whole.digest() != digest:
        raise LedgerDamaged("its chunks do not add up to its digest", where=name)


class _Frames:
    """Unpacked frames in the order they will be needed, a few ahead."""

    def __init__(self, index: Index, parts: list[Location]) -> None:
        self._index = index
        self._fds: dict[str, int] = {}
        needed: list[tuple[int, int]] = []
        for part in parts:
            key = part.pack, index.frames(part.pack)[1].frame_at(part.at)
            if not needed or needed[-1] != key:
                needed.append(key)
        self._needed = iter(needed)
        self._ahead: deque[tuple[tuple[int, int], Future[bytes]]] = deque()
        self._current: tuple[tuple[int, int], Future[bytes]] = ((-1, -1), Future())
        self._pool = ThreadPoolExecutor(_WORKERS)

    def __enter__(self) -> _Frames:
        return self

    def __exit__(self, *exc: object) -> None:
        self._pool.shutdown(cancel_futures=True)
        for fd in self._fds.values():
            os.close(fd)

    def chunk(self, part: Location) -> bytes:
        """Return the bytes of a chunk, whose digest was checked."""
        path, frames = self._index.frames(part.pack)
        number = frames.frame_at(part.at)
        try:
            content = self._frame((part.pack, number))
        except (
            LedgerDamaged
        ) as error:  # the frame's own, raised for every chunk in it: a new one each
            raise LedgerDamaged(error.what, where=path, remedy=error.remedy) from None
        start = part.at - frames.offsets[number]
        whole = len(content) == part.size
        chunk = content if whole else content[start : start + part.size]
        if blake3(chunk).digest() != part.digest:
            raise LedgerDamaged("a chunk does not have its digest", where=path)
        return chunk

    def _frame(self, key: tuple[int, int]) -> bytes:
        while self._current[0] != key:
            while len(self._ahead) < _AHEAD and (coming := next(self._needed, None)):
                self._ahead.append((coming, self._pool.submit(self._unpack, coming)))
            if not self._ahead:  # asked for out of order: a caller skipped or repeated a file
                self._current = key, self._pool.submit(self._unpack, key)
                break
            self._current = self._ahead.popleft()
        return self._current[1].result()

    def _unpack(self, key: tuple[int, int]) -> bytes:
        path, frames = self._index.frames(key[0])  # cached by __init__: SQLite stays on its thread
        if path not in self._fds:
            try:
                fd = os.open(path, os.O_RDONLY | getattr(os, "O_BINARY", 0))
            except OSError as error:
                raise LedgerDamaged(f"the pack cannot be opened: {error}", where=path) from error
            if self._fds.setdefault(path, fd) != fd:
                os.close(fd)
        at = key[1]
        return read_frame(self._fds[path], frames.starts[at], frames.lengths[at], frames.sizes[at])

"""Preparing contents to be stored: read, cut and hashed in a thread of their own, ahead of the writer.

Reading and hashing release the interpreter lock, so they run beside the writer's work and the
compressor's. Small files travel in batches: handing over each would cost more than hashing it.
"""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Generator, Iterable, Iterator, Mapping
from typing import NamedTuple, TypeVar

from blake3 import blake3

from ..errors import PlaceChanged

__all__ = ["CHUNK", "Ended", "Part", "Prepared", "ahead", "prepare"]

CHUNK = 4 << 20  # bytes; larger files are cut, so that memory stays bounded
_BATCH = 1 << 20  # bytes of small files handed over at once
_MOST = 128  # and how many of them
_DEPTH = 3  # items prepared ahead, of up to some 4 MiB each
_T = TypeVar("_T")

Chunk = tuple[bytes, bytes]  # digest and bytes


class Part(NamedTuple):
    """The next chunk of a large content."""

    path: str
    chunk: Chunk


class Ended(NamedTuple):
    """The end of a content: its digest, None if it is not to be stored.

    `data` is all of it where it is one chunk; `read_at_ns` is when reading began, clock time;
    `settled` tells that it held still while it was read.
    """

    path: str
    digest: bytes | None
    size: int
    read_at_ns: int
    data: bytes | None = None
    settled: bool = True


Prepared = Part | list[Ended]


def prepare(
    contents: Iterable[tuple[str, Iterable[bytes]]], sizes: Mapping[str, int], *, as_read: bool
) -> Iterator[Prepared]:
    """Read contents and yield them cut and hashed; `sizes` is what each should have.

    `as_read` takes a content that changed while it was read as it was read.
    """
    batch: list[Ended] = []
    held = 0
    for path, blocks in contents:
        read_at = time.time_ns()
        large: Iterable[bytes] = blocks
        if sizes[path] <= CHUNK:
            data, settled = _gathered(blocks)
            if not settled and not as_read:
                batch.append(Ended(path, None, 0, read_at, settled=False))
                continue
            if len(data) <= CHUNK:
                digest = blake3(data).digest()
                batch.append(Ended(path, digest, len(data), read_at, data, settled))
                held += len(data)
                if held >= _BATCH or len(batch) >= _MOST:
                    yield batch
                    batch, held = [], 0
                continue
            large = [data]
        if batch:
            yield batch
            batch, held = [], 0
        yield from _hashed(path, large, read_at, as_read)
    if batch:
        yield batch


def _gathered(blocks: Iterable[bytes]) -> tuple[bytes, bool]:
    """Return what was read, and whether it held still."""
    parts: list[bytes] = []
    settled = True
    try:
        parts.extend(blocks)
    except PlaceChanged:
        settled = False
    return parts[0] if len(parts) == 1 else b"".join(parts), settled


def _hashed(path: str, blocks: Iterable[bytes], read_at: int, as_read: bool) -> Iterator[Prepared]:
    whole = blake3()
    size = 0
    settled = True
    try:
        for chunk in _cut(blocks):
            whole.update(chunk)
            size += len(chunk)
            yield Part(path, (blake3(chunk).digest(), chunk))
    except PlaceChanged:
        settled = False
    digest = whole.digest() if settled or as_read else None
    yield [Ended(path, digest, size, read_at, settled=settled)]


def _cut(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Cut a stream of blocks into chunks, whatever the size of the blocks."""
    held = b""
    changed = None
    try:
        for block in blocks:
            data = held + block if held else block
            whole = len(data) - len(data) % CHUNK
            for start in range(0, whole, CHUNK):
                yield data if len(data) == CHUNK else data[start : start + CHUNK]
            held = data[whole:]
    except PlaceChanged as error:
        changed = error
    if held:
        yield held
    if changed is not None:
        raise changed


def ahead(items: Iterator[_T]) -> Generator[_T, None, None]:
    """Yield what an iterator gives, which runs in a thread a few items ahead.

    What it raises is raised here. It is stopped at its next item when this is closed.
    """
    handed: queue.Queue[tuple[_T | None, BaseException | None]] = queue.Queue(_DEPTH)
    stopped = threading.Event()

    def run() -> None:
        try:
            for item in items:
                handed.put((item, None))
                if stopped.is_set():
                    return
            handed.put((None, None))
        except BaseException as error:  # noqa: BLE001  # whatever it is, it is raised where it is awaited
            handed.put((None, error))

    thread = threading.Thread(target=run, name="preparing", daemon=True)
    thread.start()
    try:
        while True:
            item, error = handed.get()
            if error is not None:
                raise error
            if item is None:
                return
            yield item
    finally:
        stopped.set()
        while thread.is_alive():
            try:
                handed.get_nowait()
            except queue.Empty:
                thread.join(0.01)

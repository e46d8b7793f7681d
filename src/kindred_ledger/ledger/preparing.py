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

from ..errors import PlaceChanged, Vanished

__all__ = ["CHUNK", "Batch", "Ended", "Part", "Prepared", "ahead", "prepare"]

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

    `read_at_ns` is when reading began, clock time; `held_still` tells that it held still while it was
    read.
    """

    path: str
    digest: bytes | None
    size: int
    read_at_ns: int
    held_still: bool = True


class Batch(NamedTuple):
    """Contents of one chunk each, with digest and bytes, that were read from `read_at_ns` on."""

    files: list[tuple[str, bytes, bytes]]
    read_at_ns: int


Prepared = Part | Ended | Batch


def prepare(
    contents: Iterable[tuple[str, Iterable[bytes]]], sizes: Mapping[str, int], *, as_read: bool
) -> Generator[Prepared, None, None]:
    """Read contents and yield them cut and hashed; `sizes` is what each should have.

    `as_read` takes a content that changed while it was read as it was read.
    """
    files: list[tuple[str, bytes, bytes]] = []
    held, began = 0, time.time_ns()
    for path, blocks in contents:
        if type(blocks) is list and len(blocks) == 1:
            data = blocks[0]
        elif sizes[path] <= CHUNK:
            data, trouble = _gathered(blocks)
            if trouble is not None:
                yield from _hashed(path, [data] if data else [], as_read, trouble)
                continue
        else:
            yield from _hashed(path, blocks, as_read)
            continue
        if len(data) > CHUNK:
            yield from _hashed(path, [data], as_read)
            continue
        files.append((path, blake3(data).digest(), data))
        held += len(data)
        if held >= _BATCH or len(files) >= _MOST:
            yield Batch(files, began)
            files, held, began = [], 0, time.time_ns()
    if files:
        yield Batch(files, began)


def _gathered(blocks: Iterable[bytes]) -> tuple[bytes, PlaceChanged | None]:
    """Return what was read, and what disturbed it."""
    parts: list[bytes] = []
    trouble = None
    try:
        parts.extend(blocks)
    except PlaceChanged as error:
        trouble = error
    return parts[0] if len(parts) == 1 else b"".join(parts), trouble


def _hashed(
    path: str, blocks: Iterable[bytes], as_read: bool, trouble: PlaceChanged | None = None
) -> Iterator[Prepared]:
    """Yield a content in parts, and its end; `trouble` is what disturbed the reading of it."""
    began = time.time_ns()
    whole = blake3()
    size = 0
    try:
        for chunk in _cut(blocks):
            whole.update(chunk)
            size += len(chunk)
            yield Part(path, (blake3(chunk).digest(), chunk))
    except PlaceChanged as error:
        trouble = error
    wanted = trouble is None or (as_read and not isinstance(trouble, Vanished))
    yield Ended(path, whole.digest() if wanted else None, size, began, trouble is None)


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

    Raises:
        Exception: whatever the iterator raises, where it would have come.
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

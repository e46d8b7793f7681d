"""Contents of single files of a place, mapped where they lie on disk, and what files share."""

from __future__ import annotations

import mmap
import os
import stat as stat_bits
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

from ..formats.vcdiff import anchor_hashes
from ..places import MemoryPlace, Place, folder_with, read_bytes, refusals

__all__ = ["SKETCH", "MemoryFile", "content", "sketch"]

SKETCH = 64  # numbers: a share is told to about a tenth


class MemoryFile(MemoryPlace):
    """One file in memory, as a place of its own."""

    def __init__(self, name: str, data: bytes) -> None:
        super().__init__({name: data})
        self.name = name


@contextmanager
def content(place: Place, path: str) -> Iterator[Any]:
    """Hold the content of a file as something that is sliced like bytes."""
    mapped = _mapped(place, path)
    if mapped is None:
        yield read_bytes(place, path)
        return
    try:
        yield mapped
    finally:
        with suppress(BufferError):  # an error on its way may hold parts of it
            mapped.close()


def _mapped(place: Place, path: str) -> mmap.mmap | None:
    """Map a file where it lies on disk; None if it lies elsewhere, or is empty or no file."""
    found = folder_with(place, path)
    if found is None:
        return None
    folder, inner = found
    with refusals(folder.path(inner)), folder.opened() as opened:
        fd = opened.open(inner, os.O_RDONLY)
        try:
            stat = os.fstat(fd)
            if not stat_bits.S_ISREG(stat.st_mode) or not stat.st_size:
                return None
            return mmap.mmap(fd, 0, access=mmap.ACCESS_READ)
        finally:
            os.close(fd)


def sketch(data: Any) -> list[int]:
    """Return the smallest hashes of a content's anchors, at most `SKETCH`.

    How many of them two contents have in common tells how much of both is the same (Broder, "On the
    resemblance and containment of documents", 1997).
    """
    found: list[int] = sorted({*anchor_hashes(data).tolist()})[:SKETCH]
    return found

"""Contents of single files of a place, mapped where they lie on disk, and what files share."""

from __future__ import annotations

import mmap
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

from ..formats.vcdiff import anchor_hashes
from ..places import MemoryPlace, Place, disk_path, read_bytes

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
    there = disk_path(place, path)
    if there is None or not os.path.getsize(there):
        yield read_bytes(place, path)
        return
    with open(there, "rb") as file:
        mapped = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
    try:
        yield mapped
    finally:
        with suppress(BufferError):  # an error on its way may hold parts of it
            mapped.close()


def sketch(data: Any) -> list[int]:
    """Return the smallest hashes of a content's anchors, at most `SKETCH`.

    How many of them two contents have in common tells how much of both is the same (Broder, "On the
    resemblance and containment of documents", 1997).
    """
    found: list[int] = sorted({*anchor_hashes(data).tolist()})[:SKETCH]
    return found

"""The cache's sum: whether the file of the cache is as it was when a command had ended.

Beside `index.sqlite` stands its BLAKE3 digest, with the size and time the file had then. While those fit,
nobody has written to it, and any other byte in it is damage. When they do not, the sum says nothing.
"""

from __future__ import annotations

import contextlib
import os
import struct
import time

from blake3 import blake3

from ..places import new_file
from ..small_files import read_small

__all__ = ["ENDS", "SUM", "faults_of", "is_as_noted", "write_sum"]

SUM = ".sum"  # behind the cache's name
ENDS = ("", "-journal", "-wal", "-shm", SUM)  # of the files that belong to it
_SUM = struct.Struct("<32sqq")  # digest, size, time of change in nanoseconds
_GRAIN_SECONDS = 5.0  # far more than a clock's
_CHECK = 16  # bytes of a digest of the sum itself


def write_sum(path: str) -> None:
    """Note how the cache at `path` is now; where that cannot be noted, nothing is."""
    with contextlib.suppress(OSError):
        before = _state_of(path)
        digest = blake3().update_mmap(path).digest()
        if _state_of(path) != before:
            return  # somebody is writing
        data = _SUM.pack(digest, *before)
        beside = f"{path}{SUM}.{os.urandom(4).hex()}.part"
        with new_file(beside) as file:
            file.write(data + blake3(data).digest()[:_CHECK])
        os.replace(beside, path + SUM)


def _state_of(path: str) -> tuple[int, int]:
    found = os.stat(path)  # its time of access changes as it is read
    return found.st_size, found.st_mtime_ns


def faults_of(path: str) -> dict[str, str]:
    """Return what is wrong with the cache at `path`, and with its sum, by the end of their names."""
    links = {end: "it is a link" for end in ENDS if os.path.islink(path + end)}
    if links:
        return links
    try:
        noted = _noted(path)
        if noted is None:
            return {SUM: "it is not as it was written; it was made anew"}
        if _fits(path, *noted) is False:
            return {"": "it is not as it was written; it was made anew"}
    except OSError:
        pass
    return {}


def is_as_noted(path: str) -> bool | None:
    """Tell whether the cache at `path` is as it was noted; None if it was not, or written to since.

    What was written just now may have been written to once more within the grain of the clock: of that
    nothing is told.
    """
    try:
        noted = _noted(path)
        if noted is None or time.time() - noted[1][1] / 1e9 < _GRAIN_SECONDS:
            return None
        return _fits(path, *noted)
    except OSError:
        return None


def _noted(path: str) -> tuple[bytes, tuple[int, int]] | None:
    """Return the digest that was noted of a cache and its state then; None if the note is damaged."""
    stored = read_small(path + SUM, most=1 << 10, follow=False)
    data, check = stored[: _SUM.size], stored[_SUM.size :]
    if len(data) != _SUM.size or check != blake3(data).digest()[:_CHECK]:
        return None
    digest, size_bytes, mtime_ns = _SUM.unpack(data)
    return digest, (size_bytes, mtime_ns)


def _fits(path: str, digest: bytes, state: tuple[int, int]) -> bool | None:
    """Tell whether a cache has a digest; None if somebody wrote to it since it was in a state."""
    if _state_of(path) != state:
        return None
    same = blake3().update_mmap(path).digest() == digest
    return same if _state_of(path) == state else None

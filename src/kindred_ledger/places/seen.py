"""Seen: which digest a file had when it was last read, so that an unchanged one is not read again.

A cache, never the truth. A digest is believed only while size, modification time, change time
and inode are what they were, and only if the file was already older than the clock's grain when
it was read (the racy case: written twice within one tick). Saved as plain columns; loading it
cannot run code.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import Any

__all__ = ["Seen"]

# A file modified within this time before it was read may change again without a new time stamp:
# file systems tick every few milliseconds, or (FAT) round to two whole seconds.
_GRAIN_NS = 50_000_000
_COARSE_GRAIN_NS = 2_000_000_000
_SECOND_NS = 1_000_000_000


class Seen:
    """Digests by path and file status, for one place."""

    __slots__ = ("_fresh", "_known", "_now", "_prefix", "_strip")

    def __init__(self, columns: dict[str, Any] | None = None) -> None:
        self._prefix = ""
        self._strip = ""
        self._fresh: dict[str, tuple[bytes, int]] = {}
        self._now: dict[str, tuple[int, ...]] = {}
        self._known: dict[str, tuple[tuple[int, ...], bytes]] = {}
        if columns:
            digests = bytes.fromhex(columns["digests"])
            stats = zip(*(columns[name] for name in _COLUMNS), strict=True)
            self._known = {
                path: (key, digests[at : at + 32])
                for path, key, at in zip(
                    columns["paths"], stats, range(0, len(digests), 32), strict=True
                )
            }

    def under(self, folder: str) -> Seen:
        """Return a view for what lies in `folder`: its paths are relative to that."""
        return self._view(prefix=f"{self._prefix}{folder}/")

    def above(self, folder: str) -> Seen:
        """Return a view for the place of which this one shows only `folder`."""
        return self._view(strip=f"{folder}/")

    def _view(self, *, prefix: str = "", strip: str = "") -> Seen:
        view = Seen()
        view._prefix, view._strip = prefix or self._prefix, strip
        view._known, view._now, view._fresh = self._known, self._now, self._fresh
        return view

    def digest(self, path: str, stat: os.stat_result) -> bytes | None:
        """Return the digest of the file if its status is the one it was last read with."""
        key = (stat.st_size, stat.st_mtime_ns, stat.st_ctime_ns, stat.st_ino)
        name = self._prefix + path.removeprefix(self._strip)
        self._now[name] = key
        known = self._known.get(name)
        return known[1] if known and known[0] == key else None

    def learn(self, path: str, digest: bytes, read_at_ns: int) -> None:
        """Remember what was read at `read_at_ns` (clock time) under the status last looked up."""
        self._fresh[self._prefix + path] = (digest, read_at_ns)

    def forget(self, paths: Iterable[str]) -> None:
        """Forget what was looked up: what these files hold is not what is kept of them."""
        for path in paths:
            self._now.pop(self._prefix + path, None)

    def columns(self) -> dict[str, Any]:
        """Return what is worth saving: the paths looked up this time, racy ones left out."""
        paths: list[str] = []
        keys: list[tuple[int, ...]] = []
        digests: list[bytes] = []
        for path, key in self._now.items():
            if path in self._fresh:
                digest, read_at = self._fresh[path]
                if any(_racy(stamp, read_at) for stamp in key[1:3]):
                    continue
            elif path in self._known and self._known[path][0] == key:
                digest = self._known[path][1]
            else:
                continue
            paths.append(path)
            keys.append(key)
            digests.append(digest)
        stats = list(zip(*keys, strict=True)) or [()] * len(_COLUMNS)
        return {
            "paths": paths,
            **dict(zip(_COLUMNS, stats, strict=True)),
            "digests": b"".join(digests).hex(),
        }


def _racy(stamp_ns: int, read_at_ns: int) -> bool:
    """Tell whether a file stamped so may have changed after it was read without showing it."""
    grain = _GRAIN_NS if stamp_ns % _SECOND_NS else _COARSE_GRAIN_NS
    return stamp_ns > read_at_ns - grain


_COLUMNS = ("size", "mtime_ns", "ctime_ns", "inode")

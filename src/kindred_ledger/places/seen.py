"""Seen: which digest a file had when it was last read, so that an unchanged one is not read again.

A cache, never the truth. A digest is believed only while size, modification time, change time
and inode are what they were, and only if the file was already older than the clock's grain when
it was read (the racy case: written twice within one tick). Saved as plain columns; loading it
cannot run code.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from typing import Any

__all__ = ["Seen"]

# A file modified within this time before it was read may change again without a new time stamp:
# file systems tick every few milliseconds, or (FAT) round to two whole seconds.
_GRAIN_NS = 50_000_000
_COARSE_GRAIN_NS = 2_000_000_000
_SECOND_NS = 1_000_000_000


class Seen:
    """Digests by path and file status, for one place, and which contents the ledger is known to hold."""

    __slots__ = (
        "_changed",
        "_digests",
        "_fresh",
        "_kept",
        "_kept_before",
        "_keys",
        "_now",
        "_prefix",
        "_strip",
    )

    def __init__(self, columns: dict[str, Any] | None = None) -> None:
        self._prefix = ""
        self._strip = ""
        self._fresh: dict[str, tuple[bytes, int]] = {}  # what was read just now, and when
        self._now: dict[str, tuple[int, ...]] = {}  # the status of what was looked up
        self._changed: set[str] = set()  # those whose status was another
        self._keys: dict[str, tuple[int, ...]] = {}  # the status with which it was read
        self._digests: dict[str, bytes] = {}
        self._kept: set[str] = set()
        self._kept_before = 0
        if columns:
            raw = columns["digests"]
            digests = [raw[at : at + 32] for at in range(0, len(raw), 32)]
            stats = zip(*(columns[name] for name in _COLUMNS), strict=True)
            paths = columns["paths"]
            self._keys = dict(zip(paths, stats, strict=True))
            self._digests = dict(zip(paths, digests, strict=True))
            if columns["kept"] is True:
                self._kept = set(paths)
            else:
                self._kept = {paths[row] for row in columns["kept"]}
            self._kept_before = len(self._kept)

    def again(self) -> Seen:
        """Return what is known here, for another look."""
        other = Seen()
        other._keys, other._digests = self._keys, self._digests
        other._kept, other._kept_before = set(self._kept), len(self._kept)
        return other

    def under(self, folder: str) -> Seen:
        """Return a view for what lies in `folder`: its paths are relative to that."""
        return self._view(prefix=f"{self._prefix}{folder}/")

    def above(self, folder: str) -> Seen:
        """Return a view for the place of which this one shows only `folder`."""
        return self._view(strip=f"{folder}/")

    def _view(self, *, prefix: str = "", strip: str = "") -> Seen:
        view = Seen()
        view._prefix, view._strip = prefix or self._prefix, strip
        view._keys, view._digests = self._keys, self._digests
        view._now, view._fresh, view._kept = self._now, self._fresh, self._kept
        view._changed = self._changed
        return view

    def digests(self, paths: Sequence[str], keys: Sequence[tuple[int, ...]]) -> list[bytes | None]:
        """Return the digests of files whose status is the one they were last read with.

        A status is size, modification time, change time and inode; None stands for the others.
        """
        if self._prefix or self._strip:
            paths = [self._name(path) for path in paths]
        self._now.update(zip(paths, keys, strict=True))
        before = list(map(self._keys.get, paths))
        if before == keys:  # a whole folder as it was, compared at once
            return list(map(self._digests.get, paths))
        changed = [path for path, was, is_ in zip(paths, before, keys, strict=True) if was != is_]
        self._changed.update(changed)
        self._kept.difference_update(changed)
        return [None if path in self._changed else self._digests[path] for path in paths]

    def digest(self, path: str, stat: os.stat_result) -> bytes | None:
        """Return the digest of one file if its status is the one it was last read with."""
        key = (stat.st_size, stat.st_mtime_ns, stat.st_ctime_ns, stat.st_ino)
        return self.digests([path], [key])[0]

    def _name(self, path: str) -> str:
        return self._prefix + path.removeprefix(self._strip)

    def learn(self, found: Iterable[tuple[str, bytes]], read_at_ns: int) -> None:
        """Remember what was read from `read_at_ns` (clock time) on under the status last looked up."""
        for path, digest in found:
            self._fresh[self._prefix + path] = (digest, read_at_ns)

    @property
    def kept(self) -> set[str]:
        """The files of which the ledger is known to hold what `digests` says."""
        return self._kept

    def keep(self, paths: Iterable[str]) -> None:
        """Note that the ledger holds what these files hold."""
        self._kept.update(paths)

    def forget(self, paths: Iterable[str]) -> None:
        """Forget what was looked up: what these files hold is not what is kept of them."""
        for path in paths:
            self._now.pop(self._prefix + path, None)
            self._fresh.pop(self._prefix + path, None)

    @property
    def unchanged(self) -> bool:
        """Whether what was looked up is just what was known, so that there is nothing to save."""
        return not self._fresh and len(self._kept) == self._kept_before and self._now == self._keys

    def settled(self) -> Seen:
        """Return what is worth knowing: the paths looked up this time, racy ones left out."""
        other = Seen()
        keys = dict(self._now)
        for path in self._changed - self._fresh.keys():
            keys.pop(path, None)
        for path, (_, read_at_ns) in self._fresh.items():
            if path in keys and any(_racy(stamp, read_at_ns) for stamp in keys[path][1:3]):
                del keys[path]
        digests = self._digests | {path: digest for path, (digest, _) in self._fresh.items()}
        other._keys = keys
        other._digests = dict(zip(keys, map(digests.__getitem__, keys), strict=True))
        other._kept = self._kept & keys.keys()
        return other

    def columns(self) -> dict[str, Any]:
        """Return what is known, to be saved."""
        paths, kept = list(self._keys), self._kept
        stats = list(zip(*self._keys.values(), strict=True)) or [()] * len(_COLUMNS)
        return {
            "paths": paths,
            **dict(zip(_COLUMNS, stats, strict=True)),
            "digests": b"".join(self._digests.values()),
            "kept": len(kept) == len(paths) or [r for r, path in enumerate(paths) if path in kept],
        }


def _racy(stamp_ns: int, read_at_ns: int) -> bool:
    """Tell whether a file stamped so may have changed after it was read without showing it."""
    grain = _GRAIN_NS if stamp_ns % _SECOND_NS else _COARSE_GRAIN_NS
    return stamp_ns > read_at_ns - grain


_COLUMNS = ("size", "mtime_ns", "ctime_ns", "inode")

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
_MANY, _LITTLE = 1000, 50  # files; one in so many of which something new is known
_LITTLE_BYTES = 4 << 20
_SECOND_NS = 1_000_000_000


class Seen:
    """Digests by path and file status, for one place, and which contents the ledger is known to hold.

    >>> seen = kl.Seen()
    >>> kl.scan(kl.FolderPlace("server"), seen=seen) == kl.scan(kl.FolderPlace("server"), seen=seen)
    True
    """

    __slots__ = (
        "_changed",
        "_digests",
        "_fresh",
        "_keys",
        "_now",
        "_prefix",
        "_strip",
        "_unkept",
        "_unkept_before",
    )

    def __init__(self, columns: dict[str, Any] | None = None) -> None:
        self._prefix = ""
        self._strip = ""
        self._fresh: dict[str, tuple[bytes, int]] = {}  # what was read just now, and when
        self._now: dict[str, tuple[int, ...]] = {}  # the status of what was looked up
        self._changed: set[str] = set()  # those whose status was another
        self._keys: dict[str, tuple[int, ...]] = {}  # the status with which it was read
        self._digests: dict[str, bytes] = {}
        self._unkept: set[str] = set()  # of those known, what the ledger is not known to hold
        self._unkept_before = 0
        if columns:
            raw = columns["digests"]
            digests = [raw[at : at + 32] for at in range(0, len(raw), 32)]
            stats = zip(*(columns[name] for name in _COLUMNS), strict=True)
            paths = columns["paths"]
            self._keys = dict(zip(paths, stats, strict=True))
            self._digests = dict(zip(paths, digests, strict=True))
            if columns["kept"] is not True:
                self._unkept = set(paths).difference(paths[row] for row in columns["kept"])
            self._unkept_before = len(self._unkept)

    def again(self) -> Seen:
        """Return what is known here, for another look."""
        other = Seen()
        other._keys, other._digests = self._keys, self._digests
        other._unkept, other._unkept_before = set(self._unkept), len(self._unkept)
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
        view._now, view._fresh, view._unkept = self._now, self._fresh, self._unkept
        view._changed = self._changed
        return view

    def digests(self, paths: Sequence[str], keys: Sequence[tuple[int, ...]]) -> list[bytes | None]:
        """Return the digests of files whose status is the one they were last read with; see `look_up`."""
        return self.look_up(paths, keys)[0]

    def look_up(
        self, paths: Sequence[str], keys: Sequence[tuple[int, ...]]
    ) -> tuple[list[bytes | None], Sequence[tuple[int, ...]]]:
        """Return the digests of files whose status is the one they were last read with, and their status.

        A status is size, modification time, change time and inode; None stands for the digests of the
        others. A status that is as it was is the one that is known already, and so takes no room.
        """
        if self._prefix or self._strip:
            paths = [self._name(path) for path in paths]
        before = list(map(self._keys.get, paths))
        if before == keys:  # a whole folder as it was, compared at once
            keys = before  # type: ignore[assignment]
            self._now.update(zip(paths, keys, strict=True))
            return list(map(self._digests.get, paths)), keys
        keys = [was if was == now else now for was, now in zip(before, keys, strict=True)]
        self._now.update(zip(paths, keys, strict=True))
        changed = [p for p, was, now in zip(paths, before, keys, strict=True) if was is not now]
        self._changed.update(changed)
        self._unkept.update(changed)
        return [None if path in self._changed else self._digests[path] for path in paths], keys

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

    def not_kept(self, paths: Iterable[str]) -> set[str]:
        """Return those of some paths of which the ledger is not known to hold what `digests` says."""
        given = set(paths)
        return (given - self._keys.keys() - self._now.keys()) | (given & self._unkept)

    def keep(self, paths: Iterable[str]) -> None:
        """Note that the ledger holds what these files hold."""
        self._unkept.difference_update(paths)

    def forget(self, paths: Iterable[str]) -> None:
        """Forget what was looked up: what these files hold is not what is kept of them."""
        for path in paths:
            self._now.pop(self._prefix + path, None)
            self._fresh.pop(self._prefix + path, None)

    @property
    def unchanged(self) -> bool:
        """Whether what was looked up is just what was known, so that there is nothing to save."""
        same = len(self._unkept) == self._unkept_before
        return not self._fresh and same and self._now == self._keys

    @property
    def is_soon_read(self) -> bool:
        """Whether what is new here is so little of so much that reading it again costs less than saving."""
        whole = len(self._now)
        news = max(len(self._fresh), abs(len(self._unkept) - self._unkept_before))
        if whole < _MANY or news * _LITTLE > whole:
            return False
        return sum(self._now[p][0] for p in self._fresh if p in self._now) < _LITTLE_BYTES

    def with_news(self) -> Seen:
        """Return what was known with what is new, racy ones left out; see `is_soon_read`.

        What is known is shared with the others of this place: it is true of each, and copied by none.
        """
        for path, (digest, read_at_ns) in self._fresh.items():
            if path in self._now and not any(_racy(s, read_at_ns) for s in self._now[path][1:3]):
                self._keys[path], self._digests[path] = self._now[path], digest
        return self.again()

    def worth_saving(self) -> Seen:
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
        other._unkept = self._unkept & keys.keys()
        return other

    def columns(self) -> dict[str, Any]:
        """Return what is known, to be saved."""
        paths, unkept = list(self._keys), self._unkept
        stats = list(zip(*self._keys.values(), strict=True)) or [()] * len(_COLUMNS)
        return {
            "paths": paths,
            **dict(zip(_COLUMNS, stats, strict=True)),
            "digests": b"".join(self._digests.values()),
            "kept": not unkept or [row for row, path in enumerate(paths) if path not in unkept],
        }


def _racy(stamp_ns: int, read_at_ns: int) -> bool:
    """Tell whether a file stamped so may have changed after it was read without showing it."""
    grain = _GRAIN_NS if stamp_ns % _SECOND_NS else _COARSE_GRAIN_NS
    return stamp_ns > read_at_ns - grain


_COLUMNS = ("size", "mtime_ns", "ctime_ns", "inode")

"""Sessions: who is writing to a ledger, and which packs are condemned.

A writer holds a session from before it looks what is stored until the entry that refers to that is
there. A pack that `retire` will delete is condemned first, by an empty file of its name in `retiring`;
then those who were writing are waited for, and what they entered meanwhile is looked at. Either a
writer sees that a pack is condemned, and does not rely on it, or it is seen, and waited for.
"""

from __future__ import annotations

import contextlib
import os
import re
import time
from collections.abc import Iterable, Iterator

from ..places import hold, is_held, refusals, remove_tree
from .storage import Storage
from .tidying import tidy

__all__ = ["Sessions", "is_old"]

_OLD_SECONDS = 3600.0  # far longer than a writer takes from its lock to the first byte of a pack
_PATIENCE_SECONDS = 5.0  # others hold a lock for an instant, to see whether it is held
_BEGIN, _LOCK = "packing-", ".lock"
_CONDEMNED = "retiring"


class Sessions:
    """The sessions of the ledger in a storage, of this process and of others."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage
        self._work = os.path.join(storage.root, "work")
        self._own = ""
        self.cleared: list[str] = []  # what commands that were cut off had left, and went

    @contextlib.contextmanager
    def hold(self) -> Iterator[str]:
        """Hold a session for the block, or go on in the one that is held already.

        What is given begins all names in `work` that the session may use.
        """
        if self._own:
            yield self._own
            return
        session = os.path.join(self._work, f"{_BEGIN}{os.urandom(6).hex()}")
        lock = session + _LOCK
        with (
            refusals(self._storage.location),
            hold(lock, busy="a pack is being written", patience_seconds=_PATIENCE_SECONDS),
        ):
            self._sweep()
            self._storage.announce(os.path.basename(session))
            self._own = session
            try:
                yield session
            finally:
                self._own = ""
                self._storage.withdraw(os.path.basename(session))
                _remove(lock)

    def under_way(self) -> list[str]:
        """Return the names of the sessions of live processes, here and elsewhere, but for this one."""
        here = [
            name.removesuffix(_LOCK)
            for name in os.listdir(self._work)
            if name.startswith(_BEGIN) and name.endswith(_LOCK)
        ]
        own = os.path.basename(self._own)
        elsewhere = self._storage.announced()
        return [name for name in here if name != own and self._is_held(name)] + elsewhere

    def began(self, session: str) -> float:
        """Return when a session of this machine began; never, if it is over or of another."""
        try:
            return os.stat(os.path.join(self._work, session + _LOCK)).st_mtime
        except FileNotFoundError:
            return float("inf")

    def _is_held(self, session: str) -> bool:
        lock = os.path.join(self._work, session + _LOCK)
        return os.path.exists(lock) and is_held(lock)

    def await_end(self, sessions: list[str], *, patience_seconds: float) -> bool:
        """Wait until sessions have ended; tell whether all have within the time."""
        until = time.monotonic() + patience_seconds
        pause = 0.01
        while sessions := [name for name in sessions if name in self.under_way()]:
            if time.monotonic() > until:
                return False
            time.sleep(pause)
            pause = min(2 * pause, 1.0)
        return True

    def condemned(self) -> frozenset[str]:
        """Return the names of the packs that nothing new may rely on."""
        names = self._storage.names(_CONDEMNED)
        return frozenset(name for name in names if re.fullmatch("[0-9a-f]{32}", name))

    def condemn(self, names: Iterable[str]) -> None:
        """Have nothing new rely on packs."""
        for name in names:
            with contextlib.suppress(FileExistsError):
                self._storage.claim(_CONDEMNED, name, b"")

    def acquit(self, names: Iterable[str]) -> None:
        """Take back what `condemn` said, or note that the packs are gone."""
        self._storage.remove(_CONDEMNED, names)

    def _sweep(self) -> None:
        """Remove unfinished packs whose writer died, and locks that nobody will take again."""
        self.cleared += tidy(self._storage.root)
        packing = [name for name in os.listdir(self._work) if name.startswith(_BEGIN)]
        for name in packing:
            if name.endswith(_LOCK):
                path = os.path.join(self._work, name)
                # A writer may be about to take a young lock; one that has begun has a pack too.
                if not any(n.startswith(f"{name[:-5]}-") for n in packing) and is_old(path):
                    _remove(path)
                continue
            lock = os.path.join(self._work, name.rpartition("-")[0] + _LOCK)
            if not is_held(lock):
                _remove(os.path.join(self._work, name))
                remove_tree(os.path.join(self._work, name))
                _remove(lock)


def is_old(path: str) -> bool:
    """Tell whether a file is too old to be under way."""
    with contextlib.suppress(OSError):
        return time.time() - os.stat(path).st_mtime > _OLD_SECONDS
    return False


def _remove(path: str) -> None:
    with contextlib.suppress(OSError):
        os.remove(path)

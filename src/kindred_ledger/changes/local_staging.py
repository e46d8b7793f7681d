"""LocalStaging: what is put aside on this machine, for a remote where nothing can be renamed.

To move something into the local staging is to fetch it and to delete it there; to move it out, to send it, to
read it back, and to delete it here. Which of them is under way is noted, so that what was cut off half
way is not taken for anything else.
"""

from __future__ import annotations

import os
from collections.abc import Iterable

from blake3 import blake3

from ..errors import PlaceError
from ..ledger import Ledger
from ..places import BLOCK, refusals, sync_dir, write_atomic
from ..places.remotes import Remote, digest_of, fetch, gives_back
from ..progress import Task

__all__ = ["HERE", "LocalStaging"]

HERE = "here:"  # begins a location in the local staging
_UNDER_WAY = "under-way"
_FETCHED, _BEING_SENT = "fetched", "being-sent"


class LocalStaging:
    """The local staging of one change, in the ledger's `work`."""

    def __init__(self, ledger: Ledger, id: str) -> None:
        self._root = _root(ledger, id)
        with refusals(self._root):
            os.makedirs(os.path.join(self._root, _UNDER_WAY), exist_ok=True, mode=0o700)

    @staticmethod
    def at(ledger: Ledger, id: str) -> LocalStaging | None:
        """Return the local staging that a change had; None if it needed none."""
        return LocalStaging(ledger, id) if os.path.isdir(_root(ledger, id)) else None

    def path(self, location: str) -> str:
        """Return where a location is on disk."""
        return os.path.join(self._root, *location.removeprefix(HERE).split("/"))

    def has(self, location: str) -> bool:
        """Tell whether a location holds anything."""
        return os.path.lexists(self.path(location))

    def keep(self, location: str, blocks: Iterable[bytes], mtime_ns: int, task: Task) -> None:
        """Write a content to a location, durably; 0 is no time that is known."""
        path = self._ready(location)
        with refusals(path), open(f"{path}.part", "wb") as file:
            for block in blocks:
                file.write(block)
                task.advance(len(block))
            file.flush()
            os.fsync(file.fileno())
        self._named(path, mtime_ns)

    def digest(self, location: str) -> bytes:
        """Return the BLAKE3 digest of what a location holds."""
        with refusals(self.path(location)):
            return blake3().update_mmap(self.path(location)).digest()

    def move(self, remote: Remote, source: str, target: str) -> None:
        """Move between here and there."""
        if target.startswith(HERE) and source.startswith(HERE):
            os.replace(self.path(source), self._ready(target))
        elif target.startswith(HERE):
            path, there = self._ready(target), remote.stat(source)
            fetch(remote, source, f"{path}.part")
            self._note(source, _FETCHED, target)
            self._named(path, int((there.changed or 0) * 1e9) if there is not None else 0)
            remote.delete(source)
            self._done(source)
        else:
            self._send(remote, source, target)

    def _send(self, remote: Remote, source: str, target: str) -> None:
        path = self.path(source)
        self._note(target, _BEING_SENT, source)
        with refusals(path):
            when = os.stat(path).st_mtime
            with open(path, "rb") as file:
                remote.write(target, iter(lambda: file.read(BLOCK), b""))
        if not gives_back(remote, target, self.digest(source)):
            raise PlaceError(
                "the upload could not be verified",
                where=f"{remote.location}/{target}",
                remedy="Look at the room there is on that server, then run this again.",
            )
        remote.set_time(target, when)
        with refusals(path):
            os.remove(path)
        self._done(target)

    def clear_cut_off(self, remote: Remote, location: str) -> bool:
        """Clear a location on the remote of what was cut off there; tell whether anything was.

        What is here still was fetched, but not deleted there yet; or was sent, but not to its end. What
        somebody else wrote there after it was fetched stays.
        """
        try:
            with open(self._mark(location), encoding="utf-8") as file:
                what, _, here = file.read().partition(" ")
        except FileNotFoundError:
            return False
        if self.has(here) and (
            what == _BEING_SENT or digest_of(remote, location) in (b"", self.digest(here))
        ):
            remote.delete(location)
        self._done(location)
        return True

    def _note(self, location: str, what: str, here: str) -> None:
        """Note what is being done with a location on the remote and one here."""
        write_atomic(self._mark(location), f"{what} {here}".encode())

    def _done(self, location: str) -> None:
        with refusals(self._root):
            os.remove(self._mark(location))

    def _mark(self, location: str) -> str:
        return os.path.join(self._root, _UNDER_WAY, blake3(location.encode()).hexdigest()[:32])

    def _ready(self, location: str) -> str:
        path = self.path(location)
        with refusals(path):
            os.makedirs(os.path.dirname(path), exist_ok=True, mode=0o700)
        return path

    def _named(self, path: str, mtime_ns: int) -> None:
        with refusals(path):
            if mtime_ns:
                os.utime(f"{path}.part", ns=(mtime_ns, mtime_ns))
            os.replace(f"{path}.part", path)
            sync_dir(os.path.dirname(path))


def _root(ledger: Ledger, id: str) -> str:
    return os.path.join(ledger.folder("work"), f"change-{id}", "drawer")

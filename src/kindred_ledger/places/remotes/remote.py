"""Remote: what a store of files elsewhere can do, and how files are sent and fetched whole.

What always holds, whatever the kind: paths are relative to the remote's own folder, with `/`; what is
not there is `Vanished`, what refuses or breaks off is `PlaceError`; a file that was sent has its name
only when all of it is there and was read back.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Iterable, Iterator
from typing import BinaryIO, NamedTuple, Protocol

from blake3 import blake3
from msgspec import Struct

from ...errors import PlaceError, Vanished
from ..durable import private_file
from ..place import BLOCK

__all__ = ["Capabilities", "Found", "Inside", "Remote", "digest_of", "fetch", "gives_back", "send"]

_PART = ".part"
_PAUSES_SECONDS = (
    0.05,
    0.5,
)  # some FTP servers say that all is done just before they write the rest


class Found(NamedTuple):
    """A file that is there: its name in its folder, its size, when it was changed if that is known."""

    name: str
    size: int
    changed: float | None


class Inside(NamedTuple):
    """What is in a folder: its files, and the names of its folders."""

    files: list[Found]
    folders: list[str]


class Capabilities(Struct, frozen=True):
    """What a kind of remote can do.

    `whole`: a file that is being written is not seen before it is complete; `resume`: writing can
    go on from an offset; `times`: it tells when files were changed; `folders`: a folder may be empty.
    """

    whole: bool = False
    resume: bool = False
    times: bool = False
    folders: bool = True


class Remote(Protocol):
    """A store of files elsewhere. Used from one thread at a time.

    >>> kl.RemotePlace(kl.connect("file:server")).remote.location
    'file:///server'
    """

    capabilities: Capabilities

    @property
    def location(self) -> str:
        """Its URL, without secrets."""
        ...

    def list(self, folder: str) -> list[Found]:
        """Return the files in a folder, by name; none where there is no such folder."""
        ...

    def inside(self, folder: str) -> Inside:
        """Return the files and folders in a folder, by name; nothing where there is no such folder."""
        ...

    def stat(self, path: str) -> Found | None:
        """Look at one file; None if it is not there, or is none."""
        ...

    def read(self, path: str, *, start: int = 0, length: int | None = None) -> Iterator[bytes]:
        """Yield the bytes of a file from an offset, all or `length`."""
        ...

    def write(self, path: str, blocks: Iterable[bytes], *, start: int = 0) -> None:
        """Write a file, or go on at its end, which is at `start` (see `Capabilities.resume`)."""
        ...

    def create(self, path: str, data: bytes) -> None:
        """Write a small file that is there whole or not at all, and that nobody has written before.

        Raises:
            FileExistsError: somebody has.
        """
        ...

    def rename(self, source: str, target: str) -> None:
        """Give a file another name, over what has it."""
        ...

    def delete(self, path: str) -> None:
        """Delete a file; one that is not there is fine."""
        ...

    def make_folder(self, path: str) -> None:
        """Make a folder, and those on the way to it, where there are folders."""
        ...

    def remove_folder(self, path: str) -> None:
        """Remove an empty folder; one that is not there is fine.

        Raises:
            PlaceError: it cannot be removed; where the remote tells, because it is not empty.
        """
        ...

    def set_time(self, path: str, seconds: float) -> None:
        """Say when a file was changed, where the remote lets one; elsewhere nothing happens."""
        ...

    def close(self) -> None:
        """Let go of the connection."""
        ...


def send(remote: Remote, local: str, path: str, *, sender: str = "") -> None:
    """Send a file, under a name of its own first, and read it back before it gets its name.

    What an earlier try of the same `sender` left of the same content is gone on with, if the remote
    can; two that may send at once need names of their own.

    Raises:
        PlaceError: it refuses or breaks off, or does not keep what it took. What was sent waits for
            the next try.
    """
    size = os.path.getsize(local)
    own = f".{sender}{_PART}" if sender else _PART
    aside = path if remote.capabilities.whole else path + own
    with open(local, "rb") as file:
        start = _went_so_far(remote, aside, file, size)
        file.seek(start)
        if start < size or not size:
            remote.write(aside, iter(lambda: file.read(BLOCK), b""), start=start)
        wanted = blake3().update_mmap(local)
    if not gives_back(remote, aside, wanted.digest()):
        with contextlib.suppress(PlaceError):
            remote.delete(aside)
        raise PlaceError(
            "the upload could not be verified",
            where=f"{remote.location}/{path}",
            remedy="Run this again; if it goes on, look at the room there is on that server.",
        )
    if aside != path:
        remote.rename(aside, path)


def gives_back(remote: Remote, path: str, digest: bytes) -> bool:
    """Tell whether a remote gives back what has a BLAKE3 digest."""
    for pause in (*_PAUSES_SECONDS, None):
        if digest_of(remote, path) == digest:
            return True
        if pause is not None:
            time.sleep(pause)
    return False


def _went_so_far(remote: Remote, aside: str, file: BinaryIO, size: int) -> int:
    """Return how many bytes are there already, of this very content."""
    there = remote.stat(aside) if remote.capabilities.resume else None
    if there is None or not 0 < there.size <= size:
        return 0
    here = blake3()
    at = 0
    while block := file.read(min(BLOCK, there.size - at)):
        here.update(block)
        at += len(block)
    return there.size if digest_of(remote, aside) == here.digest() else 0


def digest_of(remote: Remote, path: str) -> bytes:
    """Return the BLAKE3 digest of what a remote gives back; empty if it has nothing there."""
    digest = blake3()
    try:
        for block in remote.read(path):
            digest.update(block)
    except Vanished:
        return b""
    return digest.digest()


def fetch(remote: Remote, path: str, local: str) -> None:
    """Fetch a file to a new one here, durably.

    Raises:
        Vanished: it is not there.
        PlaceError: it breaks off, or is not as long as the remote says.
    """
    there = remote.stat(path)
    if there is None:
        raise Vanished("it is not there", where=f"{remote.location}/{path}")
    with private_file(local) as file:
        for block in remote.read(path):
            file.write(block)
            if file.tell() > there.size:
                break  # it is being written, or the server would fill this disk
        file.flush()
        os.fsync(file.fileno())
        if file.tell() != there.size:
            raise PlaceError(
                f"{file.tell():,} bytes came of {there.size:,}",
                where=f"{remote.location}/{path}",
                remedy="The connection broke off. Run this again.",
            )

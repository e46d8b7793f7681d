"""Sources: where a release index and its parts are, and what a part must be to be taken."""

from __future__ import annotations

import os
from typing import Protocol

from blake3 import blake3
from msgspec import Struct

from ..errors import PlaceError
from ..places import BLOCK, refusals
from ..progress import Progress, Task
from .release_index import Part

__all__ = [
    "ASK",
    "LARGEST_INDEX",
    "RetryPolicy",
    "Source",
    "check_part",
    "file_digest",
]

ASK = "Ask whoever keeps the index, or take the release from elsewhere."
LARGEST_INDEX = 17 << 20


class RetryPolicy(Struct, frozen=True):
    """How long to wait: `quiet` seconds without a byte make a try; so many in a row, and it is dead.

    >>> source = kl.source_at("downloads/releases.json")
    >>> chosen = kl.choose_release(kl.read_index(source.name, source.read))
    >>> patience = kl.RetryPolicy(tries=2, pause=1)
    >>> kl.shelve_from(source, chosen.release, card, ledger=ledger, patience=patience).release.version
    '2.0'
    """

    quiet: float = 15.0
    tries: int = 4
    pause: float = 0.5  # seconds before the next try, doubled each time


class Source(Protocol):
    """Where an index and its parts are.

    >>> source = kl.source_at("downloads/releases.json")
    >>> kl.read_index(source.name, source.read).title
    'mossferry'
    """

    name: str  # of the index
    location: str

    def read(self, name: str) -> bytes:
        """Return a small file whole."""
        ...

    def address(self, part: Part) -> str:
        """Return where a person would get a part."""
        ...

    def fetch(self, part: Part, folder: str, *, patience: RetryPolicy, progress: Progress) -> str:
        """Return the path of a part on this machine, verified."""
        ...


def check_part(part: Part, path: str, task: Task | None = None) -> None:
    """Raise `PlaceError` unless a file is the part that an index describes."""
    size = os.path.getsize(path)
    if size != part.size:
        raise PlaceError(
            f"{part.name} has {size:,} bytes, the index says {part.size:,}",
            where=path,
            remedy="It is cut short, or another file. Move it away, then run this again.",
        )
    if file_digest(path, task) != part.digest:
        raise PlaceError(
            f"{part.name} does not have the digest the index says",
            where=path,
            remedy="It is damaged, or another file. Move it away, then run this again.",
        )


def file_digest(path: str, task: Task | None = None) -> str:
    """Return the BLAKE3 digest of a file on disk, in hex, as an index gives it."""
    hasher = blake3()
    with refusals(path), open(path, "rb") as file:
        while block := file.read(BLOCK):
            hasher.update(block)
            if task is not None:
                task.advance(len(block))
    return hasher.hexdigest()

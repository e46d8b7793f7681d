"""MemoryPlace: contents that were just computed, readable like any other place."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from blake3 import blake3

from .capabilities import Capable
from .seen import Seen
from .tree import FILE, Node, Tree

__all__ = ["MemoryPlace"]


class MemoryPlace(Capable):
    """A mapping of path to bytes as a place.

    >>> place = kl.MemoryPlace({"notes.txt": b"a note"})
    >>> ledger.backup(place).files
    1
    """

    def __init__(self, contents: Mapping[str, bytes], *, location: str = "computed") -> None:
        self.contents = dict(contents)
        self._location = location

    @property
    def location(self) -> str:
        return self._location

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree, digests included: they cost no reading here."""
        return Tree(
            {
                path: Node(FILE, len(data), blake3(data).digest())
                for path, data in self.contents.items()
            }
        )

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield the contents in the order asked for."""
        for path in paths:
            yield path, [self.contents[path]]

"""EntryPlace: what an entry keeps, as a place to read from."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import cached_property

from ..errors import UsageError
from ..places import OTHER, Capable, Seen, Tree
from .entries import Entry, Tag
from .index import Index
from .reading import read_contents

__all__ = ["EntryPlace"]


class EntryPlace(Capable):
    """An entry as a place: read like any other, verified as it is read.

    >>> stored = ledger.place(ledger.backup(install))
    >>> isinstance(stored, kl.EntryPlace), kl.compare(stored, install).differences
    (True, ())
    """

    hands_out_verified = True

    def __init__(self, entry: Entry, index: Index, read_tree: Callable[[], Tree]) -> None:
        self.entry = entry
        self._index = index
        self._read_tree = read_tree

    @property
    def location(self) -> str:
        return f"entry:{self.entry.id}"

    @property
    def tag(self) -> Tag:
        """What was kept."""
        return self.entry.tag

    @cached_property
    def tree(self) -> Tree:
        """The entry's tree."""
        return self._read_tree()

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree; every digest is known."""
        return self.tree.select(lambda path: self.tree[path].kind != OTHER)

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield contents in the order they lie in the packs, verified.

        Raises:
            UsageError: there is no such file.
            LedgerDamaged: what is stored of one is damaged.
        """
        wanted = []
        for path in paths:
            node = self.tree.get(path)
            if node is None or node.digest is None:
                raise UsageError(f"there is no file {path}", where=self.location)
            wanted.append((path, node.digest))
        yield from read_contents(self._index, wanted, where=self.location)

"""RemotePlace: what lies on a remote, as a place to read from.

Times there are evidence: a file whose size and time are what they were when it was read is not fetched
again. Digests are proof: what is fetched is hashed, and what changed while it was fetched is told.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from ..names import check_portable
from ..seen import Seen
from ..tree import DIR, FILE, Node, Tree
from .remote import Found, Remote

__all__ = ["RemotePlace"]


class RemotePlace:
    """All files below a remote's own folder; links and the like are left out.

    Raises:
        PlaceError: on use, where the remote refuses or breaks off.
        UnsafeName: on use, where a name there could not be held on every system.
    """

    def __init__(self, remote: Remote) -> None:
        self.remote = remote

    @property
    def location(self) -> str:
        return self.remote.location

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree, with the digests of files that are, by size and time, what they were."""
        nodes: dict[str, Node] = {}
        stack = [""]
        while stack:
            folder = stack.pop()
            start = f"{folder}/" if folder else ""
            for name in self.remote.folders(folder):
                path = check_portable(start + name, where=self.location)
                nodes[path] = Node(DIR)
                stack.append(path)
            for found in self.remote.list(folder):
                path = check_portable(start + found.name, where=self.location)
                nodes[path] = _node(path, found, seen)
        return Tree(nodes)

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield the files in the order given, each as it is fetched."""
        for path in paths:
            yield path, self.remote.read(path)


def _node(path: str, found: Found, seen: Seen | None) -> Node:
    if found.changed is None:  # nothing tells whether it is what it was
        return Node(FILE, found.size)
    stamp = int(found.changed * 1_000_000_000)
    digest = seen.digests([path], [(found.size, stamp, 0, 0)])[0] if seen is not None else None
    return Node(FILE, found.size, digest, stamp)

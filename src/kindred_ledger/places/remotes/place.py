"""RemotePlace: what lies on a remote, as a place.

Times there are evidence: a file whose size and time are what they were when it was read is not fetched
again. Digests are proof: what is fetched is hashed, and what changed while it was fetched is told.
"""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator
from urllib.parse import quote

from ...errors import UnsafeName
from ..capabilities import Capable
from ..names import WORK_FOLDER, check_portable
from ..seen import Seen
from ..storage_limits import StorageLimits, server_limits
from ..tree import DIR, FILE, OTHER, Node, Tree
from .remote import Found, Inside, Remote

__all__ = ["RemotePlace"]

_FEW = 4  # files of a folder; more are sooner found by listing it


class RemotePlace(Capable):
    """All files below a remote's own folder, or one in it; links and the like are left out.

    What has a name that not every system can hold is listed under that name in percent form, as what
    is neither file nor folder: it is told, never read or changed.

    Raises:
        PlaceError: on use, where the remote refuses or breaks off.

    >>> place = kl.RemotePlace(kl.connect("file:server"))
    >>> len(kl.scan(place).files)
    9
    """

    def __init__(self, remote: Remote, folder: str = "") -> None:
        self.remote: Remote = remote
        self.folder = folder
        self._turn = threading.Lock()  # a remote is used from one thread at a time

    @property
    def location(self) -> str:
        return f"{self.remote.location}/{self.folder}" if self.folder else self.remote.location

    def limits(self) -> StorageLimits:
        return server_limits(folders=self.remote.capabilities.folders)

    def tells_apart(self, tree: Tree) -> bool:
        named = next((path for path in tree.files if path.swapcase() != path), "")
        return bool(named) and self.remote.stat(named.swapcase()) is None

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree, with the digests of files that are, by size and time, what they were."""
        nodes: dict[str, Node] = {}
        stack = [""]
        while stack:
            folder = stack.pop()
            found = self._inside(folder)
            nodes.update(_nodes(folder, found, seen))
            start = f"{folder}/" if folder else ""
            stack += (start + name for name in found.folders if start + name in nodes)
        return Tree(nodes)

    def look(self, paths: Iterable[str], *, seen: Seen | None = None) -> dict[str, Node]:
        """Return what stands at some paths, where anything does, as `survey` would."""
        wanted = set(paths)
        by_folder: dict[str, list[str]] = {}
        for path in sorted(wanted):
            by_folder.setdefault(path.rpartition("/")[0], []).append(path)
        nodes: dict[str, Node] = {}
        for folder, some in by_folder.items():
            if len(some) <= _FEW:
                files = {path: self.remote.stat(self.path(path)) for path in some}
                if None not in files.values():
                    nodes |= {p: _node(p, file, seen) for p, file in files.items() if file}
                    continue
            nodes.update(_nodes(folder, self._inside(folder), seen, wanted))
        return nodes

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield the files in the order given, each as it is fetched."""
        for path in paths:
            with self._turn:
                yield path, self.remote.read(self.path(path))

    def path(self, relative: str) -> str:
        """Return the path on the remote of something in this place."""
        return "/".join(filter(None, (self.folder, relative)))

    def _inside(self, folder: str) -> Inside:
        found = self.remote.inside(self.path(folder))
        if not folder and WORK_FOLDER in found.folders:
            found.folders.remove(WORK_FOLDER)
        return found


def _nodes(
    folder: str, found: Inside, seen: Seen | None, wanted: set[str] | None = None
) -> dict[str, Node]:
    """Return the nodes of what is in a folder; of what is `wanted`, if that is given."""
    start = f"{folder}/" if folder else ""
    out: dict[str, Node] = {}
    for name in found.folders:
        path, held = _held(start, name)
        if wanted is None or path in wanted:
            out[path] = Node(DIR) if held else Node(OTHER)
    for file in found.files:
        path, held = _held(start, file.name)
        if wanted is None or path in wanted:
            out[path] = _node(path, file, seen) if held else Node(OTHER)
    return out


def _held(start: str, name: str) -> tuple[str, bool]:
    """Return the path of something in a folder, and whether every system can hold it as it is."""
    try:
        if "/" not in name:
            return check_portable(start + name), True
    except UnsafeName:
        pass
    return start + quote(name, safe="", errors="surrogateescape").replace(".", "%2E"), False


def _node(path: str, found: Found, seen: Seen | None) -> Node:
    if found.changed is None:  # nothing tells whether it is what it was
        return Node(FILE, found.size)
    stamp = int(found.changed * 1_000_000_000)
    digest = seen.digests([path], [(found.size, stamp, 0, 0)])[0] if seen is not None else None
    return Node(FILE, found.size, digest, stamp)

"""FolderPlace: a folder on disk. Links are kept as links and never followed."""

from __future__ import annotations

import os
import stat as stat_bits
from collections.abc import Iterable, Iterator

from ..errors import PlaceChanged, PlaceError
from .durable import refusals
from .place import BLOCK
from .seen import Seen
from .tree import DIR, FILE, LINK, OTHER, Node, Tree

__all__ = ["WORK_FOLDER", "FilePlace", "FolderPlace", "lstat_node"]

WORK_FOLDER = ".kindred-work"  # where a change is staged, inside the place: one disk, one rename
_SMALL = 1 << 20
_READ_FLAGS = (
    os.O_RDONLY
    | getattr(os, "O_BINARY", 0)
    | getattr(os, "O_NOFOLLOW", 0)
    | getattr(os, "O_CLOEXEC", 0)
)


class FolderPlace:
    """A folder, read through `os.scandir`; `without` names subfolders that belong to others.

    Raises:
        PlaceError: on reading, where the folder is missing or the system refuses.
    """

    def __init__(self, root: str | os.PathLike[str], *, without: tuple[str, ...] = ()) -> None:
        self.root = os.path.abspath(os.path.expanduser(os.fspath(root)))
        self.without = frozenset((*without, WORK_FOLDER))

    @property
    def location(self) -> str:
        return self.root

    def path(self, relative: str) -> str:
        """Return the path on disk of something in this place."""
        return os.path.join(self.root, *relative.split("/")) if relative else self.root

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree, with the digests that `seen` knows."""
        nodes: dict[str, Node] = {}
        stack = [""]
        with refusals(self.root):
            while stack:
                folder = stack.pop()
                with os.scandir(self.path(folder)) as entries:
                    for entry in entries:
                        name = f"{folder}/{entry.name}" if folder else entry.name
                        if name in self.without:
                            continue
                        node = self._node(entry, name, seen)
                        nodes[name] = node
                        if node.kind == DIR:
                            stack.append(name)
        return Tree(nodes)

    def _node(self, entry: os.DirEntry[str], name: str, seen: Seen | None) -> Node:
        if not entry.name.isascii():
            _check_text(entry.name, self.path(name))
        stat = entry.stat(follow_symlinks=False)
        if stat_bits.S_ISREG(stat.st_mode):
            digest = seen.digest(name, stat) if seen is not None else None
            return Node(
                FILE, stat.st_size, digest, stat.st_mtime_ns, stat_bits.S_IMODE(stat.st_mode)
            )
        return _special(stat, entry.path)

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield the files in the order given; see `Place.read`."""
        for path in paths:
            full = self.path(path)
            with refusals(full):
                fd = os.open(full, _READ_FLAGS)
            try:
                with refusals(full):
                    stat = os.fstat(fd)
                    if stat.st_size <= _SMALL:
                        data = os.read(fd, stat.st_size + 1)
                        blocks: Iterable[bytes] = [data] if data else []
                        if len(data) != stat.st_size:
                            blocks = _moved(data, full)
                    else:
                        blocks = _stream(fd, stat, full)
                yield path, blocks
            finally:
                os.close(fd)


class FilePlace(FolderPlace):
    """One file, as a place of its own: what an archive is to those who replace it whole."""

    def __init__(self, path: str | os.PathLike[str]) -> None:
        super().__init__(os.path.dirname(os.path.abspath(os.path.expanduser(os.fspath(path)))))
        self.name = os.path.basename(os.fspath(path))

    @property
    def location(self) -> str:
        return self.path(self.name)

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree of the one file, empty if it is not there."""
        full = self.path(self.name)
        node = lstat_node(full)
        if node is not None and node.kind == FILE and seen is not None:
            node = node._replace(digest=seen.digest(self.name, os.stat(full)))
        return Tree({self.name: node} if node else {})


def lstat_node(path: str) -> Node | None:
    """Return what stands at a path on disk now, unread; None if nothing does."""
    try:
        stat = os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return None
    if stat_bits.S_ISREG(stat.st_mode):
        return Node(FILE, stat.st_size, None, stat.st_mtime_ns, stat_bits.S_IMODE(stat.st_mode))
    return _special(stat, path)


def _special(stat: os.stat_result, path: str) -> Node:
    if stat_bits.S_ISLNK(stat.st_mode) or getattr(os.path, "isjunction", lambda _: False)(path):
        return Node(LINK, target=os.readlink(path))
    if stat_bits.S_ISDIR(stat.st_mode):
        return Node(DIR, mode=stat_bits.S_IMODE(stat.st_mode))
    return Node(OTHER)


def _stream(fd: int, start: os.stat_result, full: str) -> Iterator[bytes]:
    left = start.st_size
    with refusals(full):
        while block := os.read(fd, min(BLOCK, left + 1)):  # one more: to see that it has not grown
            left = max(0, left - len(block))
            yield block
        end = os.fstat(fd)
    if (end.st_size, end.st_mtime_ns) != (start.st_size, start.st_mtime_ns):
        raise PlaceChanged("the file changed while it was read", where=full)


def _moved(data: bytes, full: str) -> Iterator[bytes]:
    yield data
    raise PlaceChanged("the file changed while it was read", where=full)


def _check_text(name: str, full: str) -> None:
    try:
        name.encode()
    except UnicodeEncodeError as error:
        raise PlaceError(
            f"the file name {name!r} is no valid text",
            where=os.fsencode(full).decode("utf-8", "backslashreplace"),
            remedy="Rename the file, then run this again.",
        ) from error

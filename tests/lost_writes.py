"""A disk that loses what was not synced: records what is durable at every point of some work.

A file's bytes are durable as of its last fsync; a name as of the last fsync of its folder. What was not
synced may be there or not, each in any order: every file's bytes, and every renaming, making and removing.
Only a single renaming is whole: a file is not lost between its old name and its new one.
"""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any, NamedTuple

_CHANGES = {"os.rename", "os.remove", "os.mkdir", "os.rmdir", "os.link", "os.symlink"}
_CACHE = (
    "index.sqlite"  # and what SQLite has beside it: a cache, written by nobody's rules but its own
)


class _Folder(NamedTuple):
    names: Mapping[str, int]


class _File(NamedTuple):
    data: bytes
    mode: int


class _Link(NamedTuple):
    target: str


class Moment(NamedTuple):
    """What is there at some moment, and what of it is durable, by inode."""

    there: Mapping[int, Any]
    durable: Mapping[int, Any]
    top: int

    def survivors(
        self, newer_name: Callable[[], bool], newer_data: Callable[[], bool]
    ) -> Iterator[tuple[str, Any]]:
        """Yield paths and nodes that are left; what is not durable is if it is said so."""
        said: dict[int, bool] = {}

        inside, was_inside = _insides(self.there), _insides(self.durable)

        def took(inode: int) -> bool:
            """Tell whether the newer name is there: only in a folder that is there, too.

            And a folder is gone only if all is that was in it.
            """
            if inode not in said:
                folder, before = inside.get(inode), was_inside.get(inode)
                new = folder is not None and folder not in self.durable
                left = before is not None and before not in self.there
                said[inode] = (left and took(before)) or (
                    newer_name() and (not new or took(folder))
                )
            return said[inode]

        def walk(inode: int, path: str) -> Iterator[tuple[str, Any]]:
            durable, there = self.durable.get(inode), self.there.get(inode)
            node = there or durable
            if isinstance(node, _Folder):
                yield path, node
                before = durable.names if durable else {}
                now = there.names if there else before
                left = {n: i for n, i in before.items() if now.get(n) == i or not took(i)}
                left |= {n: i for n, i in now.items() if before.get(n) == i or took(i)}
                for name, inner in sorted(left.items()):
                    yield from walk(inner, f"{path}/{name}" if path else name)
            elif node is None:
                return
            elif isinstance(node, _File) and durable != there and not newer_data():
                yield path, durable or _File(b"", node.mode)
            else:
                yield path, node

        yield from walk(self.top, "")


def _insides(nodes: Mapping[int, Any]) -> dict[int, int]:
    """Return the folder that each inode is in."""
    folders = {i: node for i, node in nodes.items() if isinstance(node, _Folder)}
    return {inner: folder for folder, node in folders.items() for inner in node.names.values()}


class Recorder:
    """Watches a folder while work is done in this process."""

    def __init__(self, root: str) -> None:
        self._root = root
        self._durable: dict[int, Any] = {}
        self._watching = False
        self.moments: list[Moment] = []
        sys.addaudithook(self._hook)  # it stays; it does nothing when nobody watches

    @contextmanager
    def watching(self) -> Iterator[None]:
        """Record every moment of the block; what is there at its begin is durable."""
        real = os.fsync

        def fsync(fd: int) -> None:
            real(fd)
            self._synced(os.fstat(fd).st_ino)

        self._durable = dict(self._look())
        os.fsync = fsync  # type: ignore[assignment]
        self._watching = True
        try:
            yield
        finally:
            self._watching = False
            os.fsync = real
            self._record()

    def _hook(self, event: str, args: tuple[Any, ...]) -> None:
        if not self._watching:
            return
        writes = (
            event == "open" and isinstance(args[2], int) and args[2] & (os.O_WRONLY | os.O_RDWR)
        )
        if event in _CHANGES or writes:
            self._record()

    def _synced(self, inode: int) -> None:
        there = self._look()
        if inode in there:
            before = self._durable.get(inode)
            self._durable[inode] = there[inode]
            if isinstance(there[inode], _Folder):
                self._follow(inode, before.names if before else {}, there)
        self._record()

    def _follow(self, folder: int, before: Mapping[str, int], there: Mapping[int, Any]) -> None:
        """Make the other side of each renaming out of, or into, a synced folder durable, too."""
        now = set(there[folder].names.values())
        folders = {
            i: node for i, node in there.items() if isinstance(node, _Folder) and i != folder
        }
        left = list(set(before.values()) - now)
        for gone in left:
            if gone not in there and isinstance(self._durable.get(gone), _Folder):
                left += self._durable[gone].names.values()  # it could only go when they had
            for other, node in folders.items():
                if other == folder:
                    continue
                for name in [name for name, inode in node.names.items() if inode == gone]:
                    self._keep_name(other, name, gone, folders)
        for come in now - set(before.values()):
            for other, node in list(self._durable.items()):
                if isinstance(node, _Folder) and other != folder and come in node.names.values():
                    still = folders[other].names if other in folders else {}
                    names = {n: i for n, i in node.names.items() if i != come or still.get(n) == i}
                    self._durable[other] = _Folder(names)

    def _keep_name(
        self, folder: int, name: str, inode: int, folders: Mapping[int, _Folder]
    ) -> None:
        """Make one name durable, and those of the folders that it is in."""
        known = self._durable.get(folder, _Folder({}))
        self._durable[folder] = _Folder({**known.names, name: inode})
        for above, node in folders.items():
            for inner, at in node.names.items():
                if at == folder and self._durable.get(above, _Folder({})).names.get(inner) != at:
                    self._keep_name(above, inner, folder, folders)

    def _record(self) -> None:
        watching, self._watching = self._watching, False
        moment = Moment(self._look(), dict(self._durable), os.stat(self._root).st_ino)
        if not self.moments or moment != self.moments[-1]:
            self.moments.append(moment)
        self._watching = watching

    def _look(self) -> dict[int, Any]:
        watching, self._watching = self._watching, False
        found: dict[int, Any] = {}
        folders = [self._root]
        while folders:
            folder = folders.pop()
            names: dict[str, int] = {}
            for entry in os.scandir(folder):
                if entry.name.startswith(_CACHE):
                    continue
                status = entry.stat(follow_symlinks=False)
                names[entry.name] = status.st_ino
                if stat.S_ISDIR(status.st_mode):
                    folders.append(entry.path)
                elif stat.S_ISLNK(status.st_mode):
                    found[status.st_ino] = _Link(os.readlink(entry.path))
                else:
                    with open(entry.path, "rb") as file:
                        found[status.st_ino] = _File(file.read(), stat.S_IMODE(status.st_mode))
            found[os.stat(folder).st_ino] = _Folder(names)
        self._watching = watching
        return found


def rebuild(
    moment: Moment, newer_name: Callable[[], bool], newer_data: Callable[[], bool], folder: str
) -> None:
    """Write what survives a moment to a new folder."""
    for path, node in moment.survivors(newer_name, newer_data):
        where = os.path.join(folder, path) if path else folder
        if isinstance(node, _Folder):
            os.makedirs(where)
        elif isinstance(node, _Link):
            os.symlink(node.target, where)
        else:
            with open(where, "wb") as file:
                file.write(node.data)
            os.chmod(where, node.mode)

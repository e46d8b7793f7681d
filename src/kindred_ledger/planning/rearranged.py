"""Rearranged: a place as it would be after files are moved, written anew or removed; nothing is written.

What always holds: it can be read like any place, so what looks at a place can look at what would become of
it; and the actions that lead there are the difference of the two trees, each with its reason.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator

from blake3 import blake3
from msgspec import Struct

from ..changes import Action
from ..errors import UsageError
from ..places import (
    DIR,
    FILE,
    Capable,
    FolderPlace,
    MemoryPlace,
    Node,
    Place,
    Seen,
    Tree,
    folder_with,
    parents,
)

__all__ = ["Rearranged"]


class _From(Struct, frozen=True):
    """Where the content of a path comes from, and why it is there."""

    place: Place
    path: str
    reason: str


class Rearranged(Capable):
    """A place as it would be; `tree` is what it holds now, with digests if a change shall follow.

    >>> made = Rearranged(kl.MemoryPlace({"a/b.txt": b"x"}), Tree({"a/b.txt": Node("file", 1)}))
    >>> made.move("a", "c", "renamed")
    >>> made.tree.files, b"".join(next(made.read(["c/b.txt"]))[1])
    (('c/b.txt',), b'x')
    """

    def __init__(self, place: Place, tree: Tree) -> None:
        self.base, self.before = place, tree
        self._nodes: dict[str, Node] = dict(tree)
        self._from: dict[str, _From] = {}
        self._gone: dict[str, str] = {}  # why what stood there goes
        self._tree: Tree | None = tree

    @property
    def location(self) -> str:
        return self.base.location

    @property
    def tree(self) -> Tree:
        """What it would hold."""
        if self._tree is None:
            self._tree = Tree(self._nodes)
        return self._tree

    @property
    def is_changed(self) -> bool:
        """Whether anything would be other than it is."""
        return bool(self._from or self._gone)

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return what it would hold."""
        return self.tree

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield contents, each from where it comes from.

        Raises:
            UsageError: there is no such file.
        """
        wanted: dict[Place, dict[str, list[str]]] = {}
        for path in paths:
            if path not in self._nodes:
                raise UsageError(f"there is no file {path}", where=self.location)
            source = self._from.get(path)
            place, inner = (source.place, source.path) if source else (self.base, path)
            wanted.setdefault(place, {}).setdefault(inner, []).append(path)
        for place, some in wanted.items():
            for inner, blocks in place.read(some):
                names = some[inner]
                kept = blocks if len(names) == 1 else list(blocks)
                for name in names:
                    yield name, kept

    def look(self, paths: Iterable[str], *, seen: Seen | None = None) -> dict[str, Node]:
        """Return what would stand at some paths, where anything would."""
        return {path: self._nodes[path] for path in paths if path in self._nodes}

    def in_folder(self, path: str) -> tuple[FolderPlace, str] | None:
        source = self._from.get(path)
        return folder_with(source.place, source.path) if source else folder_with(self.base, path)

    def move(self, path: str, to: str, reason: str) -> None:
        """Have a file, or a folder with all in it, stand elsewhere; `to` "" is the top.

        Raises:
            UsageError: something is there already.
        """
        start, new = f"{path}/", f"{to}/" if to else ""
        moving = {path: to} if to else {}
        moving |= {each: new + each[len(start) :] for each in self._nodes if each.startswith(start)}
        for old, name in moving.items():
            there = self._nodes.get(name)
            if there is None or name in moving:
                continue
            if to or there.kind != DIR or self._nodes[old].kind != DIR:
                raise UsageError("something is there already", where=name)
        nodes = {old: self._nodes[old] for old in moving if old in self._nodes}
        sources = {old: self._from.pop(old, None) for old in nodes}
        for old in nodes:
            self._drop(old, reason)
        if path in self._nodes:
            self._drop(path, reason)
        for old, node in nodes.items():
            found = sources[old]
            place, inner = (found.place, found.path) if found else (self.base, old)
            self._put(moving[old], node, _From(place, inner, reason))

    def put(self, path: str, data: bytes, reason: str) -> None:
        """Have a file hold these bytes, whether it is there or not."""
        mode = self._nodes[path].mode if path in self._nodes else 0
        node = Node(FILE, len(data), blake3(data).digest(), mode=mode)
        self._put(path, node, _From(MemoryPlace({path: data}), path, reason))

    def put_from(self, path: str, node: Node, place: Place, inner: str, reason: str) -> None:
        """Have a path be what another place has under a path of its own."""
        self._put(path, node, _From(place, inner, reason))

    def node(self, path: str) -> Node | None:
        """Return what would stand at a path, without making the whole tree."""
        return self._nodes.get(path)

    def remove(self, path: str, reason: str) -> None:
        """Have a file, or a folder with all in it, go."""
        node = self._nodes.get(path)
        if node is not None and node.kind != DIR:
            self._from.pop(path, None)
            self._drop(path, reason)
            return
        start = f"{path}/"
        for each in [each for each in self._nodes if each == path or each.startswith(start)]:
            self._from.pop(each, None)
            self._drop(each, reason)

    def remove_empty(self, folders: Iterable[str], reason: str) -> None:
        """Have folders go in which nothing is left, and those they lie in."""
        filled = Counter(path.rpartition("/")[0] for path in self._nodes)
        for each in sorted(folders, key=len, reverse=True):
            folder = each
            while folder and folder in self._nodes and not filled[folder]:
                self._drop(folder, reason)
                folder = folder.rpartition("/")[0]
                filled[folder] -= 1

    def _drop(self, path: str, reason: str) -> None:
        del self._nodes[path]
        self._tree = None
        if path in self.before:
            self._gone[path] = reason

    def _put(self, path: str, node: Node, source: _From) -> None:
        for folder in parents(path):
            if folder not in self._nodes:
                self._nodes[folder] = Node(DIR)
        self._nodes[path] = node
        self._from[path] = source
        self._gone.pop(path, None)
        self._tree = None

    def actions(self) -> tuple[Action, ...]:
        """Return what leads from what is there to what would be."""
        out = []
        for path, reason in self._gone.items():
            if path not in self.tree:
                out.append(Action(path, self.before[path], None, reason=reason))
        for path, source in self._from.items():
            node, before = self._nodes[path], self.before.get(path)
            if before is not None and before.kind == node.kind == DIR:
                continue  # the folder is there, whatever moved
            if before == node and source.place is self.base and source.path == path:
                continue
            held = node.kind == FILE
            out.append(
                Action(
                    path, before, node, source.place if held else None,
                    source.path if held else "", source.reason,
                )
            )  # fmt: skip
        return tuple(out)

"""Tree: what a place holds, as an immutable value with an algebra.

A tree maps relative paths to nodes, in sorted order; every folder stands in it, empty ones too.
Operations return new trees and touch no disk. Two nodes have the same content when their kind
and digest (or link target) agree; times and modes are kept but are not content.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import partial
from typing import NamedTuple, NoReturn

from ..notebook import html_table
from .names import parents

__all__ = ["Difference", "Node", "Tree", "node_of", "same_content"]

PERMISSIONS = (
    0o777  # of a mode, what is ever set: never the bits by which a program runs as somebody else
)
FILE, DIR, LINK, OTHER = "file", "dir", "link", "other"


class Node(NamedTuple):
    """One path of a tree.

    `kind` is file, dir, link, or other (a socket or device: listed, never kept). `size` is in
    bytes; `digest` is the BLAKE3 of the content, 32 bytes, or None where nobody has read it yet;
    `mtime_ns` is 0 where no time is known or kept; `mode` holds the permission bits, 0 where
    unknown; `target` is the text of a link.

    >>> tree = kl.scan(kl.FolderPlace("server"))
    >>> node = tree["tables.xml"]
    >>> node.kind, node.size
    ('file', 502)
    """

    kind: str
    size: int = 0
    digest: bytes | None = None
    mtime_ns: int = 0
    mode: int = 0
    target: str = ""

    def with_digest(self, digest: bytes | None) -> Node:
        """Return the same node with another digest."""
        return Node(self.kind, self.size, digest, self.mtime_ns, self.mode, self.target)


# Make a node of a sequence of its fields: what to map over columns, at a third of a call's cost.
node_of: Callable[[tuple[object, ...]], Node] = partial(tuple.__new__, Node)


class Difference(NamedTuple):
    """One path in which two trees differ: added, removed, changed, or touched (time, mode).

    A folder whose time differs is no difference: what happened in it is.

    >>> old, new = "downloads/mossferry-1.4.zip", "downloads/mossferry-2.0.zip"
    >>> difference = kl.compare(old, new, card=card).differences[0]
    >>> difference.path, difference.status
    ('program/build.json', 'changed')
    """

    path: str
    status: str
    before: Node | None
    after: Node | None


class Tree(dict[str, Node]):
    """An immutable, sorted mapping of relative path to `Node`.

    >>> tree = Tree({"a/b.txt": Node("file", 3)})
    >>> list(tree), tree.files
    (['a', 'a/b.txt'], ('a/b.txt',))
    """

    __slots__ = ("_files", "_leaves")

    def __init__(self, nodes: Mapping[str, Node] | Iterable[tuple[str, Node]] = ()) -> None:
        found = dict(nodes)
        for inner in {path.rpartition("/")[0] for path in found}:
            folder = inner
            while folder and folder not in found:
                found[folder] = Node(DIR)
                folder = folder.rpartition("/")[0]
        super().__init__(_sorted(found))

    @staticmethod
    def _of(nodes: dict[str, Node]) -> Tree:
        """Return a tree of nodes with every folder among them."""
        tree = Tree()
        dict.update(tree, _sorted(nodes))
        return tree

    def _refuse(self, *args: object, **more: object) -> NoReturn:
        raise TypeError("a tree is never changed; make another")

    __setitem__ = __delitem__ = __ior__ = _refuse
    clear = pop = popitem = setdefault = update = _refuse

    def __hash__(self) -> int:  # type: ignore[override]
        return hash(tuple(self.items()))

    def __reduce__(self) -> tuple[type[Tree], tuple[dict[str, Node]]]:
        return Tree, (dict(self),)

    def _repr_html_(self) -> str:
        rows = [(path, node.kind, f"{node.size:,}") for path, node in self.items()]
        return html_table(("path", "kind", "bytes"), rows, caption=repr(self))

    def __repr__(self) -> str:
        return f"Tree({len(self.files)} files, {self.size_bytes} bytes)"

    @property
    def files(self) -> tuple[str, ...]:
        """The paths of the files, sorted."""
        if not hasattr(self, "_files"):
            self._files = tuple([path for path, node in self.items() if node.kind == FILE])
        return self._files

    @property
    def leaves(self) -> tuple[str, ...]:
        """The paths of all but folders, sorted: what a statement counts."""
        if not hasattr(self, "_leaves"):
            self._leaves = tuple([path for path, node in self.items() if node.kind != DIR])
        return self._leaves

    @property
    def size_bytes(self) -> int:
        """The sum of the sizes of the files."""
        return sum([node.size for node in self.values() if node.kind == FILE])

    def select(self, wanted: Callable[[str], bool]) -> Tree:
        """Return the nodes whose path is wanted (with the folders they lie in)."""
        chosen = {path for path in self if wanted(path)}
        if len(chosen) == len(self):
            return self
        inner = {path.rpartition("/")[0] for path in chosen}
        chosen.update(folder for path in inner for folder in (*parents(path), path) if folder)
        return Tree._of({path: node for path, node in self.items() if path in chosen})

    def overlay(self, upper: Mapping[str, Node]) -> Tree:
        """Return this tree with `upper` laid over it; where both have a path, upper wins."""
        if upper.keys() <= self.keys():
            tree = Tree()
            dict.update(tree, self)
            dict.update(tree, upper)
            return tree
        return Tree({**self, **upper})

    def subtract(self, lower: Tree) -> Tree:
        """Return what differs in content from `lower`, or is not in it at all."""
        return Tree(
            {
                path: node
                for path, node in self.items()
                if node.kind != DIR and not same_content(node, lower.get(path))
            }
        )

    def diff(self, later: Tree) -> tuple[Difference, ...]:
        """Return how `later` differs from this tree, by path."""
        if self == later:
            return ()
        out = []
        differ = [path for path, node in later.items() if self.get(path) != node]
        for path in sorted([*differ, *(self.keys() - later.keys())]):
            before, after = self.get(path), later.get(path)
            if _same_folder(before, after):
                continue
            status = (
                "added"
                if before is None
                else "removed"
                if after is None
                else "touched"
                if same_content(before, after)
                else "changed"
            )
            out.append(Difference(path, status, before, after))
        return tuple(out)

    def unlike(self, other: Mapping[str, Node]) -> list[str]:
        """Return the leaves whose content is not what `other` has under the same path."""
        return [
            path
            for path, node in self.items()
            if node is not (there := other.get(path))
            and not (there and node.digest and node.digest == there.digest)
            and node.kind != DIR
            and not same_content(node, there)
        ]

    def same_content(self, other: Tree) -> bool:
        """Tell whether both hold the same paths with the same content (times and modes apart)."""
        return self.keys() == other.keys() and all(
            same_content(node, other[path]) for path, node in self.items()
        )

    def under(self, folder: str) -> Tree:
        """Return what lies in `folder`, with paths relative to it.

        >>> list(Tree({"a/b": Node("file")}).under("a"))
        ['b']
        """
        start = f"{folder}/"
        return Tree(
            {path[len(start) :]: node for path, node in self.items() if path.startswith(start)}
        )

    def moved_into(self, folder: str) -> Tree:
        """Return this tree as the content of `folder`."""
        return Tree({f"{folder}/{path}": node for path, node in self.items()})


def _sorted(nodes: dict[str, Node]) -> dict[str, Node]:
    paths = list(nodes)
    in_order = sorted(paths)
    if in_order == paths:
        return nodes
    return dict(zip(in_order, map(nodes.__getitem__, in_order), strict=True))


def _same_folder(one: Node | None, other: Node | None) -> bool:
    """Tell whether both are folders, alike but for their times."""
    return bool(one and other) and one.kind == other.kind == DIR and one.mode == other.mode  # type: ignore[union-attr]


def same_content(one: Node | None, other: Node | None) -> bool:
    """Tell whether two nodes hold the same; a file nobody has read equals nothing."""
    if one is None or other is None or one.kind != other.kind:
        return one is other
    if one.kind == FILE:
        return one.digest is not None and one.digest == other.digest
    return one.target == other.target

"""Combining: several parts of a download as one tree. What two parts hold alike is one file; what
differs is a collision, and nobody chooses silently."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from ..cards import Card, find_root
from ..errors import UsageError
from ..ledger import Ledger
from ..places import (
    DIR,
    FILE,
    FolderPlace,
    LaidPlace,
    Node,
    Place,
    SubPlace,
    Tree,
    check_portable,
    same_content,
)
from ..progress import Progress

__all__ = ["Collision", "Combined", "combine"]


class Collision(Struct, frozen=True):
    """A path that two parts hold with different contents."""

    path: str
    parts: tuple[str, str]


class Combined(Struct, frozen=True):
    """Parts as one: the place and its tree, and how many files of it are in more than one part.

    Of a collision the tree has the first part's file.
    """

    place: Place
    tree: Tree
    shared: int
    collisions: tuple[Collision, ...]
    extras: tuple[str, ...]


def combine(
    parts: Sequence[Place],
    *,
    ledger: Ledger,
    card: Card | None = None,
    progress: Progress | None = None,
) -> Combined:
    """Lay parts over each other; each may be wrapped in folders of its own.

    Raises:
        UsageError: a part holds a link, or something else that is no file.
        UnsafeName, UnsafeArchive: a part is hostile or damaged.
        DecisionNeeded: in one of them two folders could be the title's.
    """
    scanned = [(part, ledger.scan(part, progress=progress)) for part in parts]
    nodes: dict[str, Node] = {}
    owners: dict[str, Place] = {}
    shared = 0
    collisions: list[Collision] = []
    extras: list[str] = []
    for place, tree in _unwrapped(scanned, card, extras):
        for path, node in tree.items():
            check_portable(path, where=place.location)
            if node.kind not in (FILE, DIR):
                raise UsageError(
                    f"{path} is no plain file, and a release holds only those",
                    where=place.location,
                )
            before = nodes.setdefault(path, node)
            if path not in owners:
                owners[path] = place
            elif before.kind == node.kind == DIR:
                continue
            elif same_content(before, node):
                shared += 1
            else:
                collisions.append(Collision(path, (owners[path].location, place.location)))
    return Combined(
        LaidPlace(owners),
        Tree(nodes),
        shared,
        tuple(collisions),
        tuple(extras),
    )


def _unwrapped(
    scanned: Sequence[tuple[Place, Tree]], card: Card | None, extras: list[str]
) -> list[tuple[Place, Tree]]:
    """Return each part without the folders it is wrapped in.

    One that holds the title's markers tells it itself; the others are wrapped as that one was, or, of
    an archive, in a single folder around everything.
    """
    markers = card.file.program.markers if card is not None else []
    found = [find_root(tree, markers, where=place.location) for place, tree in scanned if markers]
    roots = found or [None] * len(scanned)
    told = {root.folder for root in roots if root is not None}
    out = []
    for (place, tree), root in zip(scanned, roots, strict=True):
        extras += [f"{place.location}: {name}" for name in (root.extras if root else ())]
        folder = root.folder if root else _wrapper(place, tree, told, markers)
        out.append((SubPlace(place, folder), tree.under(folder)) if folder else (place, tree))
    return out


def _wrapper(place: Place, tree: Tree, told: set[str], markers: Sequence[str]) -> str:
    """Return the folder a part without all markers is wrapped in; `told` are those of the others."""
    for folder in sorted(told - {""}):
        if folder in tree:
            return folder
    top = _single_top(tree)
    if any(f"{top}/{marker}" in tree for marker in markers):
        return top
    return "" if isinstance(place, FolderPlace) or told == {""} else top


def _single_top(tree: Tree) -> str:
    tops = [path for path in tree if "/" not in path]
    return tops[0] if len(tops) == 1 and tree[tops[0]].kind == DIR else ""

"""Coverage: what in an install belongs to which category, and what belongs to none."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from ..places import Tree
from .card import PROGRAM, Card

__all__ = ["PROGRAM_FILES", "UNLISTED", "Belonging", "belongings", "unlisted"]

PROGRAM_FILES = "(program)"
UNLISTED = "(uncategorised)"


class Belonging(Struct, frozen=True):
    """Some files that belong together: a category, or a folder, with its files and their size."""

    name: str
    files: int
    size_bytes: int


def belongings(card: Card, tree: Tree) -> list[Belonging]:
    """Return what is there by category, last the program's own files and the user's in none."""
    names = (*card.categories, PROGRAM_FILES, UNLISTED)
    found = _summed(tree, lambda path: card.category_of(path) or _outside(path))
    return [found[name] for name in names if name in found]


def unlisted(card: Card, tree: Tree) -> list[Belonging]:
    """Return the folders of the user's files that no category of the card lists."""
    alone = tree.select(lambda path: not card.category_of(path) and _outside(path) == UNLISTED)
    return list(_summed(alone, lambda path: path.rpartition("/")[0] + "/").values())


def _outside(path: str) -> str:
    return PROGRAM_FILES if path.startswith(f"{PROGRAM}/") else UNLISTED


def _summed(tree: Tree, name_of: Callable[[str], str]) -> dict[str, Belonging]:
    sums: dict[str, tuple[int, int]] = {}
    for path in tree.files:
        name = name_of(path)
        files, size = sums.get(name, (0, 0))
        sums[name] = files + 1, size + tree[path].size
    return {name: Belonging(name, *both) for name, both in sums.items()}

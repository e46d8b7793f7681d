"""Finding the root of a title in a download: through wrapper folders and folders of one name in another."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from ..errors import DecisionNeeded
from ..places import DIR, Tree

__all__ = ["Root", "find_root"]


class Root(Struct, frozen=True):
    """Where a title's files begin in a tree ("" for the top), and what else lies beside them."""

    folder: str
    extras: tuple[str, ...] = ()


def find_root(tree: Tree, markers: Sequence[str], *, where: str) -> Root | None:
    """Return the folder that holds all the markers; None if none does.

    A folder inside another that has them belongs to the outer one.

    Raises:
        DecisionNeeded: two folders beside each other have them.
    """
    found: list[str] = []
    for path in sorted(tree):
        if path != markers[0] and not path.endswith(f"/{markers[0]}"):
            continue
        top = path[: -len(markers[0])]
        if all(top + marker in tree for marker in markers):
            found.append(top)
    tops = [top for top in found if not any(top != o and top.startswith(o) for o in found)]
    if len(tops) > 1:
        raise DecisionNeeded(
            f"{len(tops)} folders in it could be meant",
            where=where,
            choices=tuple(top.rstrip("/") for top in tops),
            remedy="Unpack the one you mean, or give its folder.",
        )
    if not tops:
        return None
    return Root(tops[0].rstrip("/"), _beside(tree, tops[0]))


def _beside(tree: Tree, top: str) -> tuple[str, ...]:
    """Return what does not lie in `top` nor holds it; a folder stands for all in it."""
    found = []
    for path, node in tree.items():
        folder = path.rpartition("/")[0]
        on_the_way = not folder or top.startswith(f"{folder}/")
        if on_the_way and not path.startswith(top) and not top.startswith(f"{path}/"):
            found.append(path + ("/" if node.kind == DIR else ""))
    return tuple(found)

"""Coverage: which things of the program a pack has something for, and which of its own fit nothing."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from ..cards import Format
from ..places import Tree

__all__ = ["covered"]

_EXAMPLES = 3


def covered(format: Format, folder: str, members: Iterable[str], *, tree: Tree) -> Iterator[str]:
    """Yield what is to be known of a pack beside the program it is for, by what its card says it covers.

    `covers` of a format maps folders of a pack to folders of the program; what lies under one name in
    both is covered, whatever the extension.
    """
    for inside, program in format.table.covers.items():
        mine = _below(members, inside)
        theirs = _below(tree.files, program)
        lacking, strange = sorted(theirs - mine), sorted(mine - theirs)
        if lacking:
            yield f"{folder} has nothing for {len(lacking)} of {len(theirs)} in {program}: {_some(lacking)}"
        if strange:
            yield f"{folder} has {len(strange)} in {inside} that the program does not have: {_some(strange)}"


def _below(paths: Iterable[str], folder: str) -> set[str]:
    """Return what lies below a folder, without its extension."""
    head = folder.strip("/") + "/"
    names = (path[len(head) :] for path in paths if path.startswith(head))
    return {
        name.rpartition("/")[0] + "/" + name.rpartition("/")[2].partition(".")[0] for name in names
    }


def _some(names: list[str]) -> str:
    more = f" and {len(names) - _EXAMPLES} more" if len(names) > _EXAMPLES else ""
    return ", ".join(name.lstrip("/") for name in names[:_EXAMPLES]) + more

"""Subjects: what a backup is made of, and what it is called where nothing says so."""

from __future__ import annotations

import os
import re
from typing import Any

from ..errors import UsageError
from ..places import Place, Tree, open_place
from .entries import LeftOut, Tag, Tagged

__all__ = ["own_name", "place_and_tag", "without_disposable"]


def place_and_tag(subject: Tagged | Place | str | os.PathLike[str]) -> tuple[Place, Tag]:
    """Return what is to be kept, and its tag; what has none is known by its own name."""
    opened = open_place(subject) if isinstance(subject, (str, os.PathLike)) else subject
    place: Any = getattr(opened, "place", opened)
    if not hasattr(place, "survey"):
        what = (
            f"a backup is made of a folder, a place or an install, not of {type(subject).__name__}"
        )
        raise UsageError(what, remedy="Give its path, or open_place(path).")
    own = getattr(opened, "tag", None)
    return place, own if isinstance(own, Tag) else Tag()


def without_disposable(tree: Tree, tag: Tag) -> tuple[Tree, LeftOut | None]:
    """Return what is kept of a tree without being asked for, and what is not; None if that is nothing."""
    gone = [path for path in tree.leaves if tag.disposes(path)] if tag.disposable else []
    if not gone:
        return tree, None
    names = tuple(n for n in tag.disposable if any(map(tag.categories[n], gone)))
    left = set(gone)
    size = sum(tree[path].size for path in gone)
    return tree.select(lambda path: path not in left), LeftOut(names, len(gone), size)


def own_name(location: str) -> str:
    """Return the last part of a path or URL, without the ending of an archive."""
    name = location.replace(os.sep, "/").rstrip("/").rpartition("/")[2]
    return re.sub(r"(?i)\.(zip|tar|tgz|tar\.(gz|bz2|xz|zst))$", "", name)

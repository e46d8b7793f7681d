"""Capabilities: what a place can say of itself beyond what it holds: its folders, its limits, its parts.

Three members are all a place needs to be read (`Place`). A kind of place that knows more overrides what
stands here; one that says nothing is one part of unknown limits, on no disk of this machine.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from .names import collisions
from .place import Place
from .storage_limits import NO_LIMITS, StorageLimits
from .tree import Tree

__all__ = [
    "Capable",
    "capabilities_of",
    "limits_by_part_of",
    "limits_of",
    "parts_of",
    "roots_of",
    "tells_names_apart",
]


class Capable:
    """What every place of ours answers; the defaults are of one that knows nothing of itself."""

    is_archive = False  # a change of it is a change of the one file it is
    hands_out_verified = False  # what is read was checked against its digest
    item = ""  # the name under which all it holds stands, if it is one item of a folder
    missing = ""  # the folder to make before anything can be brought into it
    remote: Any = None  # the remote it is on

    def __repr__(self) -> str:
        return f"<{type(self).__name__} {getattr(self, 'location', '')}>"

    @property
    def location(self) -> str:
        """Where the place is, as shown to people."""
        raise NotImplementedError

    def roots(self) -> dict[str, str]:
        """Return the folders it consists of, by name; see `roots_of`."""
        return {"": self.location}

    def pieces(self) -> Mapping[str, Place]:
        """Return the places it is made of, by their top folders; a single one is ""."""
        return {"": self}  # type: ignore[dict-item]

    def limits(self) -> StorageLimits:
        """Return what it can hold, if it is one part."""
        return NO_LIMITS

    def tells_apart(self, tree: Tree) -> bool:
        """Tell whether names that differ in case only are two in it, while it holds `tree`."""
        return False

    def folders(self) -> dict[str, Any]:
        """Return the folders on disk it is made of; none if it is not made of such alone."""
        return {}

    def in_folder(self, path: str) -> tuple[Any, str] | None:
        """Return the folder on disk that a file of it lies in, and its path there; None if in none."""
        return None


class _Plain(Capable):
    """A place of three members, of which no more is known."""

    def __init__(self, place: Place) -> None:
        self._place = place

    @property
    def location(self) -> str:
        return self._place.location

    def pieces(self) -> Mapping[str, Place]:
        return {"": self._place}


def capabilities_of(place: Place) -> Capable:
    """Return what a place says of itself."""
    return place if isinstance(place, Capable) else _Plain(place)


def parts_of(place: Place) -> Mapping[str, Place]:
    """Return the places that one is made of, by their top folders; one of a single part is ""."""
    return capabilities_of(place).pieces()


def roots_of(place: Place) -> dict[str, str]:
    """Return the folders a place consists of, by name.

    "" stands for a single folder, file or archive, "." for a folder as an item of the one it is in.
    """
    return capabilities_of(place).roots()


def limits_of(place: Place) -> StorageLimits:
    """Return what a place of one part can hold: of a server or disk what is known; else all there is."""
    return capabilities_of(place).limits()


def limits_by_part_of(place: Place) -> dict[str, StorageLimits]:
    """Return what each part of a place can hold, by the part's name; see `roots_of`."""
    return {name: limits_of(part) for name, part in parts_of(place).items()}


def tells_names_apart(place: Place, tree: Tree) -> bool:
    """Tell whether names that differ in case or Unicode form only are two in a place that holds a tree.

    It is looked at, not written to; where it cannot be seen they are taken for one.
    """
    return bool(collisions(tree)) or capabilities_of(place).tells_apart(tree)

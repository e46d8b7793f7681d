"""Views: a part of a place as a place, and several places as one.

An install is often two folders: the program's and the user's. Joined under one name each they
are one place, so that one changeset covers both and either all of it happens or nothing.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from typing import Protocol

from ..errors import UsageError
from .capabilities import Capable, capabilities_of, tells_names_apart
from .folder import FolderPlace
from .place import Place
from .seen import Seen
from .tree import DIR, Node, Tree

__all__ = [
    "JoinedPlace",
    "LaidPlace",
    "SubPlace",
    "disk_path",
    "folder_with",
    "folders_of",
    "look",
    "outline",
]


class Lookable(Protocol):
    """A place that can be asked about some paths without looking at all there is."""

    def look(self, paths: Iterable[str], *, seen: Seen | None = None) -> dict[str, Node]:
        """Return what stands at the paths, where anything does."""
        ...


class SubPlace(Capable):
    """What lies in one folder of another place."""

    def __init__(self, place: Place, folder: str) -> None:
        self.place = place
        self.folder = folder

    @property
    def location(self) -> str:
        return f"{self.place.location}/{self.folder}"

    def in_folder(self, path: str) -> tuple[FolderPlace, str] | None:
        return folder_with(self.place, f"{self.folder}/{path}")

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the folder's part of the other place's tree."""
        inner = seen.above(self.folder) if seen is not None else None
        return self.place.survey(seen=inner).under(self.folder)

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield contents under their paths in this view."""
        start = f"{self.folder}/"
        for path, blocks in self.place.read(start + path for path in paths):
            yield path[len(start) :], blocks


class JoinedPlace(Capable):
    """Places side by side, each as one top folder of the whole.

    `parts` maps the name of the top folder ("program", "user") to the place that is there.
    """

    def __init__(self, parts: Mapping[str, Place]) -> None:
        self.parts = dict(parts)

    @property
    def location(self) -> str:
        places = [place.location for place in self.parts.values()]
        outer = [x for x in places if not any(x.startswith(y + os.sep) for y in places)]
        return " + ".join(outer)

    def roots(self) -> dict[str, str]:
        return {name: part.location for name, part in self.parts.items()}

    def pieces(self) -> Mapping[str, Place]:
        return self.parts

    def tells_apart(self, tree: Tree) -> bool:
        return all(tells_names_apart(part, tree.under(n)) for n, part in self.parts.items())

    def folders(self) -> dict[str, FolderPlace]:
        inner = {name: capabilities_of(part).folders() for name, part in self.parts.items()}
        whole = all("" in folders for folders in inner.values())
        return {name: folders[""] for name, folders in inner.items()} if whole else {}

    def in_folder(self, path: str) -> tuple[FolderPlace, str] | None:
        name, _, rest = path.partition("/")
        return folder_with(self.parts[name], rest) if name in self.parts else None

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the parts' trees, each under its name."""
        whole = Tree()
        for name, place in self.parts.items():
            part = place.survey(seen=seen.under(name) if seen is not None else None)
            whole = whole.overlay({name: Node(DIR), **part.moved_into(name)})
        return whole

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield contents part by part.

        Raises:
            UsageError: there is no such file.
        """
        for name, some in _by_part(paths).items():
            if name not in self.parts or "" in some:
                path = name if "" in some else f"{name}/{some[0]}"
                raise UsageError(f"there is no file {path}", where=self.location)
            for path, blocks in self.parts[name].read(some):
                yield f"{name}/{path}", blocks


class LaidPlace(Capable):
    """Places laid over each other: each path is read from the place that is named for it."""

    def __init__(self, owners: Mapping[str, Place]) -> None:
        self._owners = dict(owners)

    @property
    def location(self) -> str:
        return " + ".join(dict.fromkeys(place.location for place in self._owners.values()))

    def owner(self, path: str) -> Place | None:
        """Return the place a path is read from."""
        return self._owners.get(path)

    def in_folder(self, path: str) -> tuple[FolderPlace, str] | None:
        owner = self.owner(path)
        return folder_with(owner, path) if owner is not None else None

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree; where several places are one path, that of the place it is read from."""
        trees = {place: place.survey() for place in set(self._owners.values())}
        return Tree({path: trees[place][path] for path, place in self._owners.items()})

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield contents place by place.

        Raises:
            UsageError: there is no such file.
        """
        wanted: dict[Place, list[str]] = {}
        for path in paths:
            if path not in self._owners:
                raise UsageError(f"there is no file {path}", where=self.location)
            wanted.setdefault(self._owners[path], []).append(path)
        for place, some in wanted.items():
            yield from place.read(some)


def folders_of(place: Place) -> dict[str, FolderPlace]:
    """Return the folders a place consists of; an empty mapping if it is not made of folders."""
    return capabilities_of(place).folders()


def outline(place: Place) -> Tree:
    """Return what lies where in a place; without sizes and times where to learn them takes longer."""
    if isinstance(place, JoinedPlace):
        whole = Tree()
        for name, part in place.parts.items():
            whole = whole.overlay({name: Node(DIR), **outline(part).moved_into(name)})
        return whole
    return place.outline() if type(place) is FolderPlace else place.survey()


def look(place: Place, paths: Iterable[str], *, seen: Seen | None = None) -> Tree:
    """Return the tree of what stands at some paths of a place made of folders, or a remote."""
    folders = folders_of(place)
    if "" in folders or not folders:
        one: Lookable = folders.get("") or place  # type: ignore[assignment]
        return Tree(one.look(paths, seen=seen))
    found: dict[str, Node] = {}
    for name, some in _by_part(paths).items():
        if "" in some:
            found[name] = Node(DIR)  # the top of a part, which is always there
        inner = folders[name].look(
            filter(None, some), seen=seen.under(name) if seen is not None else None
        )
        found.update((f"{name}/{path}", node) for path, node in inner.items())
    return Tree(found)


def _by_part(paths: Iterable[str]) -> dict[str, list[str]]:
    by_part: dict[str, list[str]] = {}
    for path in paths:
        name, _, rest = path.partition("/")
        by_part.setdefault(name, []).append(rest)
    return by_part


def disk_path(place: Place, path: str) -> str | None:
    """Return where a file of a place lies on disk; None if it lies in something else."""
    found = folder_with(place, path)
    return found[0].path(found[1]) if found is not None else None


def folder_with(place: Place, path: str) -> tuple[FolderPlace, str] | None:
    """Return the folder on disk that a file of a place lies in, and its path there; None if in none."""
    return capabilities_of(place).in_folder(path)

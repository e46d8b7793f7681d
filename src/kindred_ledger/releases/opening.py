"""Opening a source of releases: a folder with an index, or one at an address."""

from __future__ import annotations

import os
from urllib.parse import urlsplit

from ..errors import PlaceError, UsageError
from ..places import refusals
from ..progress import Progress
from .release_index import Part
from .sources import ASK, LARGEST_INDEX, RetryPolicy, Source, check_part

__all__ = ["FolderSource", "source_at"]


def source_at(where: str) -> Source:
    """Return the source whose index is at a path or an http(s) URL.

    Raises:
        UsageError: it is neither.

    >>> kl.source_at("downloads/releases.json").name
    'releases.json'
    """
    kind = urlsplit(where).scheme if "://" in where else ""
    if kind in ("http", "https"):
        from .fetching import HttpSource  # slow to import

        return HttpSource(where)
    if kind:
        raise UsageError("a release index is at an http(s) address or in a file", where=where)
    path = os.path.abspath(os.path.expanduser(where))
    if not os.path.isfile(path):
        raise UsageError("there is no release index here", where=where, remedy="Check the path.")
    return FolderSource(path)


class FolderSource:
    """An index in a folder, its parts beside it: they are used where they are."""

    def __init__(self, path: str) -> None:
        self._folder, self.name = os.path.split(path)
        self.location = path

    def read(self, name: str) -> bytes:
        path = os.path.join(self._folder, *name.split("/"))
        with refusals(path), open(path, "rb") as file:
            return file.read(LARGEST_INDEX)

    def address(self, part: Part) -> str:
        return os.path.join(self._folder, *part.file.split("/"))

    def fetch(self, part: Part, folder: str, *, patience: RetryPolicy, progress: Progress) -> str:
        path = self.address(part)
        if not os.path.isfile(path):
            raise PlaceError(f"the part {part.name} is missing", where=path, remedy=ASK)
        with progress.task(f"checking {part.name}", total=part.size, unit="bytes") as task:
            check_part(part, path, task)
        return path

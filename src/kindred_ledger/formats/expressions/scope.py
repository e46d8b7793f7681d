"""What the names of an expression mean at a place in a document."""

from __future__ import annotations

from typing import Any

from ...errors import UsageError
from ..document import Document, Path
from .language import Scope
from .values import MISSING

__all__ = ["scope_of"]


def scope_of(document: Document, path: Path = (), *, inside: bool = False) -> Scope:
    """Return where the names of an expression are looked up: from the record outwards.

    The record is what a path lies in; `inside`: it is what is at the path.
    """
    record = path if inside else path[:-1]

    def get(place: Path) -> Any:
        try:
            return document.get(place) if not place or document.find(place) else MISSING
        except UsageError:
            return MISSING

    def look(name: Path) -> Any:
        if name[0] == "file" and len(name) > 1:
            return get(name[1:])
        if name[0] == "this":
            return get((*record, *name[1:]))
        if name == ("value",):
            return get(path)
        for depth in range(len(record), -1, -1):
            found = get((*record[:depth], *name))
            if found is not MISSING:
                return found
        return MISSING

    return look

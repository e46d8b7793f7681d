"""Links: the other mods that a descriptor names: those it needs, those it conflicts with, those before it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from msgspec import Struct

from ...errors import VersionError
from ...versions import Version
from ..models import LinkKey
from .ranges import Builds, read_builds

__all__ = ["Link", "read_links"]

_TEXT = re.compile(r"\s*([^\s<>=!~^@,\[(]+)\s*@?\s*(.*?)\s*")


class Link(Struct, frozen=True):
    """Another mod that is named: its id, in which versions, and whether it need not be there.

    `versions` None means any; `fault` says what is not understood about it.
    """

    id: str
    versions: Builds | None = None
    optional: bool = False
    fault: str = ""

    def __str__(self) -> str:
        return f"{self.id} {self.versions}" if self.versions is not None else self.id


def read_links(value: Any, key: LinkKey) -> tuple[Link, ...]:
    """Return the mods that a value of a descriptor names; see `LinkKey` for its shapes."""
    return tuple(_links(value, key))


def _links(value: Any, key: LinkKey) -> Iterator[Link]:
    if isinstance(value, list):
        for each in value:
            yield from _links(each, key)
    elif isinstance(value, dict) and isinstance(value.get(key.id), str):
        optional = value.get(key.optional) in (True, "true", "True", "yes", "1")
        yield _link(value[key.id].strip(), value.get(key.versions), optional)
    elif isinstance(value, dict):
        for name, versions in value.items():
            yield _link(str(name).strip(), versions, False)
    elif isinstance(value, str) and value.strip():
        match = _TEXT.fullmatch(value)
        if match is None:
            yield Link(value.strip(), fault=f"{value!r} names no mod")
        else:
            yield _link(match[1], match[2] or None, False)
    elif value not in (None, ""):
        yield Link(str(value), fault=f"{value!r} names no mod")


def _link(id: str, versions: Any, optional: bool) -> Link:
    if versions in (None, "", "*"):
        return Link(id, None, optional)
    try:
        return Link(id, read_builds(versions, Version.parse, "later"), optional)
    except VersionError as error:
        return Link(id, None, optional, f"{id}: {error.what}")

"""What is baked into a save: groups of fields that a build reads only when a game is begun, old and new.

This answers why an old game does not show what a new build brought. Nothing is changed here.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from ...cards import Install
from ...cards.transplant_models import BakedTable, TransplantTable
from ...errors import FormatError
from ...formats import Document, decode, parse_path
from ...places import read_bytes

__all__ = ["BakedField", "BakedGroup", "baked_groups"]


class BakedField(Struct, frozen=True):
    """One value that a save keeps: as it is there, and as the new build has it; None: it is not there.

    >>> kl.BakedField("peat", "4", "6").differs
    True
    """

    name: str
    old: str | None
    new: str | None

    @property
    def differs(self) -> bool:
        """Whether the new build has something else."""
        return self.old != self.new


class BakedGroup(Struct, frozen=True):
    """A group of fields that stay as they were when the game was begun; `why` says what they do.

    `source` is what the new values were read from; "" if nothing tells them.

    >>> fares = kl.forecast_transplant(fleet_install, fresh_install).baked[0]
    >>> fares.source, [each.name for each in fares.differing]
    ('fresh.fleet', ['peat.price', 'letters.price', 'tallow.price', 'rope.price'])
    """

    name: str
    why: str
    source: str
    fields: tuple[BakedField, ...]

    @property
    def differing(self) -> tuple[BakedField, ...]:
        """The fields that the new build has otherwise."""
        return tuple(each for each in self.fields if each.differs)


def baked_groups(
    old: Document,
    rules: TransplantTable,
    new: Document | None,
    build: Install | None,
    *,
    where: str = "",
    new_name: str = "",
) -> tuple[BakedGroup, ...]:
    """Return what is baked into a save, beside a save that the new build made, or the build's own files.

    `where` is what the save is called, `new_name` the one that the new build made.

    Raises:
        FormatError: a file of the build cannot be read, or a record has no key.
    """
    out = []
    for row in rules.baked:
        there = old.find(parse_path(row.at)) or (new is not None and new.find(parse_path(row.at)))
        if not there:
            raise FormatError(
                f"there is no {row.at}",
                where=where,
                remedy=f"Put `at` of the group {row.name} of `baked` in the card right.",
            )
        before = _values(old, row.at, row)
        after, source = _new_values(row, new, build, new_name)
        names = dict.fromkeys((*before, *after))
        fields = tuple(
            BakedField(name, before.get(name), after.get(name) if source else before.get(name))
            for name in names
        )
        out.append(BakedGroup(row.name, row.why, source, fields))
    return tuple(out)


def _new_values(
    row: BakedTable, new: Document | None, build: Install | None, name: str
) -> tuple[Mapping[str, str], str]:
    if new is not None and new.find(parse_path(row.at)):
        return _values(new, row.at, row), name
    if build is None or row.build is None:
        return {}, ""
    path = row.build.file.lstrip("/")
    if path not in build.place.survey():
        return {}, ""
    try:
        document = decode(read_bytes(build.place, path), row.build.codec)
        return _values(document, row.build.at, row), path
    except FormatError as error:
        raise error.inside(path) from None


def _values(document: Document, at: str, row: BakedTable) -> dict[str, str]:
    """Return the single values at a path by name; records of a list by their key."""
    path = parse_path(at)
    out: dict[str, str] = {}
    if document.find(path):
        _add(out, "", document.get(path), row)
    return out


def _add(out: dict[str, str], name: str, value: Any, row: BakedTable) -> None:
    if isinstance(value, dict):
        for key, inner in value.items():
            _add(out, f"{name}.{key}" if name else str(key), inner, row)
    elif isinstance(value, list):
        for at, inner in enumerate(value):
            key = str(at)
            if row.key and isinstance(inner, dict):
                if row.key not in inner:
                    raise FormatError(f"a record of {row.name} has no {row.key}", where=row.at)
                key = str(inner[row.key])
                rest = {each: v for each, v in inner.items() if each != row.key}
                _add(out, f"{name}.{key}" if name else key, rest, row)
                continue
            _add(out, f"{name}.{key}" if name else key, inner, row)
    else:
        out[name or row.name] = str(value)

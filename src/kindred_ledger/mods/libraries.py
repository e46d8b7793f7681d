"""Library: the parts that projects are made of, with their parameters, and what both were called before."""

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from ..cards.models import LibraryTable
from ..cards.mods import read_values
from ..errors import FormatError, UsageError
from ..formats import parse_path, values_at

__all__ = ["Library", "Part", "old_names"]


class Part(Struct, frozen=True):
    """A part of a library: its parameters with their defaults, and the old names of both."""

    name: str
    parameters: Mapping[str, Any]
    was: tuple[str, ...]
    were: Mapping[str, str]  # the parameter of today by its old name


class Library(Struct, frozen=True):
    """A library: its name, version, file, and parts."""

    name: str
    version: str
    file: str
    parts: Mapping[str, Part]

    def successors(self, part: str, of: Library | None) -> list[Part]:
        """Return the parts that one of another version may be here, by the old names that either lists."""
        before = of.parts[part].was if of is not None and part in of.parts else ()
        return [
            each
            for name, each in self.parts.items()
            if name == part or part in each.was or name in before
        ]

    @staticmethod
    def load(path: str, table: LibraryTable) -> Library:
        """Read the file of a library.

        Raises:
            UsageError: there is no such file.
            FormatError: it is damaged, or has no name or version.
        """
        try:
            with open(path, "rb") as file:
                data = file.read()
        except OSError as error:
            raise UsageError(f"the library cannot be read: {error.strerror}", where=path) from error
        try:
            values = read_values(data, os.path.basename(path), table.codec)
        except FormatError as error:
            raise error.inside(path) from None
        told = {
            key: next(values_at(values, parse_path(key)), "") for key in (table.name, table.version)
        }
        parts = next(values_at(values, parse_path(table.parts)), None)
        if not all(told.values()) or not isinstance(parts, dict):
            raise FormatError(
                f"this is no library: it lacks {table.name}, {table.version} or {table.parts}",
                where=path,
            )
        made = {name: _part(name, value, table) for name, value in parts.items()}
        return Library(str(told[table.name]), str(told[table.version]), path, made)


def _part(name: str, value: Any, table: LibraryTable) -> Part:
    value = value if isinstance(value, dict) else {}
    parameters = value.get(table.parameters) or {}
    described = {key: each if isinstance(each, dict) else {} for key, each in parameters.items()}
    were = {old: key for key, each in described.items() for old in _names(each.get(table.was))}
    defaults = {key: each.get(table.default) for key, each in described.items()}
    return Part(name, defaults, tuple(_names(value.get(table.was))), were)


def _names(value: Any) -> list[str]:
    return [value] if isinstance(value, str) else [str(each) for each in value or ()]


def old_names(part: Part, name: str) -> list[str]:
    """Return the old names of a parameter."""
    return [old for old, now in part.were.items() if now == name]

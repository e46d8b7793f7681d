"""rename: give a value another name in the record it is in."""

from __future__ import annotations

from typing import ClassVar, Self

from ...formats import format_path
from . import row as read
from .kind import Row, Tables
from .move import Move

__all__ = ["Rename"]


class Rename(Move, frozen=True):
    """A move that stays in the same record."""

    verb: ClassVar = "rename"

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Self:
        path = read.path(row, "rename")
        return cls(path, (*path[:-1], *read.path(row, "to")))

    def describe(self) -> str:
        return f"{format_path(self.path)} is called {format_path(self.to[len(self.path) - 1 :])}"

"""move: give a value another path."""

from __future__ import annotations

from typing import ClassVar, Self

from ...formats import Path, format_path
from . import row as read
from .kind import Editing, PathStep, Row, Tables

__all__ = ["Move"]


class Move(PathStep, frozen=True):
    """Give a value another path; `*` in the new one stands for what it stood for in the old."""

    verb: ClassVar = "move"
    needs: ClassVar = ("to",)

    to: Path

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Self:
        return cls(read.path(row, "move"), read.path(row, "to"))

    def describe(self) -> str:
        return f"{format_path(self.path)} goes to {format_path(self.to)}"

    def run(self, fields: Editing) -> None:
        fields.move(self.path, self.to)

    @property
    def takes(self) -> tuple[Path, ...]:
        return (self.path,)

    @property
    def makes(self) -> tuple[Path, ...]:
        return (self.to,)

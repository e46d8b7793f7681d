"""default: put a value at a path only where nothing is."""

from __future__ import annotations

from typing import Any, ClassVar

from ...formats import Path, format_path
from ...formats.expressions import Expression
from . import row as read
from .kind import Editing, PathStep, Row, Tables
from .values import spelled

__all__ = ["Default"]


class Default(PathStep, frozen=True):
    """Put a value, or what an expression gives, where the last part of a path is missing."""

    verb: ClassVar = "default"
    allows: ClassVar = ("value", "by")

    value: Any  # a single one, or an Expression

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Default:
        return cls(read.path(row, "default"), read.value(row, tables))

    def describe(self) -> str:
        shown = self.value.text if isinstance(self.value, Expression) else spelled(self.value)
        return f"{format_path(self.path)} is {shown} where it is missing"

    def run(self, fields: Editing) -> None:
        shown = self.value.text if isinstance(self.value, Expression) else self.value
        fields.fill(self.path, self.value, f"default {shown}")

    def has_matter(self, fields: Editing) -> bool:
        return bool(fields.document.find(self.path[:-1])) or len(self.path) == 1

    @property
    def makes(self) -> tuple[Path, ...]:
        return (self.path,)

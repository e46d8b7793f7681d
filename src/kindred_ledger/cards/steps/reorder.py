"""reorder: put the rows of a list, or the members of a mapping, into another order."""

from __future__ import annotations

from typing import ClassVar

from ...errors import UsageError
from ...formats import ANY, Path, format_path
from ...formats.expressions import Expression
from . import row as read
from .kind import Editing, PathStep, Row, Tables

__all__ = ["Reorder"]


class Reorder(PathStep, frozen=True):
    """Sort rows by an expression, or order members by their keys."""

    verb: ClassVar = "reorder"
    allows: ClassVar = ("by", "keys", "descending")

    by: Expression | None = None
    keys: tuple[str, ...] = ()
    descending: bool = False

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Reorder:
        if ("by" in row) == ("keys" in row):
            raise UsageError("reorder needs `by`, to sort rows, or `keys`, to order members")
        by = read.condition(row, tables, "by")
        keys, descending = read.texts(row, "keys"), read.flag(row, "descending")
        return cls(read.path(row, "reorder"), by, keys, descending)

    def describe(self) -> str:
        order = self.by.text if self.by is not None else ", ".join(self.keys)
        return f"{format_path(self.path)} is ordered by {order}"

    def run(self, fields: Editing) -> None:
        if self.by is not None:
            fields.sort_rows(self.path, self.by, descending=self.descending)
        else:
            fields.sort_keys(self.path, self.keys)

    @property
    def frees(self) -> tuple[Path, ...]:
        return ((*self.path, ANY),)

"""set: put a value at a path, whatever was there."""

from __future__ import annotations

from typing import Any, ClassVar

from ...formats import ANY, Path, format_path
from ...formats.expressions import Expression
from . import row as read
from .kind import Editing, PathStep, Row, Tables
from .values import spelled

__all__ = ["SetValue"]


class SetValue(PathStep, frozen=True):
    """Put a value, or what an expression gives, at a path; where nothing is, too, if it means one place."""

    verb: ClassVar = "set"
    allows: ClassVar = ("value", "by", "where", "loses")

    value: Any  # a single one, or an Expression
    where: Expression | None = None
    loss: str = ""

    @classmethod
    def read(cls, row: Row, tables: Tables) -> SetValue:
        value, where = read.value(row, tables), read.condition(row, tables)
        return cls(read.path(row, "set"), value, where, read.text(row, "loses"))

    def describe(self) -> str:
        shown = self.value.text if isinstance(self.value, Expression) else spelled(self.value)
        where = f" where {self.where.text}" if self.where is not None else ""
        lost = f", which loses {self.loss}" if self.loss else ""
        return f"{format_path(self.path)} becomes {shown}{where}{lost}"

    def run(self, fields: Editing) -> None:
        shown = self.value.text if isinstance(self.value, Expression) else self.value
        reason = f"set to {shown}"
        if ANY not in self.path and not fields.is_there(self.path) and self.where is None:
            fields.fill(self.path, self.value, reason)
        else:
            fields.change(self.path, self.value, reason, where=self.where, loss=self.loss)

    @property
    def loses(self) -> bool:
        return bool(self.loss)

    @property
    def makes(self) -> tuple[Path, ...]:
        return (self.path,)

    @property
    def frees(self) -> tuple[Path, ...]:
        return () if isinstance(self.value, Expression) else (self.path,)

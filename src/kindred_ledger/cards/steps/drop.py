"""drop: leave a value out, with a reason."""

from __future__ import annotations

from typing import ClassVar

from ...formats import Path, format_path
from ...formats.expressions import Expression
from . import row as read
from .kind import Editing, PathStep, Row, Tables

__all__ = ["Drop"]


class Drop(PathStep, frozen=True):
    """Leave a value out; a loss unless the card says it is none."""

    verb: ClassVar = "drop"
    needs: ClassVar = ("reason",)
    allows: ClassVar = ("lossless", "where")

    reason: str
    lossless: bool = False
    where: Expression | None = None

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Drop:
        lossless, where = read.flag(row, "lossless"), read.condition(row, tables)
        return cls(read.path(row, "drop"), read.text(row, "reason"), lossless, where)

    def describe(self) -> str:
        where = f" where {self.where.text}" if self.where is not None else ""
        return f"{format_path(self.path)}{where} goes: {self.reason}"

    def run(self, fields: Editing) -> None:
        fields.drop(self.path, self.reason, loss=not self.lossless, where=self.where)

    @property
    def loses(self) -> bool:
        return not self.lossless

    @property
    def takes(self) -> tuple[Path, ...]:
        return (self.path,)

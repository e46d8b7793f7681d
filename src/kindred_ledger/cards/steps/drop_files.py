"""drop_files: leave members of a pack out."""

from __future__ import annotations

from typing import ClassVar

from . import row as read
from .kind import Editing, Row, Step, Tables
from .members import check_members, members

__all__ = ["DropFiles"]


class DropFiles(Step, frozen=True):
    """Leave members of a pack out, by a pattern; with `lossless` because the game makes them anew."""

    verb: ClassVar = "drop_files"
    needs: ClassVar = ("reason",)
    allows: ClassVar = ("lossless",)

    pattern: str
    reason: str
    lossless: bool = False

    @classmethod
    def read(cls, row: Row, tables: Tables) -> DropFiles:
        pattern = read.pattern(row, "drop_files")
        check_members(pattern)
        return cls(pattern, read.text(row, "reason"), read.flag(row, "lossless"))

    def describe(self) -> str:
        return f"files {self.pattern} go: {self.reason}"

    def run(self, fields: Editing) -> None:
        for name in members(fields, self.pattern):
            fields.drop((name,), self.reason, loss=not self.lossless)

    def has_matter(self, fields: Editing) -> bool:
        return bool(members(fields, self.pattern))

    @property
    def loses(self) -> bool:
        return not self.lossless

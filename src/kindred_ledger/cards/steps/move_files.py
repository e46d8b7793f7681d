"""move_files: give members of a pack other paths."""

from __future__ import annotations

from typing import ClassVar

from . import row as read
from .kind import Editing, Row, Step, Tables
from .members import check_members, members

__all__ = ["MoveFiles"]


class MoveFiles(Step, frozen=True):
    """Give members of a pack other paths, by a pattern.

    In the new path `{name}` is the last part of the old one, and `{rest}` what comes after the part
    of the pattern that has no `*`.
    """

    verb: ClassVar = "move_files"
    needs: ClassVar = ("to",)

    pattern: str
    to: str

    @classmethod
    def read(cls, row: Row, tables: Tables) -> MoveFiles:
        pattern = read.pattern(row, "move_files")
        check_members(pattern)
        return cls(pattern, read.text(row, "to"))

    def describe(self) -> str:
        return f"files {self.pattern} go to {self.to}"

    def run(self, fields: Editing) -> None:
        head = self.pattern.partition("*")[0].rpartition("/")[0]
        for name in members(fields, self.pattern):
            rest = name[len(head) :].lstrip("/") if head else name
            to = self.to.replace("{name}", name.rpartition("/")[2]).replace("{rest}", rest)
            if to != name:
                fields.move((name,), (to,))

    def has_matter(self, fields: Editing) -> bool:
        return bool(members(fields, self.pattern))

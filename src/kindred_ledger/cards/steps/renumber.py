"""renumber: replace numbers that stand for names by the numbers of the same names in another list."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from ...formats import format_path
from . import row as read
from .kind import Editing, PathStep, Row, Tables

__all__ = ["Renumber"]


class Renumber(PathStep, frozen=True):
    """Replace numbers by name; `otherwise` is for names the new list does not have, None: it fails."""

    verb: ClassVar = "renumber"
    needs: ClassVar = ("old", "new")
    allows: ClassVar = ("otherwise",)

    before: Mapping[str, Any]
    after: Mapping[str, Any]
    otherwise: Any = None

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Renumber:
        before, after = read.table(row["old"], tables), read.table(row["new"], tables)
        return cls(read.path(row, "renumber"), before, after, row.get("otherwise"))

    def describe(self) -> str:
        return f"{format_path(self.path)} is renumbered by name"

    def run(self, fields: Editing) -> None:
        table: dict[str, Any] = {}
        for number, name in self.before.items():
            new = next((n for n, other in self.after.items() if other == name), self.otherwise)
            if new is not None:
                table[number] = (
                    int(new) if isinstance(new, str) and new.lstrip("-").isdigit() else new
                )
        fields.translate(self.path, table, strict=True)

"""map: replace values by a table of old and new."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from ...formats import format_path
from . import row as read
from .kind import Editing, PathStep, Row, Tables
from .values import spelled

__all__ = ["MapValues"]

_MOST = 4  # values of a table that are shown


class MapValues(PathStep, frozen=True):
    """Replace values by a table, `named` if it is one of the card; others stay, or fail if `strict`."""

    verb: ClassVar = "map"
    needs: ClassVar = ("table",)
    allows: ClassVar = ("otherwise", "loses")

    table: Mapping[str, Any]
    strict: bool = False
    loss: str = ""
    named: str = ""

    @classmethod
    def read(cls, row: Row, tables: Tables) -> MapValues:
        given = row["table"]
        return cls(
            read.path(row, "map"),
            read.table(given, tables),
            row.get("otherwise") == "fail",
            read.text(row, "loses"),
            "" if isinstance(given, dict) else str(given),
        )

    def describe(self) -> str:
        lost = f", which loses {self.loss}" if self.loss else ""
        if self.named:
            return f"{format_path(self.path)} is translated by the table {self.named}{lost}"
        pairs = [f"{old} to {spelled(new)}" for old, new in list(self.table.items())[:_MOST]]
        more = f" and {len(self.table) - _MOST} more" if len(self.table) > _MOST else ""
        return f"{format_path(self.path)} goes from {', '.join(pairs)}{more}{lost}"

    def run(self, fields: Editing) -> None:
        fields.translate(self.path, self.table, strict=self.strict, loss=self.loss)

    @property
    def loses(self) -> bool:
        return bool(self.loss)

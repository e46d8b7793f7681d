"""split: make several values of one."""

from __future__ import annotations

from typing import Any, ClassVar

from ...errors import UsageError
from ...formats import Path, format_path, parse_path
from ...formats.expressions import Expression
from . import row as read
from .kind import Editing, PathStep, Row, Tables
from .taken import refuse_taken
from .values import quoted, shown

__all__ = ["Split"]


class Split(PathStep, frozen=True):
    """Make several values of one; the one goes. `sign`: it must have just so many parts."""

    verb: ClassVar = "split"
    needs: ClassVar = ("into",)
    allows: ClassVar = ("at",)

    into: tuple[tuple[str, Expression], ...]
    sign: str | None = None

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Split:
        into, sign = row["into"], None
        if isinstance(into, list):
            sign = read.text(row, "at", " ")
            names = read.texts(row, "into")
            into = {name: f"part(value, {quoted(sign)}, {n})" for n, name in enumerate(names)}
        if not isinstance(into, dict):
            raise UsageError(
                f"'into' is {into!r}, and a list or table of names is expected",
                remedy='Write it like ["first", "last"].',
            )
        pairs = tuple((name, Expression.parse(read.text(into, name), tables)) for name in into)
        return cls(read.path(row, "split"), pairs, sign)

    def describe(self) -> str:
        return f"{format_path(self.path)} is split into {self._names}"

    def run(self, fields: Editing) -> None:
        targets = list(zip(self.makes, (value for _, value in self.into), strict=True))
        if self.sign is not None:
            fields.check(self.path, self._told, "Split it by hand, or with `into = { … }`.")
        if fields.is_there(self.path):
            refuse_taken(fields, [path for path, _ in targets if path != self.path])
        last: Expression | None = None
        for path, expression in targets:
            if path == self.path:
                last = expression
                continue
            fields.fill(path, expression, f"from {format_path(self.path)}", source=self.path)
        if last is not None:
            fields.change(self.path, last, f"split into {self._names}")
        else:
            fields.drop(self.path, f"split into {self._names}", loss=False)

    @property
    def takes(self) -> tuple[Path, ...]:
        return (self.path,)

    @property
    def makes(self) -> tuple[Path, ...]:
        return tuple((*self.path[:-1], *parse_path(name)) for name, _ in self.into)

    @property
    def _names(self) -> str:
        return " and ".join(name for name, _ in self.into)

    def _told(self, value: Any) -> str:
        """Return what is wrong with a value that has more parts than there are names, or fewer."""
        parts = value.count(self.sign) + 1 if isinstance(value, str) and self.sign else 0
        if not parts:
            return f"is {shown(value)}, no text to split"
        named = len(self.into)
        return f"has {parts} parts, and there are {named} names" if parts != named else ""

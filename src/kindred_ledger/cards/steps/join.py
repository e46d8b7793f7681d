"""join: make one value of several."""

from __future__ import annotations

from typing import ClassVar

from ...errors import UsageError
from ...formats import Path, format_path, parse_path
from ...formats.expressions import Expression
from . import row as read
from .kind import Editing, Row, Step, Tables
from .taken import refuse_taken
from .values import quoted

__all__ = ["Join"]


class Join(Step, frozen=True):
    """Make one value of several; those go."""

    verb: ClassVar = "join"
    needs: ClassVar = ("into",)
    allows: ClassVar = ("with", "by")

    paths: tuple[Path, ...]
    into: Path
    value: Expression

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Join:
        paths = tuple(parse_path(text) for text in read.texts(row, "join"))
        if not paths:
            raise UsageError("join needs the paths of what it joins")
        text = read.text(row, "by")
        if not text:
            if len({path[:-1] for path in paths}) > 1:
                raise UsageError("what is joined lies in several records, so `by` must say how")
            names = ", ".join(f"this[{quoted(str(path[-1]))}]" for path in paths)
            text = f"join([{names}], {quoted(read.text(row, 'with', ' '))})"
        return cls(paths, read.path(row, "into"), Expression.parse(text, tables))

    def describe(self) -> str:
        return f"{self._names} are joined into {format_path(self.into)}"

    def run(self, fields: Editing) -> None:
        if self.into in self.paths:
            fields.change(self.into, self.value, f"joined from {self._names}")
        else:
            if any(map(fields.is_there, self.paths)):
                refuse_taken(fields, [self.into])
            for path in self.paths:  # where one of them is, the others must be, too
                fields.fill(self.into, self.value, f"from {self._names}", source=path)
        for path in self.paths:
            if path != self.into:
                fields.drop(path, f"joined into {format_path(self.into)}", loss=False)

    def has_matter(self, fields: Editing) -> bool:
        return any(map(fields.is_there, self.paths))

    @property
    def takes(self) -> tuple[Path, ...]:
        return self.paths

    @property
    def makes(self) -> tuple[Path, ...]:
        return (self.into,)

    @property
    def _names(self) -> str:
        return " and ".join(map(format_path, self.paths))

"""require: a condition on the data, and what to do in the game when it does not hold."""

from __future__ import annotations

from decimal import Decimal
from typing import Any, ClassVar

from ...errors import PreconditionUnmet
from ...formats import format_path
from ...formats.expressions import Expression
from . import row as read
from .kind import Editing, PathStep, Row, Tables
from .values import is_equal, number_of, shown, spelled

__all__ = ["Require"]


class Require(PathStep, frozen=True):
    """A condition on the data; `otherwise` says what to do when it does not hold."""

    verb: ClassVar = "require"
    needs: ClassVar = ("otherwise",)
    allows: ClassVar = ("equals", "one_of", "exists", "at_least", "at_most", "holds")
    is_condition: ClassVar = True

    otherwise: str
    exists: bool | None = None
    holds: Expression | None = None
    equals: Any = None
    one_of: tuple[Any, ...] = ()
    at_least: Decimal | None = None
    at_most: Decimal | None = None

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Require:
        return cls(
            read.path(row, "require"),
            read.text(row, "otherwise"),
            read.flag(row, "exists") if "exists" in row else None,
            read.condition(row, tables, "holds"),
            row.get("equals"),
            tuple(row.get("one_of", ())),
            *(read.decimal(row, name) if name in row else None for name in ("at_least", "at_most")),
        )

    def describe(self) -> str:
        told = [
            words
            for words, is_said in (
                (f"is {spelled(self.equals)}", self.equals is not None),
                (f"is one of {', '.join(map(spelled, self.one_of))}", bool(self.one_of)),
                (f"is at least {self.at_least}", self.at_least is not None),
                (f"is at most {self.at_most}", self.at_most is not None),
                (f"fits {self.holds.text if self.holds else ''}", self.holds is not None),
                ("is there" if self.exists else "is not there", self.exists is not None),
            )
            if is_said
        ]
        return f"only if {format_path(self.path)} {' and '.join(told) or 'is there'}"

    def run(self, fields: Editing) -> None:
        if self.holds is not None:
            fields.require(self.path, self.holds, self.otherwise)
            return
        found = fields.is_there(self.path)
        if found == (self.exists is False):
            told = "is there" if found else "is not there"
            raise PreconditionUnmet(told, where=format_path(self.path), remedy=self.otherwise)
        fields.check(self.path, self._told, self.otherwise)

    def _told(self, value: Any) -> str:
        """Return what is wrong with a value, "" if nothing is."""
        if self.equals is not None and not is_equal(value, self.equals):
            return f"is {value}"
        if self.one_of and not any(is_equal(value, want) for want in self.one_of):
            return f"is {value}"
        if self.at_least is None and self.at_most is None:
            return ""
        number = number_of(value)
        if number is None:
            return f"is {shown(value)}, which is no number"
        if self.at_least is not None and number < self.at_least:
            return f"is {value}, below {self.at_least}"
        if self.at_most is not None and number > self.at_most:
            return f"is {value}, above {self.at_most}"
        return ""

"""retype: make whole numbers, numbers, texts, or true and false of values."""

from __future__ import annotations

from decimal import Decimal
from typing import Any, ClassVar

from ...errors import UsageError
from ...formats import format_path
from ...formats.expressions import Expression
from . import row as read
from .kind import Editing, PathStep, Row, Tables
from .values import as_word, shown

__all__ = ["Retype"]

_WAYS = {
    "integer": "round(number(value))",
    "number": "number(value)",
    "text": "text(value)",
    "truth": 'lower(strip(text(value))) in ("true", "1", "yes", "on")',
}
_TRUTHS = ("true", "1", "yes", "on", "false", "0", "no", "off")


class Retype(PathStep, frozen=True):
    """Make values of another kind.

    What cannot become it fails, and so does a number that would lose what is behind its point, unless
    the card says what is lost.
    """

    verb: ClassVar = "retype"
    needs: ClassVar = ("as",)
    allows: ClassVar = ("loses",)

    kind: str
    loss: str = ""

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Retype:
        if row["as"] not in _WAYS:
            raise UsageError(
                f"there is no kind {row['as']!r}", remedy=f"Use one of {', '.join(_WAYS)}."
            )
        return cls(read.path(row, "retype"), row["as"], read.text(row, "loses"))

    def describe(self) -> str:
        lost = f", which loses {self.loss}" if self.loss else ""
        return f"{format_path(self.path)} is {self.kind} now{lost}"

    def run(self, fields: Editing) -> None:
        fields.check(self.path, self._told, "Put it right first, or `map` it.")
        value = Expression.parse(_WAYS[self.kind])
        fields.change(self.path, value, f"is {self.kind} now", loss=self.loss)

    @property
    def loses(self) -> bool:
        return bool(self.loss)

    def _told(self, value: Any) -> str:
        """Return why a value cannot become of the kind, "" if it can."""
        if isinstance(value, (dict, list)):
            return f"is a {'mapping' if isinstance(value, dict) else 'list'}, which cannot be {self.kind}"
        if self.kind == "truth" and as_word(value) not in _TRUTHS:
            return f"is {shown(value)}, which is neither true nor false"
        if self.kind == "integer" and not self.loss:
            try:
                number = Decimal(as_word(value))
                fraction = number != number.to_integral_value()
            except ArithmeticError:
                return ""  # the expression says what is wrong
            return f"is {shown(value)}, and would lose what is behind its point" if fraction else ""
        return ""

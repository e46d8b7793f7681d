"""rescale: give numbers another scale."""

from __future__ import annotations

from decimal import Decimal
from typing import ClassVar

from ...errors import UsageError
from ...formats import format_path
from ...formats.expressions import Expression
from . import row as read
from .kind import Editing, PathStep, Row, Tables

__all__ = ["Rescale"]

_MOST_DIGITS = 15  # behind the point: what a float of 64 bits can tell apart


class Rescale(PathStep, frozen=True):
    """Make `value * times + plus` of numbers, rounded to so many digits behind the point if told."""

    verb: ClassVar = "rescale"
    allows: ClassVar = ("times", "plus", "round", "loses")

    times: Decimal
    plus: Decimal
    digits: int | None = None
    loss: str = ""

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Rescale:
        digits = row.get("round")
        if digits is not None and not (isinstance(digits, int) and 0 <= digits <= _MOST_DIGITS):
            raise UsageError(
                f"`round` is how many digits stay behind the point: 0 to {_MOST_DIGITS}"
            )
        times, plus = read.decimal(row, "times", 1), read.decimal(row, "plus")
        return cls(read.path(row, "rescale"), times, plus, digits, read.text(row, "loses"))

    def describe(self) -> str:
        plus = f" plus {self.plus}" if self.plus else ""
        rounded = ""
        if self.digits is not None:
            rounded = f", to {self.digits} digits" if self.digits else ", to whole numbers"
        lost = f", which loses {self.loss}" if self.loss else ""
        return f"{format_path(self.path)} is times {self.times}{plus}{rounded}{lost}"

    def run(self, fields: Editing) -> None:
        sum_ = f"number(value) * {self.times} + {self.plus}"
        text = sum_ if self.digits is None else f"round({sum_}, {self.digits})"
        reason = f"times {self.times}" + (f", plus {self.plus}" if self.plus else "")
        fields.change(self.path, Expression.parse(text), reason, loss=self.loss)

    @property
    def loses(self) -> bool:
        return bool(self.loss)

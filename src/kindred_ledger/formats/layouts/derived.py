"""Numbers that follow from other fields: sizes, counts, and what an expression says.

They are held against the file when all of it was read, and made anew when it is written. In an
expression a name means what a path does: the field of the innermost group that has it. `crew.pay` is all of
a column.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ...errors import KindredError
from ..columns import Columns
from ..document import ANY, Path
from ..expressions import MISSING, Expression
from ..tree import LIST, MAPPING
from .item import Field, Item, Reading, Scope, Writing
from .references import column_values, count_of

__all__ = ["Derived", "computed_number", "fill_in", "hold", "holds", "unpacked_size"]


class Derived(Struct, frozen=True):
    """`= size of PATH`, `= size of PATH unpacked`, `= count of PATH`, `= (EXPRESSION)`.

    The size is that of all its bytes in the file, with what tells its own length; `unpacked` that of what a
    block holds. What is not there has no size, and no rows.
    """

    what: str  # size, unpacked, count, or the text of an expression
    path: str = ""
    expression: Expression | None = None

    def __str__(self) -> str:
        if self.expression is not None:
            return f"({self.expression.text})"
        last = " unpacked" if self.what == "unpacked" else ""
        return f"{self.what.replace('unpacked', 'size')} of {self.path}{last}"

    def when_read(self, scope: Scope) -> int | None:
        """Return the number by what was read; None if nothing tells it."""
        if self.expression is not None:
            return computed_number(self.expression, scope)
        found = scope.find(self.path)
        if found is None:
            return 0
        if self.what == "count":
            return count_of(found)
        if self.what == "unpacked":
            return unpacked_size(found)
        return found.end - found.start

    def when_written(self, scope: Scope, writing: Writing) -> int | None:
        """Return the number by what was written; None if nothing tells it."""
        found = scope.find(self.path) if self.expression is None else None
        if self.expression is not None or self.what == "count" or found is None:
            return self.when_read(scope)
        if self.what == "unpacked":
            return writing.unpacked.get(id(found), unpacked_size(found))
        span = writing.span(found)
        return None if span is None else span[1] - span[0]


def hold(reading: Reading, field: Field, item: Item) -> None:
    """Note to hold a number against what it follows from, at the end."""
    groups = list(reading.scope.groups)

    def check() -> None:
        told = field.derives.when_read(Scope(groups))
        if told is None:
            reading.fail(field, f"nothing tells {field.derives}", item.start)
        if told != item.value:
            reading.fail(field, f"is {item.value:,}, and {field.derives} is {told:,}", item.start)

    reading.note_check(check)


def fill_in(writing: Writing, field: Field, item: Item, at: int) -> None:
    """Note to put the number right that was written at an offset, once the rest is."""
    groups = list(writing.scope.groups)

    def fill(end: Writing) -> None:
        told = field.derives.when_written(Scope(groups), end)
        if told is None:
            end.fail(field, f"nothing tells {field.derives}")
        item.value = told
        end.out.put(at, field.kind.pack(told, end, field))

    writing.fills.append(fill)


def unpacked_size(item: Item) -> int | None:
    """Return how many bytes the block holds that an item was read from; None if it is no block."""
    shape = item.shape
    is_block = isinstance(shape, tuple) and shape and isinstance(shape[0], bytes)
    return len(shape[0]) if is_block else None


# ---- what the names of an expression mean ----------------------------------------------------------


def computed_number(expression: Expression, scope: Scope) -> int | None:
    """Return the whole number an expression is; None if it is none, or cannot be computed."""
    try:
        value = expression(lambda name: _looked_up(scope, name))
    except KindredError:
        return None
    return _whole_number(value)


def _whole_number(value: Any) -> int | None:
    """Return a value as a whole number, None if it is none."""
    if isinstance(value, bool) or value is MISSING:
        return None
    try:
        number = int(value)
    except (TypeError, ValueError, OverflowError):
        return None
    return number if number == value else None


def holds(expression: Expression, scope: Scope) -> bool:
    """Tell whether an expression is true; one that cannot be computed is not."""
    try:
        return expression(lambda name: _looked_up(scope, name)) is True
    except KindredError:
        return False


def _looked_up(scope: Scope, name: Path) -> Any:
    found = scope.find(str(name[0]))
    if found is None:
        return MISSING
    column = name[1:] if len(name) < 3 or name[1] != ANY else name[2:]
    if found.kind == LIST and len(column) == 1 and isinstance(column[0], str):
        return [_exact(value) for value in column_values(found, column[0])]
    return _part(_plain(found), name[1:])


def _exact(value: Any) -> Any:
    return value.item() if hasattr(value, "item") else value


def _part(value: Any, rest: Path) -> Any:
    if not rest:
        return value
    part, *more = rest
    if part == ANY and isinstance(value, (list, dict)):
        values = value.values() if isinstance(value, dict) else value
        return [_part(each, tuple(more)) for each in values]
    try:
        return _part(value[part], tuple(more))
    except (KeyError, IndexError, TypeError):
        return MISSING


def _plain(item: Item) -> Any:
    if item.kind == MAPPING:
        return {member.key: _plain(member) for member in item.members or ()}
    if item.kind != LIST:
        return item.value
    if isinstance(item.value, Columns) or (item.members is None and item.rows is None):
        return MISSING
    rows, edited = item.members, item.some or {}
    if rows is None:
        rows = [edited.get(n) or item.maker.row(item, n) for n in range(item.rows.count)]
    return [_plain(row) for row in rows]

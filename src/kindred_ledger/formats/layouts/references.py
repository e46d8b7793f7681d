"""References: values that are row numbers of a table, or stand in one of its columns.

They are held once the whole file was read, so that a table may come after what refers to it.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ..columns import Columns
from .item import Field, Item, Reading, Scope
from .many import MANY

__all__ = ["Reference", "column_values", "count_of", "note_column", "note_value", "referred"]


class Reference(Struct, frozen=True):
    """`in hands`: a row number; `in hands.id`: a value of that column; `or 0` means none."""

    table: str
    column: str = ""
    nothing: Any = None

    def target(self, groups: list[Item]) -> Item | None:
        """Return the table, None if this file has none."""
        return Scope(groups).find(self.table)

    def strangers(self, values: Any, table: Item) -> Any:
        """Return the positions of values that refer to nothing: a list of int."""
        if hasattr(values, "dtype"):
            import numpy as np

            if self.column:
                bad = np.isin(values, column_values(table, self.column), invert=True)
            else:
                bad = (values < 0) | (values >= count_of(table))
            if self.nothing is not None:
                bad &= values != self.nothing
            return np.flatnonzero(bad).tolist()
        if self.column:
            known = set(column_values(table, self.column))
        else:
            known = range(count_of(table))  # type: ignore[assignment]
        return [n for n, v in enumerate(values) if v != self.nothing and v not in known]

    def told(self, value: Any, table: Item) -> str:
        """Return what is wrong with a value."""
        if self.column:
            return f"{value} is no {self.column} of {self.table}"
        return f"{value} is no row of {self.table}, which has {count_of(table):,}"


def note_value(reading: Reading, field: Field, item: Item) -> None:
    """Note to hold a single value against its table at the end."""
    groups = list(reading.scope.groups)

    def hold() -> None:
        table = field.within.target(groups)
        if table is not None and field.within.strangers([item.value], table):
            reading.fail(field, field.within.told(item.value, table), item.start)

    reading.note_check(hold)


def note_column(reading: Reading, field: Field, inner: Field, item: Item) -> None:
    """Note to hold a column of a table against the table it refers to."""
    groups = list(reading.scope.groups)

    def hold() -> None:
        table = inner.within.target(groups)
        if table is None:
            return
        values = column_values(item, inner.name)
        for row in inner.within.strangers(values, table)[:1]:
            place = item.rows.span(row)[0] if item.rows is not None else item.start
            one = Field(f"{field.name}[{row}].{inner.name}".rstrip("."), inner.kind, inner.at)
            reading.fail(one, inner.within.told(values[row], table), place)

    reading.note_check(hold)


def referred(value: Any, reference: Reference, groups: list[Item]) -> Item | None:
    """Return the row a value refers to, None if there is none."""
    table = reference.target(groups)
    if table is None or value == reference.nothing:
        return None
    number = value
    if reference.column:
        values = column_values(table, reference.column)
        number = next((n for n, other in enumerate(values) if other == value), -1)
    if not 0 <= number < count_of(table):
        return None
    row: Item = (
        table.members[number] if table.members is not None else table.maker.row(table, number)
    )
    return row


def count_of(table: Item) -> int:
    """Return how many rows a table has, or members something else."""
    if isinstance(table.value, Columns):
        return int(table.value.count)
    if isinstance(table.value, (str, bytes)):
        return len(table.value)
    if table.members is not None or table.rows is None:
        return len(table.members or ())
    return len(table.rows)


def column_values(table: Item, name: str) -> Any:
    """Return the values of a column, an array where there are many numbers."""
    if isinstance(table.value, Columns):
        return table.value.read(name or "value")
    if table.rows is None or table.members is not None:
        return [_cell(row, name) for row in table.members or ()]
    edited = table.some or {}
    by_columns = table.maker.has_columns(table.rows.context[1])
    if table.rows.count > MANY and not edited and by_columns:
        column = table.maker.columns(table).get(name or "value")
        if getattr(getattr(column, "dtype", None), "kind", "") in ("i", "u"):
            return column
    rows = (edited.get(n) or table.maker.row(table, n) for n in range(table.rows.count))
    return [_cell(row, name) for row in rows]


def _cell(row: Item, name: str) -> Any:
    if not name:
        return row.value
    return next((member.value for member in row.members or () if member.key == name), None)

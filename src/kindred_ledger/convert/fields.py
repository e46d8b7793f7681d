"""Fields: what a step acts on. One by one where they are few, by columns where there are many.

Both ways say the same of every value, and both tell the books why: a step does not know which it has.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from decimal import Decimal
from itertools import repeat
from typing import Any

from ..cards.steps import as_key, exact
from ..errors import FormatError, PreconditionUnmet
from ..formats import (
    ANY,
    Columns,
    Document,
    Path,
    Values,
    as_path,
    as_tabular,
    distinct,
    format_path,
    paths_as_text,
    same_value,
)
from ..formats.expressions import MISSING, Expression, column_of, scope_of
from ..formats.tables import COLUMN_THRESHOLD, differ
from .bookkeeper import Bookkeeper, brief

__all__ = ["Fields"]

Value = Any  # a single value, or an Expression


@paths_as_text(
    "is_there",
    "change",
    "translate",
    "fill",
    "move",
    "drop",
    "check",
    "require",
    "sort_rows",
    "sort_keys",
)
class Fields:
    """The fields of a document, while steps run.

    A table of `column_threshold` rows or more is taken by columns. Paths may be text:
    `change("crew[*].pay", 9, "…")`.
    """

    def __init__(
        self,
        document: Document,
        books: Bookkeeper,
        *,
        column_threshold: int = COLUMN_THRESHOLD,
    ) -> None:
        self.document = document
        self.books = books
        self._column_threshold = column_threshold
        self.tabular = as_tabular(document)

    # ---- what steps do -------------------------------------------------------------------

    def is_there(self, pattern: Path) -> bool:
        """Tell whether a pattern means anything."""
        column = self._column(pattern, ())
        return column.exists if column is not None else bool(self.document.find(pattern))

    def change(
        self,
        pattern: Path,
        value: Value,
        reason: str,
        *,
        where: Expression | None = None,
        loss: str = "",
    ) -> None:
        """Give all that a pattern means a value; what has it already stays as it is.

        `loss` tells what is lost with each value that changes.
        """
        column = self._column(pattern, (value, where), writes=True)
        if column is not None:
            column.change(value, reason, where=where, loss=loss)
            return
        for path in self.document.find(pattern):
            if where is None or self._holds(where, path):
                self._put(path, self._value(value, path), reason, loss)

    def translate(
        self, pattern: Path, table: Mapping[str, Any], *, strict: bool = False, loss: str = ""
    ) -> None:
        """Replace values by what a table has for them; `strict`: all must be in it.

        Raises:
            PreconditionUnmet: the table has nothing for a value, and `strict` asks for all.
        """
        column = self._column(pattern, (Expression.parse("value"),), writes=True)
        if column is not None:
            column.translate(table, strict=strict, loss=loss)
            return
        for path in self.document.find(pattern):
            old = as_key(self.document.get(path))
            if old in table:
                self._put(path, exact(table[old]), f"{old} is now {table[old]}", loss)
            elif strict:
                raise _untold(old, table, path)

    def fill(self, pattern: Path, value: Value, reason: str, *, source: Path | None = None) -> None:
        """Put a value where a pattern's last part is missing.

        `source` is a path of the same record that `value` means in an expression, instead; records
        without it get nothing.
        """
        source = None if source is None else as_path(source)
        column = self._column(pattern, (value,), missing=True)
        if column is not None:
            column.add(value, reason, source)
            return
        within = pattern[: len(source) - 1] if source is not None else pattern[:-1]
        for record in self.document.find(within) if ANY in within else [within]:
            path = (*record, *pattern[len(within) :])
            place = (*record, source[-1]) if source is not None else path
            missing = not self.document.find(path)
            if missing and (source is None or self.document.find(place)):
                self.document.set(path, self._value(value, place), note=reason)

    def move(self, pattern: Path, to: Path) -> None:
        """Give all that a pattern means another path; `ANY` stands for what it stood for."""
        column = self._column(pattern, ()) if pattern[:-1] == to[:-1] else None
        if column is not None:
            column.rename(str(to[-1]))
            return
        for path in self.document.find(pattern):
            target = tuple(
                path[at] if part == ANY and at < len(path) else part for at, part in enumerate(to)
            )
            told = f"moved to {format_path(to)}"
            self.books.explain(self.document, path, told, keeps_value=True)
            self.document.move(path, target)

    def drop(
        self, pattern: Path, reason: str, *, loss: bool, where: Expression | None = None
    ) -> None:
        """Leave out all that a pattern means, or those of it for which a condition holds."""
        if where is not None and pattern[-1] == ANY:
            rows = self._rows(pattern[:-1], where)
            if rows is not None and rows.drop_rows(where, reason, loss=loss):
                return
        column = self._column(pattern, ()) if where is None else None
        if column is not None and column.drop(reason, loss=loss):
            return
        for path in reversed(self.document.find(pattern)):
            if where is None or self._holds(where, path, inside=True):
                self.books.drop(self.document, path, reason, loss=loss)
                self.document.remove(path)

    def check(self, pattern: Path, holds: Callable[[Any], str], remedy: str) -> None:
        """Raise `PreconditionUnmet` for the first value that `holds` says something of."""
        column = self._column(pattern, (Expression.parse("value"),))
        if column is not None:
            column.check(holds, remedy)
            return
        for path in self.document.find(pattern):
            told = holds(self.document.get(path))
            if told:
                raise PreconditionUnmet(told, where=format_path(path), remedy=remedy)

    def require(self, pattern: Path, condition: Expression, remedy: str) -> None:
        """Raise `PreconditionUnmet` where a condition does not hold."""
        column = self._column(pattern, (condition,))
        if column is not None:
            bad = column.first_against(condition)
        else:
            paths = self.document.find(pattern)
            bad = next((path for path in paths if not self._holds(condition, path)), None)
        if bad is not None:
            told = f"{condition.text} does not hold"
            raise PreconditionUnmet(told, where=format_path(bad), remedy=remedy)

    def sort_rows(self, pattern: Path, by: Expression, *, descending: bool = False) -> None:
        """Put the rows of lists into the order of an expression; rows that are equal stay in theirs."""
        reason = f"in the order of {by.text}"
        if ANY not in pattern and (rows := self._rows(pattern, by)) is not None:
            rows.sort(by, reason, descending=descending)
            return
        for path in self.document.find(pattern):
            count = len(self.document.find((*path, ANY)))
            keys = [by(scope_of(self.document, (*path, row), inside=True)) for row in range(count)]
            self._reorder(path, sorted_by(keys, descending=descending), reason)

    def sort_keys(self, pattern: Path, keys: tuple[str, ...]) -> None:
        """Put the members of mappings into an order; those that are not named come after."""
        for path in self.document.find(pattern):
            names = [found[-1] for found in self.document.find((*path, ANY))]
            ranks = [keys.index(n) if n in keys else len(keys) for n in map(str, names)]
            self._reorder(path, sorted_by(ranks), "in the order of its keys")

    # ---- one by one ----------------------------------------------------------------------

    def _value(self, value: Value, path: Path) -> Any:
        return value(scope_of(self.document, path)) if isinstance(value, Expression) else value

    def _put(self, path: Path, new: Any, reason: str, loss: str) -> None:
        document = self.document
        old = document.get(path)
        if not isinstance(old, (dict, list)) and same_value(old, new):
            return
        for inner in reversed(document.find((*path, ANY))):  # emptied, it is a leaf like others
            self.books.drop(document, inner, reason, loss=True)
            document.remove(inner)
        self.books.explain(document, path, reason)
        if loss:
            now = f"{brief(old)} is now {brief(new)}: {loss}"
            self.books.lose("value-narrowed", path, now)
        document.set(path, new, note=reason)

    def _reorder(self, path: Path, order: list[int], reason: str) -> None:
        if order != list(range(len(order))):
            self.books.explain(self.document, path, reason, keeps_value=True)
            self.document.reorder(path, order)

    def _holds(self, condition: Expression, path: Path, *, inside: bool = False) -> bool:
        """Tell whether a condition holds at a path; `inside`: names are looked for in it first."""
        held = condition(scope_of(self.document, path, inside=inside))
        if not isinstance(held, bool):
            told = f"{condition.text} is {held!r}, neither true nor false"
            raise FormatError(told, where=format_path(path))
        return held

    # ---- by columns ----------------------------------------------------------------------

    def _column(
        self,
        pattern: Path,
        values: tuple[Value, ...],
        *,
        missing: bool = False,
        writes: bool = False,
    ) -> Column | None:
        """Return the column a pattern means if it lies in a large table, and what it takes can be read."""
        name = pattern[-1] if pattern else ANY
        if (
            len(pattern) < 2
            or pattern[-2] != ANY
            or ANY in pattern[:-2]
            or not isinstance(name, str)
        ):
            return None
        columns = self._columns(pattern[:-2]) if name != ANY else None
        if columns is None:
            return None
        wanted = [n for v in values if isinstance(v, Expression) for n in v.names]
        if ("value",) in wanted and not missing:
            wanted.append((name,))
        nested = any(isinstance(value, (list, dict)) for value in values)
        holds_more = nested or (writes and name in columns.cells and columns.is_nested(name))
        if holds_more or not _readable(columns, wanted):
            self.close(pattern[:-2])
            return None
        return Column(self, columns, pattern[:-2], name)

    def _rows(self, table: Path, condition: Expression) -> Column | None:
        columns = self._columns(table) if ANY not in table else None
        if columns is None:
            return None
        if any(map(columns.is_nested, columns.cells)) or not _readable(columns, condition.names):
            self.close(table)
            return None
        return Column(self, columns, table, "")

    def _columns(self, table: Path) -> Columns | None:
        if self.tabular is None or len(self.document.find(table)) != 1:
            return None
        return self.tabular.open_columns(table, max(self._column_threshold, 1))

    def close(self, table: Path) -> None:
        """Go on with a table row by row."""
        if self.tabular is not None:
            self.tabular.close_columns(table)


def _readable(columns: Columns, names: Iterable[Path]) -> bool:
    """Tell whether what is named in a record are columns of values, and no bytes or bits."""
    for name in names:
        own = name[1:] if name[0] == "this" else name
        if not own:  # the whole record
            return False
        if own[0] in columns.cells and (len(own) > 1 or not columns.is_readable(str(own[0]))):
            return False
    return True


class Column:
    """One column of a large table, there or not, or all its rows."""

    def __init__(self, fields: Fields, columns: Columns, table: Path, name: str) -> None:
        self._fields = fields
        self._columns = columns
        self._table = table
        self._name = name
        origin = fields.tabular.origin_of(table) if fields.tabular is not None else None
        self._origin: Path = table if origin is None else origin

    @property
    def exists(self) -> bool:
        """Tell whether the table has the column."""
        return self._name in self._columns.cells

    def computed(self, value: Value, source: str = "", *, only: Any = None) -> Any:
        """Return what a value or an expression is for the rows: a column, or one for all.

        Rows where `only` `(n_rows,) bool` is false need no value.
        """
        if not isinstance(value, Expression):
            return value
        columns, own = self._columns, source or self._name or "value"
        outside = scope_of(self._fields.document, self._table[:-1], inside=True)

        def column(name: Path) -> str | None:
            if name == ("value",):
                return own if own in columns.cells else None
            inner = name[1:] if name[0] == "this" else name
            return str(inner[0]) if len(inner) == 1 and inner[0] in columns.cells else None

        def look(name: Path) -> Any:
            found = column(name)
            if found is not None:
                return columns.read(found)
            return MISSING if name[0] == "this" or name == ("value",) else outside(name)

        if not columns.exact:
            return value(look)
        if value.whole:  # of all rows at once, one may have no value where it needs none by itself
            with suppress(FormatError):
                return value(look)
        return self._each(value, column, look, only)

    def _each(
        self,
        value: Expression,
        column: Callable[[Path], str | None],
        look: Callable[[Path], Any],
        only: Any,
    ) -> Any:
        """Return what an expression is for the rows, computed once for all that have the same values."""
        names = dict.fromkeys(found for name in value.names if (found := column(name)) is not None)
        held = {name: self._columns.distinct(name) for name in names}
        if not held:
            return value(look) if only is None or only.any() else None
        numbers: dict[tuple[int, ...], int] = {}
        rows = zip(*(each.codes.tolist() for each in held.values()), strict=True)
        wanted = repeat(True) if only is None else only.tolist()
        codes = [
            numbers.setdefault(row, len(numbers)) if want else 0
            for row, want in zip(rows, wanted, strict=False)
        ]
        results: list[Any] = []
        for row in numbers:
            given = {n: held[n].values[code] for n, code in zip(held, row, strict=True)}

            def singly(name: Path, given: dict[str, Any] = given) -> Any:
                found = column(name)
                return look(name) if found is None else given[found]

            results.append(value(singly))
        return Values(column_of(codes), results or [None])

    def change(
        self, value: Value, reason: str, *, where: Expression | None = None, loss: str = ""
    ) -> None:
        columns, name = self._columns, self._name
        if not self.exists:
            return
        old = columns.comparable(name) if loss else None
        told = None if where is None else self._truth(where)
        new = self.computed(value, only=told)
        columns.write(name, new, where=told)
        self._explain(reason)
        if loss:
            count = int(differ(old, columns.comparable(name)).sum())
            if count:
                path = (*self._table, ANY, name)
                self._fields.books.lose("value-narrowed", path, f"{count:,} values: {loss}")

    def _truth(self, condition: Expression) -> Any:
        """Return for which rows a condition holds: `(n_rows,) bool`."""
        told = self._columns.filled(self.computed(condition))
        if getattr(getattr(told, "dtype", None), "kind", "") != "b":
            raise FormatError(
                f"{condition.text} is neither true nor false", where=format_path(self._table)
            )
        return told

    def translate(self, table: Mapping[str, Any], *, strict: bool, loss: str) -> None:
        if not self.exists:
            return
        old = self._columns.distinct(self._name)
        new = []
        for code, value in enumerate(old.values):
            key = as_key(value)
            if key not in table and strict and (old.codes == code).any():
                row = int((old.codes == code).argmax())
                raise _untold(key, table, (*self._table, row, self._name))
            new.append(exact(table.get(key, value)))
        self.change(self._columns.filled(Values(old.codes, new)), "by the card's table", loss=loss)

    def add(self, value: Value, reason: str, source: Path | None) -> None:
        if self.exists or (source is not None and source[-1] not in self._columns.cells):
            return
        told = self.computed(value, str(source[-1]) if source is not None else "")
        self._columns.write(self._name, told, note=reason)

    def rename(self, to: str) -> None:
        if not self.exists:
            return
        path = format_path((*self._table, ANY, to))
        if to in self._columns.cells:
            remedy = "Drop or move that first."
            raise FormatError("something is there already", where=path, remedy=remedy)
        self._explain(f"moved to {path}", keeps_value=True)
        self._columns.rename(self._name, to)

    def drop(self, reason: str, *, loss: bool) -> bool:
        """Take the column out; False if its rows must be looked at, as they hold nothing else."""
        columns = self._columns
        if not self.exists:
            return True
        if columns.exact and len(columns.cells) == 1:
            self._fields.close(self._table)
            return False
        read, names = columns.origins[self._name], columns.names_in(self._name)
        self._fields.books.drop_column(self._origin, read, names, reason, loss=loss)
        columns.remove(self._name)
        return True

    def drop_rows(self, where: Expression, reason: str, *, loss: bool) -> bool:
        """Take rows out; False if they must be looked at one by one, as none would be left."""
        columns = self._columns
        told = self._truth(where)
        gone = told.nonzero()[0]
        if columns.exact and len(gone) == columns.count:
            self._fields.close(self._table)
            return False
        if len(gone):
            rows = gone if columns.rows is None else columns.rows[gone]
            self._fields.books.drop_rows(self._origin, rows, reason, loss=loss)
            columns.take((~told).nonzero()[0])
        return True

    def sort(self, by: Expression, reason: str, *, descending: bool) -> None:
        keys = distinct(self._columns.filled(self.computed(by)))
        values, codes = keys.values, keys.codes
        ranks = {v: n for n, v in enumerate(dict.fromkeys(
            values[at] for at in sorted_by(values, descending=descending)))}  # fmt: skip
        rank = [ranks[value] for value in values]
        order = column_of(rank or [0])[codes].argsort(kind="stable")
        if (order[1:] < order[:-1]).any():
            for name in self._columns.cells:
                self._name = name
                self._explain(reason, keeps_value=True)
            self._columns.take(order)

    def check(self, holds: Callable[[Any], str], remedy: str) -> None:
        if not self.exists:
            return
        held = self._columns.distinct(self._name)
        bad = {code: told for code, value in enumerate(held.values) if (told := holds(value))}
        for row in held.codes.tolist() if bad else ():
            if row in bad:
                place = int((held.codes == row).argmax())
                where = format_path((*self._table, place, self._name))
                raise PreconditionUnmet(bad[row], where=where, remedy=remedy)

    def first_against(self, condition: Expression) -> Path | None:
        """Return the path of the first row for which a condition does not hold."""
        if not self.exists:
            return None
        bad = (~self._truth(condition)).nonzero()[0]
        return (*self._table, int(bad[0]), self._name) if len(bad) else None

    def _explain(self, reason: str, *, keeps_value: bool = False) -> None:
        read = self._columns.origins[self._name]
        self._fields.books.explain_column(self._origin, read, reason, keeps_value=keeps_value)


def sorted_by(keys: list[Any], *, descending: bool = False) -> list[int]:
    """Return the order of keys that are all numbers or all texts; those that are equal stay in theirs.

    Raises:
        FormatError: they are neither all numbers nor all texts.
    """
    kinds = {isinstance(key, str) for key in keys}
    if len(kinds) > 1 or not all(isinstance(key, (str, int, Decimal, float)) for key in keys):
        raise FormatError("what rows are sorted by must be all numbers, or all texts")
    return sorted(range(len(keys)), key=keys.__getitem__, reverse=descending)


def _untold(key: str, table: Mapping[str, Any], path: Path) -> PreconditionUnmet:
    return PreconditionUnmet(
        f"is {key}, which the card's table does not have",
        where=format_path(path),
        remedy=f"It has: {', '.join(list(table)[:20])}.",
    )

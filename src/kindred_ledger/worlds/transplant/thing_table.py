"""ThingTable: the things of one kind in a save, by columns where they are alike, else one by one.

What always holds: rows of both forms have the same numbers and values, so that nothing above this module
knows which form a table has. A value that is not looked at is carried as it is, to the byte where it lies
in columns.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from copy import deepcopy
from decimal import Decimal
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from ...errors import FormatError
from ...formats import (
    ANY,
    Columns,
    Document,
    Path,
    Values,
    Words,
    as_tabular,
    format_path,
    joined,
    parse_path,
    single_kind,
    taken,
)
from ...formats.expressions import MISSING, Expression, Scope, column_of

__all__ = [
    "KEY",
    "ColumnTable",
    "RecordTable",
    "ThingTable",
    "Truths",
    "WholeNumbers",
    "is_number",
    "open_table",
]

KEY = "@key"  # in place of a field: the key that a thing has in a mapping
_NUMBER = re.compile(r"0|[1-9][0-9]{0,17}")
WholeNumbers = npt.NDArray[np.int64]
Truths = npt.NDArray[np.bool_]


class _Mixed(Exception):
    """A field has values of several kinds, so that it is looked at one by one."""


class ThingTable:
    """The things of one kind; `at` is the path of their list, `count` how many there are."""

    def __init__(self, document: Document, kind: str, at: Path, count: int) -> None:
        self.document, self.kind, self.at, self.count = document, kind, at, count

    def has(self, field: str) -> bool:
        """Tell whether things have a field."""
        raise NotImplementedError

    def names(self) -> list[str]:
        """Return the fields at the top of things."""
        raise NotImplementedError

    def values(self, field: str) -> Any:
        """Return a field of all things: an array, `Words`, or `Values` where it is of several kinds.

        Raises:
            FormatError: it is missing, or holds lists.
        """
        raise NotImplementedError

    def plain(self, field: str, rows: Iterable[int]) -> list[Any]:
        """Return a field of some things as plain values; None where they have none."""
        raise NotImplementedError

    def inner(self, path: Path) -> tuple[WholeNumbers, Any]:
        """Return what lies in lists of things: which thing each value is of, `(m,)`, and the values.

        Raises:
            FormatError: no list is there.
        """
        raise NotImplementedError

    def taken(self, rows: Sequence[int]) -> list[dict[str, Any]]:
        """Return some things as plain values, each a record of its own."""
        raise NotImplementedError

    def path_of(self, row: int) -> Path:
        """Return the path of a thing."""
        return (*self.at, row)

    def name_of(self, row: int, field: str = "") -> str:
        """Return the path of a thing, or of a field of it, as people write it."""
        return format_path((*self.path_of(row), *(parse_path(field) if field else ())))

    def add(self, at: int, record: dict[str, Any]) -> None:
        """Put one more thing into the save, as the one of that number behind those that are there."""
        self.document.set((*self.at, self.count + at), record)

    # ---- what follows from these -------------------------------------------------------------

    def where(self, text: str) -> Truths:
        """Return for which things an expression holds: `(count,)`.

        Raises:
            FormatError: it has no truth for them.
        """
        expression = Expression.parse(text)
        if not self.count:
            return np.zeros(0, np.bool_)
        try:
            told = expression(self._named)
        except _Mixed:
            told = column_of([expression(self._named_in(row)) for row in range(self.count)])
        if isinstance(told, (bool, np.bool_)):
            return np.full(self.count, bool(told))
        if getattr(getattr(told, "dtype", None), "kind", "") != "b":
            raise FormatError(f"{text!r} is neither true nor false", where=format_path(self.at))
        return np.asarray(told)

    def _named(self, name: tuple[str | int, ...]) -> Any:
        """Return what a name of an expression means: a field, else a value of the save."""
        if name[0] != "file":
            field = format_path(name[1:] if name[0] == "this" else name)
            if field and self.has(field):
                found = self.values(field)
                if isinstance(found, Values):
                    raise _Mixed
                return found
        return self._outside(name)

    def _named_in(self, row: int) -> Scope:
        def look(name: tuple[str | int, ...]) -> Any:
            field = format_path(name[1:] if name[0] == "this" else name)
            if name[0] == "file" or not field or not self.has(field):
                return self._outside(name)
            return self.plain(field, (row,))[0]

        return look

    def _outside(self, name: tuple[str | int, ...]) -> Any:
        path = name[1:] if name[0] == "file" else name
        return self.document.get(path) if self.document.find(path) else MISSING

    def whole_numbers(self, field: str) -> WholeNumbers:
        """Return a field of whole numbers: `(count,)`.

        Raises:
            FormatError: it holds something else.
        """
        found = self.values(field)
        if getattr(getattr(found, "dtype", None), "kind", "") in "iu" and _fits(found):
            return np.asarray(found).astype(np.int64)
        raise FormatError(f"{field} is no whole number everywhere", where=format_path(self.at))

    def measures(self, field: str) -> Any:
        """Return a field of numbers: `(count,)`, whole ones as they are, others as float64.

        Raises:
            FormatError: it holds something else.
        """
        found = self.values(field)
        if isinstance(found, Values):
            try:
                return np.array([float(value) for value in found.values])[found.codes]
            except (TypeError, ValueError) as error:
                where = format_path(self.at)
                raise FormatError(f"{field} is no number everywhere", where=where) from error
        if getattr(getattr(found, "dtype", None), "kind", "") not in "iuf":
            raise FormatError(f"{field} is no number everywhere", where=format_path(self.at))
        return found

    def told(self, rows: Iterable[int], field: str) -> list[str]:
        """Return what people call some things: by a field, or by their place."""
        some = list(rows)
        names = self.plain(field, some) if field and self.has(field) else [None] * len(some)
        return [
            str(name) if name not in (None, "") else self.name_of(row)
            for row, name in zip(some, names, strict=True)
        ]


def _fits(numbers: Any) -> bool:
    """Tell whether whole numbers have 64 bits with a sign."""
    return numbers.dtype.kind == "i" or not len(numbers) or int(numbers.max()) < 1 << 63


def _exact(value: Any) -> Any:
    """Return a value as it is one by one: a float as people read it, in the digits of its width."""
    return Decimal(str(value)) if isinstance(value, float) else value


def _listed(values: Any) -> list[Any]:
    return [values.values[code] for code in values.codes.tolist()]


class ColumnTable(ThingTable):
    """Things that are taken by columns."""

    def __init__(self, document: Document, kind: str, at: Path, columns: Columns) -> None:
        super().__init__(document, kind, at, columns.count)
        self.columns = columns
        self._read: dict[str, Any] = {}

    def has(self, field: str) -> bool:
        return str(parse_path(field)[0]) in self.columns.cells

    def names(self) -> list[str]:
        return list(self.columns.cells)

    def values(self, field: str) -> Any:
        if field not in self._read:
            if field not in self.columns.cells:
                where = format_path(self.at)
                raise FormatError(f"things have no field {field!r}", where=where)
            self._read[field] = self._loaded(field)
        return self._read[field]

    def _loaded(self, field: str) -> Any:
        for way in (self.columns.read, self.columns.distinct):
            try:
                return way(field)
            except FormatError:
                if self.columns.is_nested(field):
                    raise
        # Texts where some have none, flags: such are looked at one by one.
        rows = range(self.count)
        return Values(
            np.arange(self.count), [self.document.get((*self.at, n, field)) for n in rows]
        )

    def plain(self, field: str, rows: Iterable[int]) -> list[Any]:
        order = np.fromiter(rows, np.intp)
        found = self.values(field)
        if isinstance(found, Values):
            return [found.values[code] for code in found.codes[order].tolist()]
        if isinstance(found, Words):
            return [found.texts[code] for code in found.codes[order].tolist()]
        some = found[order]
        if some.dtype.kind == "f":  # 0.8 in 32 bits is read as 0.8
            return [float(str(value)) for value in some]
        plain: list[Any] = some.tolist()
        return plain

    def inner(self, path: Path) -> tuple[WholeNumbers, Any]:
        return _flat(self.lists(str(path[0])), path[1:], self)

    def lists(self, field: str) -> list[Any]:
        """Return what things have in a field of lists or mappings, as plain values."""
        if field not in self._read:
            self._read[field] = self.columns.nested(field)  # type: ignore[attr-defined]
        found: list[Any] = self._read[field]
        return found

    def taken(self, rows: Sequence[int]) -> list[dict[str, Any]]:
        columns: dict[str, list[Any]] = {}
        for name in self.columns.cells if rows else ():
            if self.columns.is_nested(name):
                lists = self.lists(name)
                columns[name] = [deepcopy(lists[row]) for row in rows]
            elif self.columns.is_readable(name):
                columns[name] = [_exact(value) for value in self.plain(format_path((name,)), rows)]
            else:  # flags, say: such are read one by one
                return [self.document.get((*self.at, row)) for row in rows]
        names = tuple(columns)
        return [dict(zip(names, each, strict=True)) for each in zip(*columns.values(), strict=True)]


class RecordTable(ThingTable):
    """Things that are taken record by record: not all of them are written alike."""

    def __init__(self, document: Document, kind: str, at: Path, records: list[Any]) -> None:
        super().__init__(document, kind, at, len(records))
        for row, record in enumerate(records):
            if not isinstance(record, dict):
                raise FormatError("expected a record", where=self.name_of(row))
        self.records: list[dict[str, Any]] = records

    def has(self, field: str) -> bool:
        path = parse_path(field)
        path = path[: path.index(ANY)] if ANY in path else path
        return any(_at(record, path) is not MISSING for record in self.records)

    def names(self) -> list[str]:
        found: dict[str, None] = {}
        for record in self.records:
            found.update(dict.fromkeys(record))
        return list(found)

    def values(self, field: str) -> Any:
        path = parse_path(field)
        found = [_at(record, path) for record in self.records]
        for row, value in enumerate(found):
            if isinstance(value, (dict, list)):
                raise FormatError("expected a single value", where=self.name_of(row, field))
        plain = [None if value is MISSING else value for value in found]
        column = single_kind(plain) if plain else None
        return column if column is not None else Values(np.arange(len(plain)), plain)

    def plain(self, field: str, rows: Iterable[int]) -> list[Any]:
        path = parse_path(field)
        found = [_at(self.records[row], path) for row in rows]
        return [None if value is MISSING else value for value in found]

    def inner(self, path: Path) -> tuple[WholeNumbers, Any]:
        before = path[: path.index(ANY)]
        lists = [_at(record, before) for record in self.records]
        return _flat([[] if each in (MISSING, None) else each for each in lists],
                     path[len(before) :], self)  # fmt: skip

    def taken(self, rows: Sequence[int]) -> list[dict[str, Any]]:
        return [deepcopy(self.records[row]) for row in rows]


class KeyedTable(RecordTable):
    """Things that are the values of a mapping, known by their keys: `KEY` is the field of those here.

    A key that is a whole number, as people write it, is that number.
    """

    def __init__(self, document: Document, kind: str, at: Path, things: dict[str, Any]) -> None:
        self.keys = list(things)
        records = [
            {KEY: _as_key(key), **each} if isinstance(each, dict) else each
            for key, each in things.items()
        ]
        super().__init__(document, kind, at, records)

    def path_of(self, row: int) -> Path:
        return (*self.at, self.keys[row])

    def add(self, at: int, record: dict[str, Any]) -> None:
        key = str(record.pop(KEY))
        self.document.set((*self.at, key), record)


def is_number(text: Any) -> bool:
    """Tell whether a text is a whole number as people write it."""
    return isinstance(text, str) and _NUMBER.fullmatch(text) is not None


def _as_key(text: str) -> int | str:
    return int(text) if is_number(text) else text


def _at(value: Any, path: Sequence[str | int]) -> Any:
    """Return what lies at a path of plain values."""
    for part in path:
        if not (isinstance(value, dict) and part in value):
            return MISSING
        value = value[part]
    return value


def _flat(lists: list[Any], path: Path, table: ThingTable) -> tuple[WholeNumbers, Any]:
    """Return the values in lists, one behind the other, and which list each is of."""
    if path == (ANY,) and all(type(each) is list for each in lists):
        rows = np.repeat(np.arange(len(lists)), np.fromiter(map(len, lists), np.int64, len(lists)))
        return rows, [value for each in lists for value in each]
    owners: list[int] = []
    values: list[Any] = []
    for row, each in enumerate(lists):
        for holder, key in _slots(each, path, table, row):
            owners.append(row)
            values.append(holder[key])
    return np.array(owners, np.int64), values


def _slots(value: Any, path: Path, table: ThingTable | None, row: int) -> list[tuple[Any, Any]]:
    """Return the places that a path with `ANY` in it leads to, as containers with keys, in order.

    Errors name the thing of that row of the `table`.
    """
    if value is MISSING or value is None:
        return []
    where = table.name_of(row) if table is not None and not isinstance(value, (dict, list)) else ""
    part, rest = path[0], path[1:]
    if part == ANY:
        if not isinstance(value, list):
            raise FormatError("expected a list", where=where)
        places: list[tuple[Any, Any]] = [(value, at) for at in range(len(value))]
    elif isinstance(value, dict):
        places = [(value, part)] if part in value else []
    else:
        raise FormatError(f"expected a record with {part!r}", where=where)
    if not rest:
        return places
    return [slot for holder, key in places for slot in _slots(holder[key], rest, table, row)]


def open_table(
    document: Document, kind: str, at: str, *, singles: Iterable[str], lists: Iterable[str] = ()
) -> ThingTable:
    """Return the things of a kind; `singles` and `lists` are the fields that will be asked for.

    Raises:
        FormatError: no list of records is there.
    """
    path, wanted = parse_path(at), tuple(singles)
    if not document.find(path):
        keyed = KEY in wanted
        return (
            KeyedTable(document, kind, path, {}) if keyed else RecordTable(document, kind, path, [])
        )
    tabular = as_tabular(document)
    columns = tabular.open_columns(path) if tabular is not None else None
    if columns is not None:
        plain = all(len(parse_path(field)) == 1 for field in wanted)
        nested = all(_is_nested(columns, parse_path(field)) for field in lists)
        if plain and nested:
            return ColumnTable(document, kind, path, columns)
    records = document.get(path)
    if isinstance(records, dict) and KEY in wanted:
        return KeyedTable(document, kind, path, records)
    found = document.find((*path, ANY)) if not isinstance(records, list) else []
    if found and all(isinstance(each[-1], int) for each in found):
        records = [document.get(each) for each in found]  # of XML one element is a list, too
    if not isinstance(records, list):
        raise FormatError(
            f"expected a list of {kind}",
            where=at,
            remedy=f'If they are the values of a mapping, say `id = "{KEY}"` in the card.',
        )
    return RecordTable(document, kind, path, records)


def _is_nested(columns: Columns, path: Path) -> bool:
    name = str(path[0])
    return path[1:2] == (ANY,) and columns.is_nested(name) and hasattr(columns, "nested")


# ---- setting in ------------------------------------------------------------------------------


def add_things(
    table: ThingTable, source: ThingTable, order: npt.NDArray[np.intp], put: Mapping[str, Any]
) -> None:
    """Add things of another save behind those of a table.

    `order` are their rows there; `put` the fields that are otherwise here: `(n,)` values, or of lists
    `(owners, values)` as `inner` gives them, with owners by their place in `order`.

    Raises:
        FormatError: a value has no place here.
    """
    if not len(order):
        return
    if isinstance(source, ColumnTable):
        columns = _columns_for(table, source)
        if columns is not None:
            _add_columns(columns, source, order, put)
            return
    tabular = as_tabular(table.document)
    if tabular is not None and isinstance(table, ColumnTable):
        tabular.close_columns(table.at)
    put = {name: _as_list(each) if isinstance(each, Words) else each for name, each in put.items()}
    for at, record in enumerate(source.taken(order.tolist())):
        for field, values in put.items():
            _put(record, parse_path(field), values, at, source)
        table.add(at, record)


def _columns_for(table: ThingTable, source: ColumnTable) -> Columns | None:
    """Return the columns that things of a source can be added to; None if it must be done one by one."""
    if isinstance(table, ColumnTable):
        if not table.columns.is_open:
            return None
        same = table.columns.cells.keys() == source.columns.cells.keys()
        alike = all(
            table.columns.is_nested(name) == source.columns.is_nested(name)
            for name in source.columns.cells
        )
        # What means something in its own file only must be read; else things are added one by one.
        told = all(
            each.columns.is_readable(name)
            for each in (table, source)
            for name in each.columns.only_here
        )
        return table.columns if same and alike and told else None
    if isinstance(table, KeyedTable):
        return None
    if table.count or not table.document.find(table.at) or not hasattr(table.document, "open_like"):
        return None
    found: Columns | None = table.document.open_like(table.at, source.columns)
    return found


def _add_columns(
    columns: Columns, source: ColumnTable, order: npt.NDArray[np.intp], put: Mapping[str, Any]
) -> None:
    first = columns.count
    columns.extend(source.columns, order)
    for field, values in put.items():
        name = str(parse_path(field)[0])
        if isinstance(values, tuple):
            owners, inner = values
            texts = columns.cells[name]
            columns.write(name, _with_lists(texts, first, owners, inner, parse_path(field)[1:]))
            continue
        old = _first_rows(columns, name, first)
        if isinstance(values, list) or isinstance(old, Values):
            before = _listed(old) if isinstance(old, Values) else _as_list(old)
            after = values if isinstance(values, list) else _as_list(values)
            columns.write(name, Values(np.arange(columns.count), [*before, *after]))
        else:
            columns.write(name, joined(old, values))


def _first_rows(columns: Columns, name: str, first: int) -> Any:
    try:
        return taken(columns.read(name), np.arange(first))
    except FormatError:
        found = columns.distinct(name)
        return Values(found.codes[:first], found.values)


def _as_list(column: Any) -> list[Any]:
    plain: list[Any] = (column.array() if isinstance(column, Words) else column).tolist()
    return plain


def _with_lists(texts: Any, first: int, owners: Any, values: list[Any], path: Path) -> Any:
    """Return a column of lists with other values in those behind the first rows."""
    import msgspec

    kept = texts[np.arange(first)]
    behind = texts[np.arange(first, len(texts))].values()
    at = 0
    if path == (ANY,):
        bounds = np.searchsorted(owners, np.arange(len(behind) + 1)).tolist()
        behind = [values[low:high] for low, high in pairwise(bounds)]
    else:
        for row, each in enumerate(behind):
            for holder, key in _slots(each, path, None, row):
                holder[key] = values[at]
                at += 1
    encoded = msgspec.json.Encoder(decimal_format="number")
    texts_of = type(texts).of
    return kept.joined(texts_of(encoded.encode(each).decode() for each in behind))


def _put(record: dict[str, Any], path: Path, values: Any, at: int, source: ThingTable) -> None:
    """Put the value of a field, or the values of a list, into one record; what it lacks stays away."""
    if not isinstance(values, tuple):
        holder = _at(record, path[:-1])
        value = values[at]
        if holder is not MISSING and (path[-1] in holder or value is not None or path == (KEY,)):
            holder[path[-1]] = value.item() if hasattr(value, "item") else value
        return
    owners, inner = values
    low, high = np.searchsorted(owners, (at, at + 1)).tolist()
    if path[-1] == ANY and path.count(ANY) == 1:  # some may have gone from the list
        holder = _at(record, path[:-2])
        if holder is not MISSING and path[-2] in holder:
            holder[path[-2]] = inner[low:high]
        return
    slots = _slots(record, path, source, at)
    for (holder, key), value in zip(slots, inner[low:high], strict=True):
        holder[key] = value

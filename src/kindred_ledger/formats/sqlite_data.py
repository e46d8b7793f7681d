"""SQLite databases as a document: tables of rows; `things[3].name`.

The database is opened in memory, never as a file. A row is a mapping by column; rows are in the
order of their numbers. Cells are set, and rows added and removed; tables and columns are not. What
it does not keep: once edited, the pages that SQLite writes anew; unedited it is the same bytes.

Triggers do not run: a table that has any is not edited, as data must not run what it brought.
"""

from __future__ import annotations

import sqlite3
import struct
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct, field

from ..errors import FormatError, UsageError
from .document import (
    ANY,
    Leaf,
    Path,
    document_paths,
    format_path,
    not_reordered,
    occupied,
    same_value,
)

__all__ = ["SqliteDocument"]

_MAGIC = b"SQLite format 3\0"
_WAL = b"\2\2"  # bytes 18 and 19 of a database that is kept with a write-ahead log
_READS = {
    sqlite3.SQLITE_SELECT,
    sqlite3.SQLITE_READ,
    sqlite3.SQLITE_FUNCTION,
    sqlite3.SQLITE_PRAGMA,
}
_WRITES = {
    sqlite3.SQLITE_UPDATE,
    sqlite3.SQLITE_INSERT,
    sqlite3.SQLITE_DELETE,
    sqlite3.SQLITE_TRANSACTION,
}


class _Row(Struct, eq=False):
    number: int
    origin: int | None
    notes: dict[str, str] = field(default_factory=dict)


class _Table(Struct, eq=False):
    columns: list[str]
    number: str  # the column that is the row's number, if one is
    locked: str  # why it is not edited
    rows: list[_Row]


@document_paths
class SqliteDocument:
    """A database as a document; see the module."""

    def __init__(self, data: bytes) -> None:
        if not data.startswith(_MAGIC) or len(data) < 100:
            raise FormatError("this is no SQLite database", where="byte 0")
        size, pages = struct.unpack_from(">H", data, 16)[0], struct.unpack_from(">I", data, 28)[0]
        size = 65536 if size == 1 else size
        if data[24:28] == data[92:96] and len(data) < pages * size:
            told = f"it should have {pages * size:,} bytes, and has {len(data):,}"
            raise FormatError(f"the database was cut short: {told}", where=f"byte {len(data)}")
        self._data = data
        self._wal = data[18:20] == _WAL
        self._edited = False
        self._base = sqlite3.connect(":memory:", isolation_level=None)
        try:
            self._base.deserialize(data[:18] + b"\1\1" + data[20:] if self._wal else data)
            self._base.execute("PRAGMA trusted_schema=OFF")
            self._base.execute("PRAGMA cell_size_check=ON")
            fault = self._base.execute("PRAGMA quick_check(1)").fetchone()[0]
            if fault != "ok":
                raise FormatError(f"the database is damaged: {fault}", where="the file")
            self._base.set_authorizer(_allow)
            self._tables = {name: self._table(name) for name in self._names()}
        except (sqlite3.Error, UnicodeDecodeError, MemoryError, OverflowError) as error:
            raise FormatError(f"the database is damaged: {error}", where="the file") from error

    def leaves(self, at: Path = ()) -> Iterator[Leaf]:
        for name, table in self._tables.items():
            if at and at[0] != name:
                continue
            if not table.rows and len(at) < 2:
                yield Leaf((name,), [], "[]", (name,), "")
            wanted = range(len(table.rows)) if len(at) < 2 else [at[1]]
            for number in wanted:
                if not isinstance(number, int) or not 0 <= number < len(table.rows):
                    continue
                row = table.rows[number]
                for column, value in self._values(name, row).items():
                    if len(at) < 3 or at[2] == column:
                        origin = None if row.origin is None else (name, row.origin, column)
                        text = _as_text(value)
                        yield Leaf((name, number, column), _plain(value), text, origin,
                                   row.notes.get(column, ""))  # fmt: skip

    def find(self, pattern: Path) -> list[Path]:
        found: list[Path] = [()]
        for depth, part in enumerate(pattern):
            step: list[Path] = []
            for path in found:
                if depth == 0:
                    keys: list[Any] = list(self._tables)
                elif depth == 1:
                    keys = list(range(len(self._tables[str(path[0])].rows)))
                else:
                    keys = self._tables[str(path[0])].columns if depth == 2 else []
                step += [(*path, key) for key in keys if part in (ANY, key)]
            found = step
        return found

    def get(self, path: Path) -> Any:
        if not path:
            return {name: self.get((name,)) for name in self._tables}
        table = self._known(path)
        if len(path) == 1:
            return [_plain_row(self._values(str(path[0]), row)) for row in table.rows]
        values = self._values(str(path[0]), self._row(path))
        if len(path) == 2:
            return _plain_row(values)
        if path[2] not in values or len(path) > 3:
            raise UsageError("there is no such column", where=format_path(path))
        return _plain(values[str(path[2])])

    def set(self, path: Path, value: Any, *, note: str = "") -> None:
        table = self._editable(path)
        name = str(path[0])
        if len(path) == 2:
            if not isinstance(value, dict) or path[1] != len(table.rows):
                raise FormatError(
                    "a row is added behind the last, as a mapping", where=format_path(path)
                )
            self._check_columns(table, value, path)
            names = ", ".join(map(_quoted, value))
            marks = ", ".join("?" * len(value))
            sql = f"INSERT INTO {_quoted(name)} ({names}) VALUES ({marks})"
            done = self._run(sql if value else f"INSERT INTO {_quoted(name)} DEFAULT VALUES",
                             [_bound(v, path) for v in value.values()], path)  # fmt: skip
            notes = dict.fromkeys(table.columns, note)
            row = _Row(int(done.lastrowid or 0), None, notes)
            fault = self._changed(name, row, value)
            if fault:
                self._run(f"DELETE FROM {_quoted(name)} WHERE rowid = ?", [row.number], path)
                raise FormatError(fault, where=format_path(path))
            table.rows.append(row)
            return
        row = self._row(path)
        if len(path) != 3 or path[2] not in table.columns:
            raise FormatError("there is no such column, and none is made", where=format_path(path))
        if path[2] == table.number:
            raise FormatError("a row's number is not changed", where=format_path(path),
                              remedy="Remove the row, and add it under the other number.")  # fmt: skip
        column = str(path[2])
        before = self._values(name, row)[column]
        sql = f"UPDATE {_quoted(name)} SET {_quoted(column)} = ? WHERE rowid = ?"
        self._run(sql, [_bound(value, path), row.number], path)
        fault = self._changed(name, row, {column: value})
        if fault:
            self._run(sql, [before, row.number], path)
            raise FormatError(fault, where=format_path(path))

    def remove(self, path: Path) -> None:
        table = self._editable(path)
        if len(path) != 2:
            raise FormatError("only rows can be removed", where=format_path(path))
        row = self._row(path)
        self._run(f"DELETE FROM {_quoted(str(path[0]))} WHERE rowid = ?", [row.number], path)
        table.rows.remove(row)

    def move(self, path: Path, to: Path) -> None:
        if self.find(to):
            raise occupied(to)
        raise FormatError("what is in a database is not moved", where=format_path(path))

    def reorder(self, path: Path, order: Sequence[int]) -> None:
        raise not_reordered(path)

    def encode(self) -> bytes:
        if not self._edited:
            return self._data
        data = self._base.serialize()
        return data[:18] + _WAL + data[20:] if self._wal else data

    # ---- the database --------------------------------------------------------------------

    def _names(self) -> list[str]:
        sql = (
            "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite@_%' ESCAPE '@' "
            "AND sql NOT LIKE 'CREATE VIRTUAL%' ORDER BY name"
        )
        return [str(name) for (name,) in self._base.execute(sql)]

    def _table(self, name: str) -> _Table:
        told = self._base.execute(f"PRAGMA table_xinfo({_quoted(name)})").fetchall()
        columns = [str(row[1]) for row in told if row[6] == 0]
        keys = [row for row in told if row[5]]
        number = str(keys[0][1]) if len(keys) == 1 and str(keys[0][2]).upper() == "INTEGER" else ""
        locked = ""
        triggers = "SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ?"
        if self._base.execute(triggers, (name,)).fetchone()[0]:
            locked = "it has triggers, which are not run"
        try:
            numbers = self._base.execute(
                f"SELECT rowid FROM {_quoted(name)} ORDER BY rowid"
            ).fetchall()
        except sqlite3.OperationalError:
            return _Table(columns, number, "its rows have no numbers", [])
        return _Table(columns, number, locked, [_Row(n, at) for at, (n,) in enumerate(numbers)])

    def _values(self, name: str, row: _Row) -> dict[str, Any]:
        columns = self._tables[name].columns
        listed = ", ".join(map(_quoted, columns))
        sql = f"SELECT {listed} FROM {_quoted(name)} WHERE rowid = ?"
        try:
            found = self._base.execute(sql, (row.number,)).fetchone()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise FormatError(f"the row cannot be read: {error}", where=name) from error
        return dict(zip(columns, found, strict=True))

    def _run(self, sql: str, values: list[Any], path: Path) -> sqlite3.Cursor:
        try:
            done = self._base.execute(sql, values)
        except (sqlite3.Error, OverflowError) as error:
            raise FormatError(f"the database refuses: {error}", where=format_path(path)) from error
        self._edited = True
        return done

    def _changed(self, name: str, row: _Row, wanted: dict[str, Any]) -> str:
        """Return what is wrong with a row that was written; a column may make another kind of a value."""
        held = self._values(name, row)
        for column, value in wanted.items():
            meant = int(value) if isinstance(value, bool) else _plain(value)  # SQLite has no truth
            if not same_value(_plain(held[column]), meant):
                told = f"the column {column!r} makes {held[column]!r} of {value!r}"
                return f"{told}, as it is of another type"
        return ""

    def _known(self, path: Path) -> _Table:
        if path[0] not in self._tables:
            raise UsageError("there is no such table", where=format_path(path[:1]))
        return self._tables[str(path[0])]

    def _editable(self, path: Path) -> _Table:
        if not path or path[0] not in self._tables:
            raise FormatError(
                "nothing can be put there: tables are not made", where=format_path(path)
            )
        table = self._known(path)
        if table.locked:
            raise FormatError(f"the table is not edited: {table.locked}", where=format_path(path))
        return table

    def _row(self, path: Path) -> _Row:
        rows = self._known(path).rows
        if len(path) < 2 or not isinstance(path[1], int) or not 0 <= path[1] < len(rows):
            raise UsageError("there is no such row", where=format_path(path))
        return rows[path[1]]

    def _check_columns(self, table: _Table, value: dict[str, Any], path: Path) -> None:
        for column in value:
            if column not in table.columns:
                raise FormatError(f"there is no column {column!r}", where=format_path(path))


def _allow(
    action: int, first: str | None, second: str | None, base: str | None, inner: str | None
) -> int:
    """Let nothing happen but reading and editing rows, and nothing that a schema brought along."""
    if action in _READS or (action in _WRITES and inner is None):
        return sqlite3.SQLITE_OK
    return sqlite3.SQLITE_DENY


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _bound(value: Any, path: Path) -> Any:
    if isinstance(value, Decimal):
        return float(value)
    if value is not None and not isinstance(value, (str, int, float, bytes)):
        raise FormatError(f"{value!r} cannot be written in a database", where=format_path(path))
    return value


def _plain(value: Any) -> Any:
    return Decimal(repr(value)) if isinstance(value, float) else value


def _plain_row(values: dict[str, Any]) -> dict[str, Any]:
    return {name: _plain(value) for name, value in values.items()}


def _as_text(value: Any) -> str:
    if value is None:
        return "null"
    return value.hex() if isinstance(value, bytes) else str(value)

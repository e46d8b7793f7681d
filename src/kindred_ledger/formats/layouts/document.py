"""A binary file as a document, through its layout."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress
from decimal import Decimal
from itertools import pairwise
from typing import TYPE_CHECKING, Any, BinaryIO

from msgspec.structs import replace

from ...errors import FormatError
from ...notebook import frame_of
from ..columns import Columns, Words, words_of
from ..document import Path, format_path, not_reordered, paths_as_text
from ..reading_back import check_tree, unreadable
from ..tables import same_column
from ..tree import LIST, MAPPING, SCALAR, TreeDocument
from .fitting import fitting, read_whole
from .item import Field, Item, Reading, Writing, give_paths
from .layout import Layout
from .pools import intern
from .rows import Table

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["LayoutDocument"]

_LEAST_ROWS = 100  # of a table that is read by columns


@paths_as_text("table", "columns", "to_frame", "set_table", "open_columns", "close_columns")
class LayoutDocument(TreeDocument[Item]):
    """A binary file; what was not edited keeps its very bytes, and sizes and checksums follow edits.

    >>> layout = Layout.parse("layout purse\\nlittle endian\\nowner text u8\\ncoins u16")
    >>> document = LayoutDocument(b"\\x03Ada\\x07\\x00", layout)
    >>> document.set(("owner",), "Bo"); document.get(()), document.encode()
    ({'owner': 'Bo', 'coins': 7}, b'\\x02Bo\\x07\\x00')
    """

    keeps_order = False
    fits: tuple[int, ...] = ()  # the versions in which the file can be read

    def __init__(self, data: bytes, layout: Layout, *, version: int | None = None) -> None:
        """Read a file; `version` is the one to read it in, where no field of the layout tells it.

        Without it such a file is read in the newest version that fits, and `fits` has all of them.

        Raises:
            FormatError: it is not as the layout says; with the offset, the field and the line.
        """
        self.layout = layout
        self._data = data
        self._opened: list[Item] = []  # tables taken by columns
        self._target: int | None = None  # the version to write, where no field tells it
        if layout.is_told_by_fit and version is None:
            versions, reading = fitting(data, layout)
            self.fits = tuple(versions)
        else:
            reading = read_whole(data, layout, version)
        self._root = reading.scope.groups[0]
        self.version: int = reading.version if reading.version is not None else layout.low
        self.fits = self.fits or (self.version,)
        give_paths(self._root, ())

    def in_version(self, version: int) -> LayoutDocument:
        """Return the file as it was read, in one of the versions that fit.

        Raises:
            FormatError: it cannot be read in that version.
        """
        return (
            self
            if version == self.version
            else LayoutDocument(self._data, self.layout, version=version)
        )

    def is_part(self, path: Path, case: Any) -> bool:
        """Tell whether something is there, and was read as a case of a choice; `case` None: as any."""
        item = self._node(path)
        there = item.kind != SCALAR or item.value is not None
        return there and (case is None or any(each is case for each in item.cases))

    def become(self, version: int) -> None:
        """Have another version be written, where no field of the layout tells it."""
        if self.layout.is_told_by_fit and version != self._version_now():
            self._target = version
            self._mark(self._root)

    @classmethod
    def begun(cls, data: bytes, layout: Layout) -> LayoutDocument | None:
        """Return what can be read of a file, to be shown; None if that is nothing."""
        self = cls.__new__(cls)
        self.layout, self._data, self._opened, self._target = layout, data, [], None
        readings = []
        for version in range(
            layout.low, (layout.high if layout.is_told_by_fit else layout.low) + 1
        ):
            reading = Reading(data, layout)
            readings.append(reading)
            if layout.is_told_by_fit:
                reading.version = version
            with suppress(FormatError):
                root = layout.root.read(reading, Field("", layout.root, 0))
                reading.scope.groups.append(root)
        reading = max(readings, key=lambda each: (each.at, each.version or 0))
        for outer, inner in pairwise(reading.scope.groups):
            inner.parent, inner.end = outer, reading.at
            if outer.kind == LIST:
                inner.key, inner.at = None, len(outer.members or ())
            outer.members = [*(outer.members or ()), inner]
            if isinstance(outer.shape, list):
                outer.shape.append(inner)
        if not reading.scope.groups:
            return None
        self._root = reading.scope.groups[0]
        self.version = reading.version if reading.version is not None else layout.low
        self.fits = (self.version,)
        return self

    @property
    def size(self) -> int:
        """How many bytes the file has."""
        return len(self._data)

    @property
    def root(self) -> Item:
        """The item of the whole file, for those who walk it."""
        return self._root

    def encode(self) -> bytes:
        data = self.encode_unread()
        if self._root.dirty:
            try:
                again = LayoutDocument(data, self.layout, version=self._version_now())
            except FormatError as error:
                raise unreadable(error.what, error.where or "") from error
            check_tree(self, again)
        return data

    def _same_whole(self, node: Item, found: Any, other: Item, path: Path) -> bool | None:
        if isinstance(node.value, Columns):
            read = found.open_columns(path) if other.rows is not None else None
            return (
                read is not None
                and {*read.cells} == {*node.value.cells}
                and all(same_column(node.value, read, name) for name in read.cells)
            )
        if node.rows is not None and node.kind == LIST and node.members is None:
            return self._same_rows(node, found, other, path)
        if not node.dirty and node.kind != SCALAR and node.start >= 0 and node.raw == other.raw:
            return True
        return None

    def _same_rows(self, node: Item, found: Any, other: Item, path: Path) -> bool | None:
        """Tell whether a table is the same: rows nobody looked at by their bytes, others by value."""
        if other.rows is None:  # it is small by now, say, and was read row by row
            return None
        if other.rows.count != node.rows.count or type(other.rows) is not type(node.rows):
            return False
        some = node.some or {}
        if not node.rows.same(other.rows, without=sorted(some)):
            return False
        for number, row in some.items():
            again = found._row(other, other.maker, number)
            check_tree(self, found, at=((*path, number), row, again))
        return True

    def encode_unread(self, *, as_kept: bool = False) -> bytes:
        """Return the bytes without reading them again, for those who do that themselves.

        `as_kept`: parts that lay one behind another do so again, whatever became of their sizes, and blocks
        are compressed as hard as the file's first one was.
        """
        return b"".join(self._pieces(as_kept=as_kept))

    def encode_to(self, file: BinaryIO) -> None:
        """Write the bytes to an open file.

        Raises:
            FormatError: a value cannot be written so that it reads back; nothing was.
        """
        file.write(self.encode())

    def _mark_columns(self) -> None:
        """Mark the tables whose columns were edited since they were opened."""
        for item in self._opened:
            if isinstance(item.value, Columns) and item.value.touched:
                self._mark(item)

    def _pieces(self, *, as_kept: bool = False) -> Iterable[Any]:
        self._mark_columns()
        if not self._root.dirty:
            return (self._data,)
        version = self._version_now()
        intern(self._root, version)
        writing = Writing(self.layout, version)
        writing.changed = version != self.version
        writing.levels = {} if as_kept else None
        self.layout.root.write(writing, self._root, Field("", self.layout.root, 0))
        return writing.finish()

    def _version_now(self) -> int:
        """Return the version to write: the one the document tells by now."""
        path = self.layout.version_path
        version = self._node(path).value if path is not None else self._target or self.version
        if not isinstance(version, int) or not self.layout.low <= version <= self.layout.high:
            raise FormatError(
                f"the layout has no version {version}",
                where=format_path(path or ()),
                remedy=f"It knows {self.layout.low} to {self.layout.high}.",
            )
        return version

    # ---- tables --------------------------------------------------------------------------

    def table(self, path: Path) -> Any:
        """Return a table of rows of one size: `(n_rows,)` structured, read-only, a view of the file.

        Raises:
            FormatError: its rows differ in size.
        """
        item = self._table(path)
        if item.rows is None or not item.rows.step:
            raise FormatError(
                "its rows differ in size; ask for its columns", where=format_path(path)
            )
        return item.maker.array(item)

    def columns(self, path: Path) -> dict[str, Any]:
        """Return the columns of a table: `(n_rows,)` arrays; `Ragged` where sizes differ.

        Raises:
            FormatError: its rows are read one by one, not by columns.
        """
        item = self._table(path)
        if not _has_columns(item):
            raise FormatError(
                "its rows are read one by one, not by columns", where=format_path(path)
            )
        columns: dict[str, Any] = item.maker.columns(item)
        return columns

    def is_computed(self, path: Path) -> bool:
        """Tell whether a value is written from others: a checksum, a size, where a block lies."""
        if not self.find(path):
            return False
        node = self._node(path)
        field = node.field
        if (
            field is not None
            and node.kind == SCALAR
            and field.name == node.key
            and field.is_derived
        ):
            return True
        return id(field) in self.layout.told

    def follows(self, path: Path) -> bool:
        """Tell whether a value follows what else is put: it is computed, or counts something."""
        if self.is_computed(path):
            return True
        return bool(self.find(path)) and id(self._node(path).field) in self.layout.sizes

    def is_pool(self, path: Path) -> bool:
        """Tell whether a value holds the texts of others, and grows with them."""
        return bool(self.find(path)) and id(self._node(path).field) in self.layout.pools

    def to_frame(self, path: Path) -> DataFrame:
        """Return a table as a data frame: a column a field, texts as `str`, what is no value as bytes.

        Raises:
            FormatError: its rows are read one by one, not by columns.
            UsageError: pandas is not installed.
        """
        found = self.columns(path)
        opened = self.open_columns(path)
        out: dict[str, Any] = {}
        for name, raw in found.items():
            if opened is not None and opened.is_readable(name):
                values = opened.read(name)
                out[name] = values.array() if isinstance(values, Words) else values
            else:
                out[name] = [bytes(raw[row]) for row in range(len(raw))]
        return frame_of(out)

    def set_table(self, path: Path, rows: Any) -> None:
        """Put a structured array, columns by name, or a data frame in the place of a table's rows.

        Raises:
            FormatError: it is none of these, or this is no table.
        """
        item = self._table(path)
        if hasattr(rows, "to_dict") and hasattr(rows, "columns"):
            rows = {str(name): _column_of(rows[name].to_numpy()) for name in rows.columns}
        elif not isinstance(rows, dict) and getattr(rows, "dtype", None) is None:
            raise FormatError(
                f"a table is set from an array, columns or a data frame, not {type(rows).__name__}",
                where=format_path(path),
            )
        if not _has_columns(item):
            raise FormatError("its rows are not written by columns", where=format_path(path))
        names = rows if isinstance(rows, dict) else rows.dtype.names
        columns = item.maker.open(item)
        for name in [name for name in columns.cells if name not in names]:
            columns.remove(name)
        columns.count = len(next(iter(rows.values()), ()) if isinstance(rows, dict) else rows)
        for name in names:
            columns.write(name, rows[name])
        item.value = columns
        self._opened.append(item)
        self._mark(item)

    def encode_with(self, path: Path, rows: Any) -> bytes:
        """Return the file with other rows in the place of a table's; the document stays as it is.

        The rows are `(n_rows,)` structured, of the very type that `table` gives, and are written as they lie.

        Raises:
            FormatError: they are of another type, or do not read back.
        """
        again = LayoutDocument(self.encode_unread(), self.layout, version=self._version_now())
        item = again._table(path)
        if again.table(path).dtype != rows.dtype:
            raise FormatError("these are rows of another table", where=format_path(path))
        item.members = item.some = None
        buffer = rows.view("u1").data if rows.flags.c_contiguous else rows.tobytes()
        item.rows = replace(item.rows, count=len(rows), body=0, buffer=buffer)
        again._mark(item)
        return again.encode()

    def open_columns(self, path: Path, least: int = 0) -> Columns | None:
        """Return the columns of a table, which are written as they are then; None if it has none.

        A table of fewer than `least` rows has none if nobody edited it by columns.
        Rows that were edited one by one, or whose sizes are not found by columns, have none.
        """
        item = self._node(path)
        if item.maker is None or item.kind != LIST or not _has_columns(item):
            return None
        if isinstance(item.value, Columns):
            return item.value
        if item.value is not None or item.dirty or item.rows.count < least:
            return None
        item.members = item.some = None
        columns: Columns = item.maker.open(item)
        item.value = columns
        self._opened.append(item)
        return columns

    def column_tables(self, least: int, at: Path = ()) -> list[Path]:
        """Return the tables at or below a path that are taken by columns, of at least so many rows."""
        found: list[Path] = []
        stack: list[tuple[Path, Item]] = [(at, self._node(at))] if not at or self.find(at) else []
        while stack:
            path, node = stack.pop()
            columns = node.value if isinstance(node.value, Columns) else None
            if node.maker is not None and node.kind == LIST and _has_columns(node):
                touched = columns is not None and columns.touched
                enough = touched or node.rows.count >= max(least, 1)
                if enough and (columns is not None or not node.dirty):
                    found.append(path)
            elif node.members:
                inner = [
                    ((*path, number if member.key is None else member.key), member)
                    for number, member in enumerate(node.members)
                ]
                stack.extend(reversed(inner))
        return found

    def close_columns(self, path: Path) -> None:
        """Go on with a table row by row, or leave it as it was if no column was touched."""
        self._close(self._node(path))

    def _close(self, item: Item) -> None:
        columns = item.value
        if isinstance(columns, Columns):
            columns.close()
            item.value = None
            if columns.touched:
                self._spread(item, columns)
                self._mark(item)

    def _spread(self, item: Item, columns: Columns) -> None:
        """Make rows of columns; each value knows where it was read."""
        origin = item.origin
        fields = {field.name: field for field in item.maker.fields(columns.version)}
        values = {n: _single(columns.read(n)) for n in columns.cells if not columns.is_stored(n)}
        rows = range(columns.count) if columns.rows is None else columns.rows.tolist()
        item.members = []
        item.was_leaf = item.rows.count == 0
        for at, number in enumerate(rows):
            row = self._row(item, item.maker, number)
            row.at = at
            item.members.append(row)
            if row.kind == SCALAR:
                if "value" in values:
                    row.value, row.dirty = values["value"][at], True
                continue
            before = {member.key: member for member in row.members or ()}
            row.members, row.dirty = [], True
            for name in columns.cells:
                read = columns.origins[name]
                member = before[read] if read is not None else Item(SCALAR, parent=row)
                member.dirty = member.dirty or read != name
                member.key = name
                if name in values:
                    member.value, member.dirty = values[name][at], True
                    member.field = fields.get(read or name)
                    member.was_leaf = read is not None
                    member.origin = (*origin, number, read) if read and origin is not None else None
                    member.note = columns.notes.get(name, "")
                row.members.append(member)

    def _table(self, path: Path) -> Item:
        item = self._node(path)
        if item.maker is None:
            raise FormatError("this is no table", where=format_path(path))
        if item.members is not None and item.dirty:
            raise FormatError("its rows were edited one by one", where=format_path(path))
        return item

    # ---- the tree ------------------------------------------------------------------------

    def _plain(self, node: Item) -> Any:
        if node.kind == LIST and node.rows is not None and node.members is None:
            rows = self._plain_rows(node)
            if rows is not None:
                return rows
        return super()._plain(node)

    def _plain_rows(self, node: Item) -> list[dict[str, Any]] | None:
        """Return the rows of a table that nobody looked into, of numbers alone, by columns; else None."""
        if node.some or node.value is not None or node.dirty or node.rows.count < _LEAST_ROWS:
            return None
        if not _has_columns(node):
            return None
        columns: Columns = node.maker.open(node)
        read = {name: columns.read(name) for name in columns.cells if columns.is_readable(name)}
        if len(read) < len(columns.cells) or not read:
            return None
        if any(
            getattr(getattr(each, "dtype", None), "kind", "") not in "iu" for each in read.values()
        ):
            return None
        names = tuple(read)
        rows = [
            dict(zip(names, row, strict=True))
            for row in zip(*(each.tolist() for each in read.values()), strict=True)
        ]
        # What a number means beyond itself is known to the rows: the first and the last tell whether it does.
        for at in {0, len(rows) - 1}:
            if super()._plain(self._row(node, node.maker, at)) != rows[at]:
                return None
        return rows

    def _members(self, node: Item) -> list[Item]:
        self._close(node)  # somebody looks at the rows one by one
        return super()._members(node)

    def _expand(self, node: Item) -> list[Item]:
        if node.rows is None:
            return []
        some = node.some or {}
        kind = node.maker
        return [some.get(n) or self._row(node, kind, n) for n in range(node.rows.count)]

    def _fitting(self, node: Item, part: str | int) -> list[tuple[str | int, Item]]:
        """Look at one row of many without reading them all."""
        if (
            node.members is not None
            or node.rows is None
            or node.value is not None
            or not isinstance(part, int)
        ):
            return super()._fitting(node, part)
        if not 0 <= part < node.rows.count:
            return []
        node.some = {} if node.some is None else node.some
        if part not in node.some:
            node.some[part] = self._row(node, node.maker, part)
        return [(part, node.some[part])]

    def _row(self, node: Item, kind: Table, number: int) -> Item:
        row = kind.row(node, number)
        if node.origin is not None:
            give_paths(row, (*node.origin, number))
        row.parent, row.at = node, number
        return row

    def _text(self, node: Item) -> str:
        value = node.value
        if isinstance(value, str):
            return value
        if isinstance(value, bytes):
            return value.hex()
        if value is None or isinstance(value, bool):
            return {None: "nothing", True: "true", False: "false"}[value]
        return str(value)

    def _value(self, node: Item) -> Any:
        return node.value

    def _made(self, value: Any, path: Path) -> Item:
        if isinstance(value, (dict, list, tuple)):
            node = Item(MAPPING if isinstance(value, dict) else LIST, members=[], dirty=True)
            pairs = value.items() if isinstance(value, dict) else ((None, each) for each in value)
            for key, inner in pairs:
                member = self._made(inner, path)
                member.parent, member.key = node, key
                node.members.append(member)  # type: ignore[union-attr]
            return node
        if isinstance(value, float):
            value = Decimal(repr(value))
        if value is not None and not isinstance(value, (str, bytes, int, Decimal)):
            raise FormatError(f"{value!r} is no value of a binary file", where=format_path(path))
        return Item(SCALAR, value=value, dirty=True)

    def _replace(self, old: Item, new: Item) -> None:
        new.field, new.region = old.field, old.region
        if old.field is not None and old.field.is_derived:
            derives = old.field.derives
            what = (
                f"it is written as {derives}"
                if derives
                else "a checksum is made from what it is of"
            )
            raise FormatError(what, where=format_path(old.origin or ()))
        if id(old.field) in self.layout.told and old.kind == SCALAR:
            what = "it tells where a part lies, or how large it is, and follows that"
            raise FormatError(what, where=format_path(old.origin or ()))
        if old.parent is None:
            raise FormatError("the whole of a binary file is not replaced")
        if isinstance(old.shape, tuple) and old.kind != LIST:
            new.shape = old.shape
        if old.parent.members is None:
            old.parent.some[old.at] = new
        else:
            old.parent.members[self._position(old)] = new
        self._mark(new)

    def _append(self, parent: Item, node: Item, path: Path) -> None:
        self._members(parent).append(node)
        if isinstance(parent.maker, Table):  # texts of the row must find their pool
            fields = {field.name: field for field in parent.maker.fields(self._version_now())}
            for member in node.members or ():
                member.field = fields.get(str(member.key))
        self._mark(node)

    def _detach(self, node: Item) -> None:
        self._members(node.parent)
        del node.parent.members[self._position(node)]
        self._mark(node.parent)

    def _rename(self, node: Item, key: str, path: Path) -> None:
        node.key = key
        self._mark(node)

    def _permute(self, node: Item, members: list[Item]) -> None:
        if node.kind != LIST:
            raise not_reordered(node.origin or ())  # the layout has the order of fields
        node.members, node.some = members, None
        self._mark(node)

    def _mark(self, node: Item | None) -> None:
        while node is not None:
            node.table = None
            node.dirty = True
            node = node.parent


def _has_columns(item: Item) -> bool:
    return item.rows is not None and item.maker.has_columns(item.rows.context[1])


def _single(column: Any) -> list[Any]:
    """Return the values of a column one by one."""
    if isinstance(column, Words):
        return [column.texts[code] for code in column.codes.tolist()]
    if hasattr(column, "strings"):
        return list(column.strings())
    values: list[Any] = column.tolist()
    return [Decimal(repr(value)) if isinstance(value, float) else value for value in values]


def _column_of(values: Any) -> Any:
    """Return a column of a data frame as tables hold them: texts as `Words`, numbers as they are."""
    listed = values.tolist() if values.dtype.kind in "OUT" else None
    return words_of(listed) if listed and all(type(each) is str for each in listed) else values

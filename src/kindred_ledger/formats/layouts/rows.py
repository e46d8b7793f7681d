"""Tables: rows that lie one after another, found by columns wherever their size can be told.

Rows of one size are one NumPy structured array over the bytes of the file. Rows with one sized text
or bytes in them are found by following their lengths (`strides`), and their fixed columns are gathered from
there. All other rows are read one by one. Single rows are read only when somebody looks at them.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ..columns import Columns, runs_together
from ..tree import LIST
from .item import Field, Item, Reading, Scope, Writing
from .many import BEYOND, MANY, Many, Unmeasured
from .numbers import Integer
from .parts import Group, write_item
from .pools import Pooled, note_pooled
from .references import note_column
from .storing import Ragged, columns_of, is_readable, stored
from .strides import follow, walk
from .strings import Bytes, Pad, Size, Text

__all__ = ["Rows", "Table"]


_PIECE = 1 << 18  # bytes that are compared at once
_MOST_ROUNDS = 4096  # rows of tables in rows, that are found by columns


class Rows(Struct):
    """How the rows of a table lie in `buffer`: at equal steps, or at `offsets`.

    `context` is what reading one of them takes: groups around it, version, layout, path.
    """

    count: int
    body: int  # where the first row begins
    step: int = 0  # bytes a row; 0 if they differ
    offsets: Any = None  # (count + 1,) int64: begin of each row, and the end of the last
    buffer: bytes = b""
    context: Any = None
    tree: Any = None  # of a node's children: the TreeView they are seen through

    def __len__(self) -> int:
        return self.count

    def span(self, row: int) -> tuple[int, int]:
        """Return begin and end of a row."""
        if self.step:
            return self.body + row * self.step, self.body + (row + 1) * self.step
        return int(self.offsets[row]), int(self.offsets[row + 1])

    def same(self, other: Rows, *, without: list[int]) -> bool:
        """Tell whether rows have the same bytes in another file; some, sorted, are not looked at."""
        begin = 0
        for number in (*without, self.count):
            if begin < number:
                pieces = []
                for rows in (self, other):
                    start, end = rows.span(begin)[0], rows.span(number - 1)[1]
                    pieces.append(memoryview(rows.buffer)[start:end])
                if not _same_bytes(*pieces):
                    return False
            begin = number + 1
        return True

    def base(self, row: int) -> int:
        """Return what the places in a row's item count from: it is cut out of `buffer`."""
        return self.span(row)[0]


class Table(Struct, frozen=True):
    """`table COUNT { ... }` and `table COUNT TYPE`."""

    count: Size
    inner: Any  # a Group, or the kind of a bare row

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.at
        count = self.count.read(reading, field)
        version = reading.version or 0
        least = self.inner.least(version)
        most = reading.left // least if least else reading.empty[0] + reading.left
        step = self.step(version)
        if count < 0:
            if step and reading.left % step:
                reading.fail(field, f"{reading.left:,} bytes are left, rows take {step} each")
            count = most if step else -1
        if count > most:
            reading.fail(
                field, f"{count:,} rows are announced, at most {most:,} fit into the rest", start
            )
        item = Item(LIST, key=field.name, buffer=reading.data, start=start, field=field)
        item.maker = self
        context = (
            reading.scope.groups[:],
            reading.version or 0,
            reading.layout,
            reading.path[:],
            reading.base,
        )
        if step:
            reading.take(count * step, field)
            body = reading.at - count * step
            item.rows = Rows(count, body, step, None, reading.data, context)
            self._check_constants(reading, item, field)
        elif reading.tree is not None and (rows := self._children(reading, count)) is not None:
            item.rows = rows
            rows.context = context
        elif count >= 0 and (plan := self.ragged(version)) is not None:
            item.rows = self._walk(reading, field, count, plan)
            item.rows.context = context
        elif count >= MANY and least and (found := self._found(reading, count)) is not None:
            item.rows = found
            found.context = context
        else:
            self._read_each(reading, item, field, count)
        item.end = reading.at
        if count > reading.at - start:
            reading.empty[0] -= count - (reading.at - start)
        self._note_references(reading, field, item)
        return item

    def step(self, version: int) -> int:
        """Return the size of a row if all are equal, else 0."""
        total = 0
        for inner in self.fields(version):
            fixed = _fixed_size(inner)
            if fixed is None:
                return 0
            total += fixed
        return total

    def fields(self, version: int) -> tuple[Field, ...]:
        """Return the columns of a version; a bare row is one column without a name."""
        if isinstance(self.inner, Group):
            return tuple(f for f in self.inner.fields if f.is_in(version))
        return (Field("", self.inner, 0),)

    def ragged(self, version: int) -> tuple[int, Integer, int] | None:
        """Return bytes before the size, its kind, and bytes after the value, if there is one such."""
        before = after = 0
        prefix: Integer | None = None
        for inner in self.fields(version):
            fixed = _fixed_size(inner)
            if fixed is not None:
                before, after = (
                    (before + fixed, after) if prefix is None else (before, after + fixed)
                )
                continue
            size = inner.kind.size.prefix if isinstance(inner.kind, (Text, Bytes)) else None
            plain = isinstance(size, Integer) and size.width in (1, 2, 4) and not size.signed
            if prefix is not None or not plain or inner.condition is not None:
                return None
            prefix = size
        return None if prefix is None else (before, prefix, after)

    def _walk(self, reading: Reading, field: Field, count: int, plan: Any) -> Rows:
        """Find the rows by adding up their lengths."""
        import numpy as np

        before, prefix, after = plan
        data, first = reading.data, reading.at
        end = len(data)
        room = max(end - prefix.width + 1, 0)
        every = np.ndarray(room, prefix.dtype(reading.big), data, 0, (1,))
        fixed = before + prefix.width + after

        def step(at: Any) -> Any:
            return at + fixed + every[np.minimum(at + before, room - 1)].astype(np.int64)

        offsets = follow(step, first, count, end, gives_up=True) if room else np.array([first])
        if offsets is None:
            offsets = walk(every, first, count, before=before, fixed=fixed)
        row = len(offsets) - 1
        if row < count or offsets[-1] > end:
            row = min(row, count - 1)
            reading.fail(
                field, f"row {row:,} of {count:,} goes past the end", min(int(offsets[row]), end)
            )
        reading.at = int(offsets[-1])
        return Rows(count, first, 0, offsets, data)

    def _children(self, reading: Reading, count: int) -> Rows | None:
        """Return the rows of a tree's node, as its nodes were found by columns; None if they are not."""
        first = reading.at
        offsets = reading.tree.offsets(self.inner, first, count)
        if offsets is None:
            return None
        reading.at = int(offsets[-1])
        return Rows(count, first, 0, offsets, reading.data, tree=reading.tree)

    def _found(self, reading: Reading, count: int) -> Rows | None:
        """Find rows that differ in size by columns; None if they must be read one by one."""
        many = Many(reading.data, reading.layout, reading.version or 0)
        try:
            first, end = reading.at, reading.stop
            offsets = follow(lambda at: many.measure(self.inner, at), first, count, end)
        except Unmeasured:
            return None
        if reading.version is None or offsets is None or len(offsets) <= count or offsets[-1] > end:
            return None  # reading them one by one says what is wrong
        reading.at = int(offsets[-1])
        return Rows(count, first, 0, offsets, reading.data)

    def _read_each(self, reading: Reading, item: Item, field: Field, count: int) -> None:
        item.members = []
        item.rows = None
        name = field.name
        reading.scope.groups.append(item)  # what was read of it can be shown if the rest cannot
        while len(item.members) < count or (count < 0 and reading.left):
            inner = Field(f"{name}[{len(item.members)}]", self.inner, field.at)
            begin = reading.at
            row: Item = self.inner.read(reading, inner)
            row.key, row.parent, row.at = None, item, len(item.members)
            row.start, row.end = begin, reading.at
            item.members.append(row)
            if count < 0 and reading.at == begin:
                reading.fail(field, "its rows take no bytes, and go on to the end")
        reading.scope.groups.pop()

    def _check_constants(self, reading: Reading, item: Item, field: Field) -> None:
        for inner in self.fields(reading.version or 0):
            if inner.constant is None or not item.rows.count:
                continue
            column = self.array(item)[inner.name]
            self.row(item, 0)  # raises if the constant does not hold
            differing = (column != column[0]).nonzero()[0]
            if len(differing):
                self.row(item, int(differing[0]))

    def _note_references(self, reading: Reading, field: Field, item: Item) -> None:
        if not isinstance(self.inner, Group):
            if isinstance(self.inner, Pooled) and item.rows is not None:
                note_pooled(reading, field, Field("", self.inner, field.at), item)
            if field.within is not None:
                note_column(
                    reading, field, Field("", self.inner, field.at, within=field.within), item
                )
        elif item.rows is not None:  # rows that were read one by one have noted their own
            for inner in self.fields(reading.version or 0):
                if inner.within is not None:
                    note_column(reading, field, inner, item)
                if isinstance(inner.kind, Pooled):
                    note_pooled(reading, field, inner, item)

    # ---- rows ----------------------------------------------------------------------------

    def row(self, item: Item, number: int) -> Item:
        """Return one row, read now."""
        rows = item.rows
        groups, version, layout, path, base = rows.context
        begin, end = rows.span(number)
        reading = Reading(memoryview(rows.buffer)[begin:end].tobytes(), layout)
        reading.version, reading.path, reading.base = version or None, path, base + begin
        reading.scope = Scope(list(groups))
        reading.tree = rows.tree.inside(begin) if rows.tree is not None else None
        inner = Field(f"{item.key}[{number}]", self.inner, item.field.at)
        row: Item = self.inner.read(reading, inner)
        row.key, row.parent, row.at = None, item, number
        row.start, row.end = 0, end - begin
        return row

    def array(self, item: Item) -> Any:
        """Return rows of one size as a structured array over the file's bytes, read-only."""
        import numpy as np

        rows = item.rows
        dtype = self.dtype(rows.context[1], rows.context[2].big)
        return np.frombuffer(rows.buffer, dtype, rows.count, rows.body)

    def dtype(self, version: int, big: bool) -> Any:
        """Return the NumPy type of a row."""
        import numpy as np

        names: list[str] = []
        forms: list[str] = []
        for number, inner in enumerate(self.fields(version)):
            form = inner.kind.dtype(big) or f"V{_fixed_size(inner)}"
            names.append(
                inner.name
                or ("value" if not inner.name and len(self.fields(version)) == 1 else f" {number}")
            )
            forms.append(form)
        return np.dtype({"names": names, "formats": forms})

    def columns(self, item: Item) -> dict[str, Any]:
        """Return the columns of a table: arrays, and a `Ragged` for what has no fixed size."""
        import numpy as np

        rows = item.rows
        if rows.step:
            array = self.array(item)
            return {name: array[name] for name in array.dtype.names if not name.startswith(" ")}
        version, big = rows.context[1], rows.context[2].big
        data = np.frombuffer(rows.buffer, np.uint8)
        before, prefix, after = self.ragged(version)  # type: ignore[misc]
        sizes = np.diff(rows.offsets) - (before + prefix.width + after)
        at = rows.offsets[:-1].copy()
        out: dict[str, Any] = {}
        for inner in self.fields(version):
            fixed = _fixed_size(inner)
            if fixed is None:
                out[inner.name or "value"] = Ragged(data, at + prefix.width, sizes)
                at = at + prefix.width + sizes
            else:
                if inner.name:
                    form = inner.kind.dtype(big) or f"V{fixed}"
                    out[inner.name] = _gather(rows.buffer, at, form)
                at = at + fixed
        return out

    def open(self, item: Item) -> Columns:
        """Return the columns of a table, to be edited."""
        rows = item.rows
        version, layout = rows.context[1], rows.context[2]
        columns = columns_of(
            self.columns(item),
            self.fields(version),
            layout,
            version=version,
            groups=rows.context[0],
        )
        columns.whole = self.array(item) if rows.step else None
        return columns

    def _turns(self, source: int, target: int) -> bool:
        """Tell whether rows of one version become rows of another by columns."""
        before = {f.name: f.kind for f in self.fields(source)}
        kinds = [(before[f.name], f.kind) for f in self.fields(target) if f.name in before]
        readable = all(one == other or is_readable(one) for one, other in kinds)
        return readable and self.has_columns(source) and self.has_columns(target)

    def has_columns(self, version: int) -> bool:
        """Tell whether rows of a version are taken by columns."""
        return bool(self.step(version)) or self.ragged(version) is not None

    # ---- writing -------------------------------------------------------------------------

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        if item.value is None and self._must_differ(writing, item):
            if not item.some and self._turns(item.rows.context[1], writing.version):
                item.value = self.open(item)
            else:
                some = item.some or {}
                item.members = [some.get(n) or self.row(item, n) for n in range(item.rows.count)]
        if item.value is not None:
            self._write_columns(writing, item, field)
            return
        if item.members is None and item.rows is not None and item.kind == LIST:
            self.count.write(item.rows.count, writing, field)
            at = item.rows.body
            for number, row in sorted((item.some or {}).items()):
                begin, end = item.rows.span(number)
                writing.out += item.rows.buffer[at:begin]
                self._write_row(writing, row, field, number)
                at = end
            last = item.rows.span(item.rows.count - 1)[1] if item.rows.count else at
            writing.out += item.rows.buffer[at:last]
            return
        if item.kind != LIST:
            writing.fail(field, "a list of rows is needed here")
        members = item.members or []
        self.count.write(len(members), writing, field)
        for number, row in enumerate(members):
            self._write_row(writing, row, field, number)

    def _must_differ(self, writing: Writing, item: Item) -> bool:
        """Tell whether the version that is written has other columns than the one that was read."""
        if item.members is not None or item.rows is None:
            return False
        return writing.changed and self.fields(writing.version) != self.fields(item.rows.context[1])

    def _write_row(self, writing: Writing, row: Item, field: Field, number: int) -> None:
        write_item(writing, row, Field(f"{field.name}[{number}]", self.inner, field.at))

    def _write_columns(self, writing: Writing, item: Item, field: Field) -> None:
        """Write a table that was given by columns."""
        version, columns = writing.version, item.value
        cells = self._cells(writing, columns, field)
        self.count.write(columns.count, writing, field)
        as_read = not writing.changed and columns.rows is None and item.rows is not None
        as_read = as_read and columns.count == item.rows.count
        if self.step(version):
            writing.out += self._fixed_rows(writing, item, cells, as_read)
        elif self.ragged(version) is not None:
            writing.out += self._ragged_rows(writing, item, field, cells)
        else:
            writing.fail(field, "a table of such rows cannot be given by columns")

    def _cells(self, writing: Writing, columns: Columns, field: Field) -> dict[str, Any]:
        """Return the stored form of each column that the version written has."""
        read = {f.name or "value": f for f in self.fields(columns.version)}
        wanted = {f.name or "value": f for f in self.fields(writing.version) if f.name or f.at == 0}
        for name in columns.cells:
            if name not in wanted:
                version = writing.version
                writing.fail(field, f"{name!r} has no place in version {version} of the layout")
        out: dict[str, Any] = {}
        for name, inner in wanted.items():
            shown = Field(f"{field.name}[*].{name}", inner.kind, inner.at, constant=inner.constant)
            if name not in columns.cells:
                value = inner.default if inner.default is not None else inner.constant
                if value is None:
                    writing.fail(shown, f"there is no {name!r}, and the layout has no default")
                filled = columns.filled(value)
                out[name] = stored(filled, shown, writing)
                columns.write(name, filled, note="the layout's default")  # the document has it now
            elif columns.is_stored(name) and read[columns.origins[name] or name].kind == inner.kind:
                out[name] = columns.cells[name]
            else:
                out[name] = stored(columns.read(name), shown, writing)
        return out

    def _fixed_rows(
        self, writing: Writing, item: Item, cells: dict[str, Any], as_read: bool
    ) -> Any:
        import numpy as np

        dtype = self.dtype(writing.version, writing.big)
        count = len(next(iter(cells.values()))) if cells else 0
        if as_read:  # columns nobody touched, and what lies between them, stay
            out = self.array(item).copy()
            cells = {n: c for n, c in cells.items() if not item.value.is_stored(n)}
        else:
            out = np.zeros(count, dtype)
            whole = item.value.whole if item.value.rows is None else None
            # Where the kind is another one, numbers of the same width may mean other things.
            kept = [
                n for n in cells if cells[n] is item.value.cells.get(n) and item.value.is_stored(n)
            ]
            kept = [n for n in kept if item.value.origins[n] == n]
            for run in runs_together(whole.dtype, dtype, kept) if whole is not None else ():
                run.of(out, 1)[:] = run.of(whole, 0)
                for name in run.names:
                    del cells[name]
        for name, column in cells.items():
            out[name] = column
        return out.view(np.uint8).data if len(out) else b""

    def _ragged_rows(
        self, writing: Writing, item: Item, field: Field, cells: dict[str, Any]
    ) -> Any:
        import numpy as np

        version, big = writing.version, writing.big
        before, prefix, after = self.ragged(version)  # type: ignore[misc]
        name, ragged = next((k, v) for k, v in cells.items() if isinstance(v, Ragged))
        count = len(ragged)
        if count and int(ragged.lengths.max()) >= 1 << prefix.width * 8:
            writing.fail(field, f"a value of {name} is too long for its size")
        begins = np.zeros(count + 1, np.int64)
        np.cumsum(before + prefix.width + after + ragged.lengths, out=begins[1:])
        # Where all texts stay, so do their bytes and sizes: only the columns around them are put.
        stay = not writing.changed and _as_read(item.rows, ragged, begins, before + prefix.width)
        if stay:
            first = item.rows.body
            out = np.frombuffer(item.rows.buffer, np.uint8)[first : first + begins[-1]].copy()
        else:
            out = np.zeros(int(begins[-1]), np.uint8)
        at = begins[:-1].copy()
        for inner in self.fields(version):
            fixed = _fixed_size(inner)
            if fixed is None:
                if not stay:
                    _scatter(out, at, ragged.lengths.astype(prefix.dtype(big)))
                    _scatter_ragged(out, at + prefix.width, ragged)
                at += prefix.width + ragged.lengths
                continue
            if inner.name and not (stay and item.value.is_stored(inner.name)):
                form = np.dtype(inner.kind.dtype(big) or f"V{fixed}")
                _scatter(out, at, np.asarray(cells[inner.name]).astype(form, copy=False))
            at += fixed
        return out.data

    def ends(self, many: Many, at: Any) -> Any:
        import numpy as np

        count, at = self.count.told(many, at)
        if many.element is not None and self.inner is many.element:
            many.counts[many.which] = count
            return at
        fields = self.fields(many.version)
        if any(each.constant is not None or each.within is not None for each in fields):
            raise Unmeasured
        step = self.step(many.version)
        if step:
            return at + np.minimum(count, many.size + 1) * step
        if not self.inner.least(many.version):
            raise Unmeasured
        return self._ends_in_turn(many, at, np.broadcast_to(count, at.shape).copy())

    def _ends_in_turn(self, many: Many, at: Any, left: Any) -> Any:
        """Return where tables end of which `left` rows are to come: the first of all, then the second …"""
        import numpy as np

        at = at.copy()
        going = np.flatnonzero(left > 0)
        for _ in range(_MOST_ROUNDS):
            if not len(going):
                return at
            at[going] = many.some(self.inner, at, going)
            left[going] -= 1
            at[going[(left[going] > 0) & (at[going] >= many.size)]] = BEYOND
            going = going[(left[going] > 0) & (at[going] < many.size)]
        raise Unmeasured

    def least(self, version: int) -> int:
        if self.count.fixed is not None:
            return self.count.fixed * int(self.inner.least(version))
        return self.count.least(version)


def _same_bytes(one: memoryview, other: memoryview) -> bool:
    """Tell whether two parts of files are the same: piece by piece, as `memoryview` compares byte by byte."""
    pieces = (slice(at, at + _PIECE) for at in range(0, len(one), _PIECE))
    same = (one[piece].tobytes() == other[piece].tobytes() for piece in pieces)
    return len(one) == len(other) and all(same)


def _fixed_size(field: Field) -> int | None:
    """Return how many bytes a column takes in every row; None if that differs."""
    kind = field.kind
    if field.condition is not None or field.derives is not None:
        return None
    if isinstance(kind, (Text, Bytes)):
        return kind.size.fixed
    if isinstance(kind, Pad):
        return None if kind.align else kind.count
    if hasattr(kind, "dtype"):
        width: int | None = getattr(kind, "width", None)
        if width is None and hasattr(kind, "number"):
            width = kind.number.width
        form = kind.dtype(False) if width is None and not isinstance(kind, Table) else None
        return int(form[1:]) if form else width  # an id, a colour: so many bytes
    return None


def _gather(data: bytes, at: Any, form: str) -> Any:
    """Return the values of one type at offsets that need not be aligned: `(n_rows,)`."""
    import numpy as np

    width = np.dtype(form).itemsize
    every = np.ndarray(max(len(data) - width + 1, 0), form, data, 0, (1,))
    return every[at]


def _scatter(out: Any, at: Any, values: Any) -> None:
    import numpy as np

    width = values.dtype.itemsize
    if len(out) < width:
        return
    every = np.ndarray(len(out) - width + 1, values.dtype, out.data, 0, (1,))
    every[at] = values


def _as_read(rows: Rows | None, ragged: Ragged, begins: Any, before: int) -> bool:
    """Tell whether rows begin where they did, and a column still has the values of the file."""
    import numpy as np

    if rows is None or rows.offsets is None or len(rows.offsets) != len(begins):
        return False
    read = np.frombuffer(rows.buffer, np.uint8)
    same = read.ctypes.data == ragged.data.ctypes.data and len(read) == len(ragged.data)
    return (
        same
        and bool((rows.offsets - rows.offsets[0] == begins).all())
        and bool((ragged.starts == rows.offsets[:-1] + before).all())
    )


def _scatter_ragged(out: Any, at: Any, ragged: Ragged) -> None:
    """Copy byte strings to offsets, for all of one length at once."""
    import numpy as np

    order = np.argsort(ragged.lengths, kind="stable")
    lengths = ragged.lengths[order]
    cuts = np.flatnonzero(np.diff(lengths)) + 1
    for group in np.split(order, cuts):
        length = int(ragged.lengths[group[0]]) if len(group) else 0
        if length:
            form = f"V{length}"
            source = np.ndarray(len(ragged.data) - length + 1, form, ragged.data, 0, (1,))
            target = np.ndarray(len(out) - length + 1, form, out.data, 0, (1,))
            target[at[group]] = source[ragged.starts[group]]

"""Parts at offsets that are told elsewhere: one for every row of a table, or one by a field.

Such fields that follow one another share a region of the file, in which their parts lie in any order. What
lies between the parts (padding, free space, old parts) stays as it is. A part that was touched and still fits
its slot stays in its place; one that has grown, or whose bytes are other parts', too, goes behind all others,
on the next aligned offset, and whatever told its place tells the new one.
"""

from __future__ import annotations

from typing import Any, ClassVar

from msgspec import Struct

from ..tree import LIST, SCALAR
from .derived import unpacked_size
from .item import Field, Item, Reading, Scope, Writing, give_paths
from .many import MANY
from .placed import find_parts
from .regions import NOWHERE, Member, Region, Span

__all__ = ["At", "Each", "Places"]


class Places(Struct, frozen=True):
    """`at OFFSET size SIZE unpacked SIZE times N from PLACE or N align N`: how places are told.

    Offset and sizes are columns, or fields. Offsets are in units of `unit` bytes, and count from `base`: the
    start, here (where the region begins), the end (backwards), or where a field begins. Where the offset is
    `nothing` there is no part.
    """

    offset: str
    size: str = ""
    unpacked: str = ""
    unit: int = 1
    base: str = "start"
    nothing: int | None = None
    align: int = 1

    def origin(self, scope: Any, start: int, end: int, span: Any) -> int | None:
        """Return where offsets count from; None if that is nowhere here."""
        if self.base in ("start", "here", "end"):
            return {"start": 0, "here": start, "end": end}[self.base]
        found = scope.find(self.base)
        told = span(found) if found is not None else None
        return None if told is None else int(told[0])

    def at(self, offset: int, origin: int) -> int:
        """Return the place that an offset means."""
        return origin - offset * self.unit if self.base == "end" else origin + offset * self.unit

    def told(self, span: Span, unpacked: int | None, origin: int) -> dict[str, int]:
        """Return what must be told of a part, by the names of the columns or fields."""
        begin, end = span
        if span == NOWHERE:
            nothing = self.nothing if self.nothing is not None else 0
            out = {self.offset: nothing, self.size: 0, self.unpacked: 0}
        else:
            far = origin - begin if self.base == "end" else begin - origin
            out = {
                self.offset: far // self.unit,
                self.size: end - begin,
                self.unpacked: unpacked or 0,
            }
        out.pop("", None)
        return out


class _Told(Struct):
    """What a row, or fields, tell of a part: values by name, and where the offset is told."""

    values: dict[str, Any]
    at: int


class _Placed(Struct, frozen=True):
    """A kind whose parts lie elsewhere in the region."""

    places: Places
    inner: Any
    is_single: ClassVar[bool] = False
    follows: bool = True  # written whenever what tells its places may have changed

    def least(self, version: int) -> int:
        return 0

    # ---- reading -------------------------------------------------------------------------

    def _region(self, reading: Reading) -> tuple[int, int, int | None]:
        """Return where the region begins and may end; and how much follows, None if that differs."""
        run, behind = reading.layout.runs[id(self)]
        key = run, id(reading.scope.groups[-1])
        if reading.region is None or reading.region[0] != key:
            reading.region = (key, reading.at)
        start = reading.region[1]
        size = size_of(behind, reading.version or 0)
        return start, len(reading.data) - (size or 0), size

    def _origin(self, reading: Reading, start: int) -> int | None:
        """Return where the offsets count from; None if that is nowhere here."""

        def place(item: Item) -> Span | None:
            return (item.start, item.end) if item.buffer is reading.data else None

        return self.places.origin(reading.scope, start, len(reading.data), place)

    def _spans(
        self, reading: Reading, field: Field, told: list[_Told], start: int, stop: int
    ) -> list[Span]:
        """Return where the parts lie; those that have no size reach to the next one at most."""

        places = self.places
        origin = self._origin(reading, start)
        if origin is None:
            reading.fail(field, f"{places.base!r} is no place that offsets can count from here")
        if stop < start:
            reading.fail(
                field,
                f"{len(reading.data) - stop:,} bytes must follow, and {reading.left:,} are left",
            )
        spans: list[Span] = []
        for number, each in enumerate(told):
            offset, size = each.values.get(places.offset), each.values.get(places.size, 0)
            if not isinstance(offset, int) or not isinstance(size, int):
                reading.fail(field, f"{places.offset} or {places.size} is no whole number", each.at)
            if offset == places.nothing:
                spans.append(NOWHERE)
                continue
            begin = places.at(offset, origin)
            end = begin + size
            if begin < start or end > stop or size < 0:
                name = f"block {number} lies" if len(told) > 1 else "it lies"
                what = f"{name} at {begin:,} to {end:,}, outside {start:,} to {stop:,}"
                reading.fail(field, what, each.at)
            reading.spend(size, field)
            spans.append((begin, end))
        if places.size:
            if sum(end - begin for begin, end in set(spans)) > 2 * len(reading.data):
                reading.fail(field, "the blocks lie over each other", told[0].at)
            return spans
        begins = sorted({begin for begin, _ in spans})
        stops = dict(zip(begins, [*begins[1:], stop], strict=False))  # there may be none
        none = (each.values.get(places.offset) == places.nothing for each in told)
        return [
            NOWHERE if is_none else (begin, stops[begin])
            for (begin, _), is_none in zip(spans, none, strict=True)
        ]

    def _part(
        self, reading: Reading, field: Field, told: _Told, span: Span, row: Item | None
    ) -> Item:
        """Read the part at a place."""
        begin, end = span
        empty = end == begin and bool(self.places.size)
        if span == NOWHERE or (empty and self.inner.least(reading.version or 0) > 0):
            return Item(SCALAR, value=None, buffer=reading.data, start=begin, end=begin)
        reading.note_part(field)
        within = reading.inside(reading.data[begin:end], reading.base + begin)
        if row is not None:
            within.scope.groups.append(row)
        part: Item = self.inner.read(within, field)
        if row is not None:
            within.scope.groups.pop()
        if not self.places.size:
            within.data, within.stop = within.data[: within.at], within.at
        within.finish(field, "it")
        if self.places.unpacked:
            size, said = unpacked_size(part), told.values.get(self.places.unpacked)
            if size != said:
                reading.fail(field, f"{said} bytes unpacked are told, they are {size}", told.at)
        part.start, part.end, part.inside, part.buffer = (
            begin,
            begin + within.at,
            begin,
            reading.data,
        )
        return part

    def _own(self, span: Span, part: Item) -> Span:
        """Return where a part lies: one of no told size ends where it was read to."""
        return span if self.places.size or span == NOWHERE else (part.start, part.end)

    def _finish(
        self, reading: Reading, item: Item, start: int, spans: list[Span] | None, behind: int | None
    ) -> None:
        """Go on behind the region as far as it is known by now; `spans` None: the item's rows have them."""
        origin = self._origin(reading, start)
        if behind is not None:
            reading.at = len(reading.data) - behind
        elif spans is None:
            reading.at = max(reading.at, int(item.rows.ends.max()))
        else:
            reading.at = max([reading.at, *(end for _, end in spans)])
        item.region = (start, reading.at, spans, origin)

    # ---- writing -------------------------------------------------------------------------

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        behind = writing.layout.runs[id(self)][1]
        if writing.region is None:
            writing.region = Region(writing, size_of(behind, writing.version))
        writing.region.members.append((self, item, field, list(writing.scope.groups)))

    def parts(self, item: Item, writing: Writing, field: Field) -> list[Item | None]:
        """Return the items of the parts; None for those that nobody looked at."""
        raise NotImplementedError

    def scope(self, groups: list[Item], number: int) -> list[Item]:
        """Return the groups around a part when it is written."""
        return groups

    def tell(self, region: Region, member: Member, number: int, told: dict[str, int]) -> None:
        """Have told the place of a part."""
        raise NotImplementedError

    def write_told(self, region: Region, member: Member) -> None:
        """Write what was told."""


class Each(_Placed, frozen=True):
    """`each TABLE at COLUMN … KIND`: a part for every row of a table."""

    table: str = ""

    def read(self, reading: Reading, field: Field) -> Item:
        table = reading.scope.find(self.table)
        if table is None or table.kind != LIST:
            reading.fail(field, f"there is no table {self.table!r} before it")
        start, stop, behind = self._region(reading)
        found = self._find_parts(reading, field, table, start, stop)
        if found is not None:
            self._finish(reading, found, start, None, behind)
            found.end = reading.at
            return found
        rows = [_row(table, number) for number in range(_count(table))]
        told = [_Told(_cells(row), _start(table, number)) for number, row in enumerate(rows)]
        spans = self._spans(reading, field, told, start, stop)
        item = Item(LIST, key=field.name, members=[], buffer=reading.data, start=start, field=field)
        for number, (row, each, span) in enumerate(zip(rows, told, spans, strict=True)):
            inner = Field(f"{field.name}[{number}]", self.inner, field.at)
            part = self._part(reading, inner, each, span, row)
            part.key, part.parent, part.at = None, item, number
            spans[number] = self._own(span, part)
            item.members.append(part)  # type: ignore[union-attr]
        self._finish(reading, item, start, spans, behind)
        item.end = reading.at
        return item

    def _find_parts(
        self, reading: Reading, field: Field, table: Item, start: int, stop: int
    ) -> Item | None:
        """Find the parts by the columns of a large table; None if they are read one by one."""
        if table.rows is None or table.members is not None or table.rows.count < MANY:
            return None
        if table.some or not table.maker.has_columns(table.rows.context[1]):
            return None
        origin = self._origin(reading, start)
        if origin is None or stop < start:
            return None
        return find_parts(self, reading, field, table, start=start, stop=stop, origin=origin)

    def has_columns(self, version: int) -> bool:
        """Tell whether the parts are taken by columns: they are not."""
        return False

    def row(self, item: Item, number: int) -> Item:
        """Return one part that was found by columns, read now, by its row as that was read."""
        rows = item.rows
        groups, version, layout, path, base = rows.context
        reading = Reading(rows.buffer, layout)
        reading.version, reading.path, reading.base = version or None, list(path), base
        reading.scope = Scope(list(groups))
        table = reading.scope.find(self.table)
        assert table is not None and table.maker is not None
        told_by = table.maker.row(table, number)
        told = _Told(_cells(told_by), _start_read(table, number))
        inner = Field(f"{item.key}[{number}]", self.inner, item.field.at)
        part = self._part(reading, inner, told, rows.span(number), told_by)
        part.key, part.parent, part.at = None, item, number
        return part

    def parts(self, item: Item, writing: Writing, field: Field) -> list[Item | None]:
        if item.kind != LIST:
            writing.fail(field, "a list of parts is needed here")
        if item.members is None and item.rows is not None:
            if not writing.changed:
                some = item.some or {}
                return [some.get(n) for n in range(item.rows.count)]
            item.members = [_own_row(item, n) for n in range(item.rows.count)]
        return list(item.members or ())

    def scope(self, groups: list[Item], number: int) -> list[Item]:
        table = Scope(groups).find(self.table)
        there = table is not None and number < _count(table)
        return [*groups, _row(table, number)] if there and table is not None else groups

    def _table(self, region: Region, member: Member) -> Item:
        table = Scope(member[3]).find(self.table)
        if table is None:
            region.fail(member, f"there is no table {self.table!r}")
        return table

    def tell(self, region: Region, member: Member, number: int, told: dict[str, int]) -> None:
        table = self._table(region, member)
        if table.members is None and (table.value is not None or region.writing.changed):
            table.members = [_own_row(table, n) for n in range(table.rows.count)]
        if number >= _count(table):
            region.fail(member, f"there are more parts than rows in {self.table}")
        row = table.members[number] if table.members is not None else _own_row(table, number)
        for cell in row.members or ():
            said = told.get(str(cell.key))
            if said is not None and cell.value != said:
                cell.value, cell.dirty, row.dirty = said, True, True
                if table.members is None:
                    table.some = table.some if table.some is not None else {}
                    table.some[number] = row
                table.touch()

    def write_told(self, region: Region, member: Member) -> None:
        """Write the table anew where it stands, in the same size; one in the region is written later."""
        table, writing = self._table(region, member), region.writing
        if _count(member[1]) != _count(table):
            parts, rows = _count(member[1]), _count(table)
            region.fail(member, f"there are {parts} blocks, but {rows} rows in {self.table}")
        if not table.dirty or region.is_waiting(table):
            return
        span = writing.span(table)
        if span is None or table.maker is None:
            region.fail(member, "the table cannot be told of the new places")
        part = writing.inside("")
        part.path.pop()
        part.scope = Scope(member[3])
        again = Item(LIST, key=table.key, members=table.members, field=table.field, dirty=True)
        if table.members is None:
            again.rows, again.some, again.maker = table.rows, table.some, table.maker
        table.maker.write(part, again, table.field)
        if len(part.out) != span[1] - span[0]:
            region.fail(member, "the table changed its size when it was told of the new places")
        writing.out.put(span[0], bytes(part.out))


class At(_Placed, frozen=True):
    """`at PATH … KIND`: one part, at an offset that a field tells."""

    is_single: ClassVar[bool] = True

    @property
    def may_lack(self) -> bool:
        """Whether the offset can say that there is none."""
        return self.places.nothing is not None

    def read(self, reading: Reading, field: Field) -> Item:
        start, stop, behind = self._region(reading)
        places = self.places
        found = reading.scope.find(places.offset)
        names = filter(None, (places.offset, places.size, places.unpacked))
        items = {name: reading.scope.find(name) for name in names}
        values = {name: each.value if each is not None else None for name, each in items.items()}
        told = _Told(values, found.start if found is not None else reading.at)
        spans = self._spans(reading, field, [told], start, stop)
        item = self._part(reading, field, told, spans[0], None)
        item.key, item.field = field.name, item.field or field
        self._finish(reading, item, start, [self._own(spans[0], item)], behind)
        return item

    def parts(self, item: Item, writing: Writing, field: Field) -> list[Item | None]:
        return [item]

    def tell(self, region: Region, member: Member, number: int, told: dict[str, int]) -> None:
        for path, said in told.items():
            found = Scope(member[3]).find(path)
            if found is None:
                region.fail(member, f"there is no field {path!r} to tell")
            before = region.said.setdefault(id(found), said)
            if before != said:
                region.fail(member, f"{path} would have to be {before:,} and {said:,}")
            if found.value != said:
                found.value = said
                found.touch()
                self._write(region, member, found, path)

    def _write(self, region: Region, member: Member, found: Item, path: str) -> None:
        """Write a field anew that was told; one in the region is written later."""
        if region.is_waiting(found):
            return
        writing = region.writing
        span = writing.span(found)
        part = writing.inside("")
        found.field.kind.write(part, found, found.field)
        if span is None or len(part.out) != span[1] - span[0]:
            region.fail(member, f"{path} cannot be told where it lies")
        writing.out.put(span[0], bytes(part.out))


def size_of(behind: tuple[Field, ...], version: int) -> int | None:
    """Return how many bytes some fields always take; None if that differs."""
    total = 0
    for field in behind:
        if field.is_in(version):
            size = None if field.condition is not None else fixed_size(field.kind, version)
            if size is None:
                return None
            total += size
    return total


def fixed_size(kind: Any, version: int) -> int | None:
    """Return how many bytes a kind always takes; None if that differs."""
    fields = getattr(kind, "fields", None)
    if isinstance(fields, tuple):
        return size_of(fields, version)
    if hasattr(kind, "step"):  # a table
        step = kind.step(version)
        return kind.count.fixed * step if step and kind.count.fixed is not None else None
    if getattr(kind, "derived", False) or (
        hasattr(kind, "dtype") and kind.dtype(False) is not None
    ):
        return int(kind.least(version))
    width = getattr(getattr(kind, "number", kind), "width", None)
    return int(width) if isinstance(width, int) else None


def _count(table: Item) -> int:
    return int(table.rows.count) if table.members is None else len(table.members)


def _row(table: Item, number: int) -> Item:
    if table.members is not None:
        row: Item = table.members[number]
        return row
    found = (table.some or {}).get(number)
    made: Item = found if found is not None else table.maker.row(table, number)
    return made


def _own_row(table: Item, number: int) -> Item:
    """Return a row that can be changed, as one of the table's own."""
    row: Item | None = (table.some or {}).get(number)
    if row is None:
        row = table.maker.row(table, number)
        if table.origin is not None:
            give_paths(row, (*table.origin, number))
        row.parent, row.at = table, number
    return row


def _start(table: Item, number: int) -> int:
    """Return where a row begins in what the table lies in."""
    if table.members is None:
        return _start_read(table, number)
    return int(table.members[number].start)


def _start_read(table: Item, number: int) -> int:
    return int(table.rows.span(number)[0])


def _cells(row: Item) -> dict[str, Any]:
    return {str(member.key): member.value for member in row.members or ()}

"""Parts at offsets that are told elsewhere: one for every row of a table, or one by a field.

Such fields that follow one another share a region of the file, in which their parts lie in any order. What
lies between the parts (padding, free space, old parts) stays as it is. A part that was touched and still fits
its slot stays in its place; one that has grown, or whose bytes are other parts', too, goes behind all others,
on the next aligned offset, and whatever told its place tells the new one.
"""

from __future__ import annotations

from math import lcm
from typing import Any, NoReturn

from msgspec import Struct

from ..tree import LIST, SCALAR
from .derived import unpacked_size
from .item import Field, Item, Reading, Scope, Writing, give_paths

__all__ = ["At", "Each", "Places"]

Span = tuple[int, int]
NOWHERE = (0, 0)  # where a part lies that is not there


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

    def _spans(
        self, reading: Reading, field: Field, told: list[_Told], start: int, stop: int
    ) -> list[Span]:
        """Return where the parts lie; those that have no size reach to the next one at most."""

        def place(item: Item) -> Span | None:
            return (item.start, item.end) if item.buffer is reading.data else None

        places = self.places
        origin = places.origin(reading.scope, start, len(reading.data), place)
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

    def _finish(
        self, reading: Reading, item: Item, start: int, spans: list[Span], behind: int | None
    ) -> None:
        """Go on behind the region as far as it is known by now."""
        if behind is not None:
            reading.at = len(reading.data) - behind
        else:
            reading.at = max([reading.at, *(end for _, end in spans)])
        item.region = (start, reading.at, spans)

    # ---- writing -------------------------------------------------------------------------

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        behind = writing.layout.runs[id(self)][1]
        if writing.region is None:
            writing.region = Region(writing, size_of(behind, writing.version))
        writing.region.members.append((self, item, field, list(writing.scope.groups)))

    def parts(self, item: Item, writing: Writing, field: Field) -> list[Item]:
        """Return the items of the parts."""
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
        rows = [_row(table, number) for number in range(_count(table))]
        told = [_Told(_cells(row), _start(table, number)) for number, row in enumerate(rows)]
        spans = self._spans(reading, field, told, start, stop)
        item = Item(LIST, key=field.name, members=[], buffer=reading.data, start=start, field=field)
        for number, (row, each, span) in enumerate(zip(rows, told, spans, strict=True)):
            inner = Field(f"{field.name}[{number}]", self.inner, field.at)
            part = self._part(reading, inner, each, span, row)
            part.key, part.parent, part.at = None, item, number
            item.members.append(part)  # type: ignore[union-attr]
        self._finish(reading, item, start, spans, behind)
        item.end = reading.at
        return item

    def parts(self, item: Item, writing: Writing, field: Field) -> list[Item]:
        if item.kind != LIST:
            writing.fail(field, "a list of parts is needed here")
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
        if table.members is None:
            table.members = [(table.some or {}).get(n) for n in range(table.rows.count)]
            for at, row in enumerate(table.members):
                if row is None:
                    made = table.members[at] = table.maker.row(table, at)
                    if table.origin is not None:
                        give_paths(made, (*table.origin, at))
                    made.parent, made.at = table, at
        if number >= len(table.members):
            region.fail(member, f"there are more parts than rows in {self.table}")
        row = table.members[number]
        for cell in row.members or ():
            said = told.get(str(cell.key))
            if said is not None and cell.value != said:
                cell.value, cell.dirty, row.dirty = said, True, True
                table.touch()

    def write_told(self, region: Region, member: Member) -> None:
        """Write the table anew where it stands, in the same size; one in the region is written later."""
        table, writing = self._table(region, member), region.writing
        if len(member[1].members or ()) != _count(table):
            parts, rows = len(member[1].members or ()), _count(table)
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
        table.maker.write(part, again, table.field)
        if len(part.out) != span[1] - span[0]:
            region.fail(member, "the table changed its size when it was told of the new places")
        writing.out.put(span[0], bytes(part.out))


class At(_Placed, frozen=True):
    """`at PATH … KIND`: one part, at an offset that a field tells."""

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
        self._finish(reading, item, start, spans, behind)
        return item

    def parts(self, item: Item, writing: Writing, field: Field) -> list[Item]:
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


# A kind, its item and field, and the groups around it.
Member = tuple[_Placed, Item, Field, "list[Item]"]


class Region:
    """A region that is written: its members, until what follows it is written."""

    def __init__(self, writing: Writing, behind: int | None) -> None:
        self.writing = writing
        self.behind = behind
        self.members: list[Member] = []
        self.said: dict[int, int] = {}  # of fields by identity: where they say a part lies
        self._waiting: set[int] = set()  # parts that are written later, by identity

    def fail(self, member: Member, what: str) -> NoReturn:
        """Raise the error for a fault in a member."""
        self.writing.fail(member[2], what)

    def is_waiting(self, item: Item) -> bool:
        """Tell whether an item lies in a part that is written later."""
        node: Item | None = item
        while node is not None:
            if id(node) in self._waiting:
                return True
            node = node.parent
        return False

    def close(self) -> None:
        """Put the parts where they lie, the last fields' first: what tells of them may be a part, too."""
        writing = self.writing
        here = len(writing.out)
        regions = [item.region for _, item, _, _ in self.members]
        as_read = all(
            item.region is not None and len(kind.parts(item, writing, field)) == len(item.region[2])
            for kind, item, field, _ in self.members
        )
        start = regions[0][0] if as_read else here
        stop = max((region[1] for region in regions), default=here) if as_read else here
        tail = bytearray(self.members[0][1].buffer[start:stop]) if as_read else bytearray()
        step = lcm(*(n for kind, *_ in self.members for n in (kind.places.align, kind.places.unit)))
        shift = here - start
        if as_read and shift:
            # What lies before them grew or shrank: all move together, and keep their alignment.
            gap = -shift % step
            writing.out += b"\0" * gap
            shift += gap
        base = len(writing.out)
        old = [
            [(a + shift, b + shift) if (a, b) != NOWHERE else NOWHERE for a, b in region[2]]
            if as_read
            else []
            for region in regions
        ]
        shared = _shared([span for spans in old for span in spans])
        self._waiting = {id(item) for kind, item, _, _ in self.members if isinstance(kind, At)}
        late: list[tuple[Member, list[Span]]] = []
        placed: list[list[Span]] = []
        for member, spans in zip(reversed(self.members), reversed(old), strict=True):
            kind, item, _, groups = member
            self._waiting.discard(id(item))
            origin = kind.places.origin(Scope(groups), here, 0, writing.span)
            if origin is None:
                self.fail(
                    member, f"{kind.places.base!r} is no place that offsets can count from here"
                )
            put = self._put(member, spans, shared, tail, base, origin)
            placed.insert(0, put)
            if kind.places.base == "end":
                late.append((member, put))
            else:
                self._tell(member, put, origin)
        reach = max([base, *(end for put in placed for _, end in put)])
        if self.behind is None:  # what follows is looked for right behind the last part
            del tail[reach - base :]
        writing.out += tail
        end = len(writing.out)
        for member, put in late:
            if self.behind is None:
                self.fail(member, "offsets count from the end, and what follows has no fixed size")
            self._tell(member, put, end + self.behind)
        reach = base
        for (kind, item, _, _), put in zip(self.members, placed, strict=True):
            reach = max([reach, *(last for _, last in put)]) if self.behind is None else end
            writing.spans[id(item)] = (base, reach) if isinstance(kind, Each) else put[0]

    def _put(
        self,
        member: Member,
        spans: list[Span],
        shared: set[Span],
        tail: bytearray,
        base: int,
        origin: int,
    ) -> list[Span]:
        """Place the parts of a member; return where they lie."""
        kind, item, field, _ = member
        parts = kind.parts(item, self.writing, field)
        same = len(parts) == len(spans)
        moved: dict[
            tuple[Span, bytes], Span
        ] = {}  # of what several have, the first that went elsewhere
        out: list[Span] = []
        for number, part in enumerate(parts):
            slot = spans[number] if same else NOWHERE
            if same and part.start >= 0 and not part.dirty and not self.writing.changed:
                out.append(slot)
                continue
            if part.kind == SCALAR and part.value is None:
                out.append(NOWHERE)
                continue
            data = self._bytes(member, part, number)
            if slot in shared:
                if (slot, data) not in moved:
                    moved[slot, data] = _place(kind.places, tail, base, NOWHERE, data, origin)
                out.append(moved[slot, data])
            else:
                out.append(_place(kind.places, tail, base, slot, data, origin))
        return out

    def _bytes(self, member: Member, part: Item, number: int) -> bytes:
        kind, _, field, groups = member
        if part.start >= 0 and not part.dirty and not self.writing.changed:
            return part.raw
        name = f"{field.name}[{number}]" if isinstance(kind, Each) else field.name
        made = self.writing.inside(name)
        made.scope = Scope(kind.scope(groups, number))
        kept, part.region = part.region, None
        kind.inner.write(made, part, Field(name, kind.inner, field.at))
        part.region = kept
        return bytes(made.finish())

    def _tell(self, member: Member, put: list[Span], origin: int) -> None:
        kind, item, field, _ = member
        for number, (part, span) in enumerate(
            zip(kind.parts(item, self.writing, field), put, strict=True)
        ):
            size = None
            if kind.places.unpacked:
                size = self.writing.unpacked.get(id(part), unpacked_size(part))
            kind.tell(self, member, number, kind.places.told(span, size, origin))
        kind.write_told(self, member)


def _place(
    places: Places, tail: bytearray, base: int, slot: Span, data: bytes, origin: int
) -> Span:
    """Put a part into its slot if it fits, else behind everything."""
    if 0 < slot[1] - slot[0] >= len(data):
        at = slot[0] - base
        tail[at : at + len(data)] = data
        return slot[0], slot[0] + len(data)
    at = base + len(tail)
    gap = -at % places.align
    if places.base != "end":  # where units do not fall on aligned places, they go before
        fitting = (gap + n * places.align for n in range(places.unit + 1))
        anywhere = range(2 * places.unit)
        gap = next(n for n in (*fitting, *anywhere) if _is_tellable(places, at + n - origin))
    tail += b"\0" * gap + data
    return at + gap, at + gap + len(data)


def _moved(span: Span, shift: int) -> Span:
    return (span[0] + shift, span[1] + shift) if span != NOWHERE else NOWHERE


def _is_tellable(places: Places, distance: int) -> bool:
    """Tell whether an offset can say a distance, and does not say that there is nothing."""
    return distance % places.unit == 0 and distance // places.unit != places.nothing


def _shared(spans: list[Span]) -> set[Span]:
    """Return the spans that share bytes with another."""
    found: set[Span] = set()
    last, reach = (0, 0), 0
    for span in sorted(span for span in spans if span[1] > span[0]):
        if span[0] < reach:
            found |= {last, span}
        if span[1] > reach:
            last, reach = span, span[1]
    return found


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


def _start(table: Item, number: int) -> int:
    """Return where a row begins in what the table lies in."""
    if table.members is None:
        return int(table.rows.span(number)[0])
    return int(table.members[number].start)


def _cells(row: Item) -> dict[str, Any]:
    return {str(member.key): member.value for member in row.members or ()}

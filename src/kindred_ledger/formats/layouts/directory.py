"""Blocks at offsets that a table tells: a directory of them, wherever they lie in the file.

What lies between the blocks (padding, free space, old blocks) stays as it is. A block that was
touched and still fits its slot stays in its place; one that has grown, or whose bytes are other
blocks', too, goes behind all others, on the next aligned offset, and the table tells its new place.
"""

from __future__ import annotations

from math import lcm
from typing import Any

from msgspec import Struct

from ..tree import LIST, SCALAR
from .derived import unpacked_size
from .item import Field, Item, Reading, Writing, give_paths

__all__ = ["Each"]

Span = tuple[int, int]


class Each(Struct, frozen=True):
    """`each TABLE at OFFSET size SIZE unpacked COLUMN times N from PLACE or N align N TYPE`.

    One block for every row of a table. Offsets are in units of `unit` bytes, and count from `base`: the
    start, here (where the blocks may begin), the end (backwards), or where a field begins. A row whose offset
    is `nothing` has no block. The blocks reach to what follows them: if that has a fixed size, to where it
    must begin, else to the end of the last of them.
    """

    table: str
    offset: str
    inner: Any
    size: str = ""
    unpacked: str = ""
    unit: int = 1
    base: str = "start"
    nothing: int | None = None
    align: int = 1
    follows: bool = True  # written whenever its table may have changed

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.at
        table = reading.scope.find(self.table)
        if table is None or table.kind != LIST:
            reading.fail(field, f"there is no table {self.table!r} before it")
        behind = self._behind(reading.layout, reading.version or 0)
        stop = len(reading.data) - (behind or 0)
        if stop < start:
            reading.fail(field, f"{behind:,} bytes must follow, and {reading.left:,} are left")
        rows = [_row(table, number) for number in range(_count(table))]
        spans = self._spans(reading, field, table, rows, start, stop)
        item = Item(LIST, key=field.name, members=[], buffer=reading.data, start=start, field=field)
        for number, (row, (begin, end)) in enumerate(zip(rows, spans, strict=True)):
            inner = Field(f"{field.name}[{number}]", self.inner, field.at)
            if end <= begin:
                block = Item(SCALAR, value=None, buffer=reading.data, start=begin, end=begin)
            else:
                within = reading.inside(reading.data[begin:end], reading.base + begin)
                within.scope.groups.append(row)
                block = self.inner.read(within, inner)
                within.scope.groups.pop()
                if not self.size:
                    within.data = within.data[: within.at]
                within.finish(inner, "it")
                self._check_unpacked(reading, inner, block, row, _start(table, number))
                block.end, block.inside, block.buffer = begin + within.at, begin, reading.data
            block.key, block.parent, block.at, block.start = None, item, number, begin
            item.members.append(block)  # type: ignore[union-attr]
        reading.at = item.end = (
            stop if behind is not None else max([start, *(end for _, end in spans)])
        )
        item.shape = (start, spans)
        return item

    def _behind(self, layout: Any, version: int) -> int | None:
        """Return how many bytes follow up to the end of what it lies in; None if that differs."""
        total = 0
        for field in layout.behind.get(id(self), ()):
            if not field.is_in(version):
                continue
            size = None if field.condition is not None else fixed_size(field.kind, version)
            if size is None:
                return None
            total += size
        return total

    def _check_unpacked(
        self, reading: Reading, field: Field, block: Item, row: Item, at: int
    ) -> None:
        if self.unpacked:
            size, told = unpacked_size(block), _cells(row).get(self.unpacked)
            if size != told:
                reading.fail(
                    field, f"{self.table} tells {told} bytes unpacked, they are {size}", at
                )

    def _origin(self, scope: Any, start: int, end: int, span: Any) -> int | None:
        """Return where offsets count from; None if that is nowhere here."""
        if self.base in ("start", "here", "end"):
            return {"start": 0, "here": start, "end": end}[self.base]
        found = scope.find(self.base)
        told = span(found) if found is not None else None
        return None if told is None else int(told[0])

    def _at(self, offset: int, origin: int) -> int:
        return origin - offset * self.unit if self.base == "end" else origin + offset * self.unit

    def _spans(
        self, reading: Reading, field: Field, table: Item, rows: list[Item], start: int, stop: int
    ) -> list[Span]:
        def place(item: Item) -> Span | None:
            return (item.start, item.end) if item.buffer is reading.data else None

        origin = self._origin(reading.scope, start, len(reading.data), place)
        if origin is None:
            reading.fail(field, f"{self.base!r} is no place that offsets can count from here")
        spans: list[Span] = []
        for number, row in enumerate(rows):
            told = _cells(row)
            offset, size = told.get(self.offset), told.get(self.size) if self.size else 0
            if not isinstance(offset, int) or not isinstance(size, int):
                reading.fail(
                    field,
                    f"{self.offset} or {self.size} of {self.table} is no whole number",
                    _start(table, number),
                )
            if offset == self.nothing:
                spans.append((0, 0))
                continue
            begin = self._at(offset, origin)
            end = begin + size
            if begin < start or end > stop or size < 0:
                what = f"block {number} lies at {begin:,} to {end:,}, outside {start:,} to {stop:,}"
                reading.fail(field, what, _start(table, number))
            reading.spend(size, field)
            spans.append((begin, end))
        if self.size:
            # Blocks may share bytes, but as many as there are bytes to share, and no more: files are finite.
            if sum(end - begin for begin, end in set(spans)) > 2 * len(reading.data):
                reading.fail(field, "the blocks lie over each other", _start(table, 0))
            return spans
        begins = sorted(
            {begin for begin, _ in spans}
        )  # each goes at most to where the next one begins
        stops = dict(zip(begins, [*begins[1:], stop], strict=True))
        return [
            (begin, begin if row_is_none else stops[begin])
            for (begin, _), row_is_none in zip(
                spans, (_cells(row).get(self.offset) == self.nothing for row in rows), strict=True
            )
        ]

    # ---- writing -------------------------------------------------------------------------

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        start, spans = item.shape if item.shape else (len(writing.out), [])
        if item.kind != LIST:
            writing.fail(field, "a list of blocks is needed here")
        table = writing.scope.find(self.table)
        if table is None:
            writing.fail(field, f"there is no table {self.table!r}")
        here = len(writing.out)
        step = lcm(self.align, self.unit)
        same_head = item.start >= 0 and len(item.members or ()) == len(spans)
        if same_head and (shift := here - start):
            # What lies before them grew or shrank: all move together, and keep their alignment.
            gap = -shift % step
            writing.out += b"\0" * gap
            spans = [(a + shift + gap, b + shift + gap) if b > a else (a, b) for a, b in spans]
        tail = bytearray(item.buffer[start : item.end]) if same_head else bytearray()
        base = len(writing.out)
        found = self._origin(writing.scope, here, 0, writing.span)
        if found is None:
            writing.fail(field, f"{self.base!r} is no place that offsets can count from here")
        origin = found
        shared = _shared(spans) if same_head else set()
        moved: dict[
            tuple[Span, bytes], Span
        ] = {}  # of what several rows have, the first that went elsewhere
        places: list[Span] = []
        anew = False
        for number, block in enumerate(item.members or ()):
            old = spans[number] if same_head else (0, 0)
            if same_head and block.start >= 0 and not block.dirty and not writing.changed:
                places.append(old)
                continue
            if block.kind == SCALAR and block.value is None:
                places.append((0, 0))
                continue
            data = self._block(writing, block, table, number, field)
            anew = True
            slot = (0, 0) if number in shared else old
            if number in shared and (old, data) in moved:
                places.append(moved[old, data])
                continue
            place = self._place(tail, base, slot, data, origin)
            places.append(place)
            if number in shared:
                moved[old, data] = place
        writing.out += tail
        end = len(writing.out)
        if self.base == "end":
            behind = self._behind(writing.layout, writing.version)
            if behind is None:
                writing.fail(
                    field, "offsets count from the end, and what follows has no fixed size"
                )
            origin = end + behind
        if (
            self.base == "end"
            or places != (item.shape or (0, []))[1]
            or table.dirty
            or here != start
            or (self.unpacked and anew)
        ):
            self._tell(writing, table, item, places, field, origin)

    def _block(
        self, writing: Writing, block: Item, table: Item, number: int, field: Field
    ) -> bytes:
        if block.start >= 0 and not block.dirty and not writing.changed:
            return block.raw
        name = f"{field.name}[{number}]"
        part = writing.inside(name)
        row = _row(table, number) if number < _count(table) else None
        if row is not None:
            part.scope.groups.append(row)
        self.inner.write(part, block, Field(name, self.inner, field.at))
        if row is not None:
            part.scope.groups.pop()
        return bytes(part.finish())

    def _place(self, tail: bytearray, base: int, old: Span, data: bytes, origin: int) -> Span:
        """Put a block into its old slot if it fits, else behind everything."""
        if 0 < old[1] - old[0] >= len(data):
            at = old[0] - base
            tail[at : at + len(data)] = data
            return old[0], old[0] + len(data)
        at = base + len(tail)
        gap = -at % self.align
        while (at + gap - origin) % self.unit:
            gap += self.align
        if not tail and at + gap == origin and self.nothing == 0:
            gap += lcm(self.align, self.unit)  # an offset of 0 would say that there is none
        tail += b"\0" * gap + data
        return at + gap, at + gap + len(data)

    def _tell(
        self,
        writing: Writing,
        table: Item,
        item: Item,
        places: list[Span],
        field: Field,
        origin: int,
    ) -> None:
        """Write the new places into the table, which was written already, and in the same size."""
        span = writing.span(table)
        kind = table.maker
        if span is None or kind is None:
            writing.fail(field, "the table cannot be told of the new places")
        if table.members is None:
            table.members = [(table.some or {}).get(n) for n in range(table.rows.count)]
            for number, row in enumerate(table.members):
                if row is None:
                    made = table.members[number] = kind.row(table, number)
                    if table.origin is not None:
                        give_paths(made, (*table.origin, number))
                    made.parent, made.at = table, number
        members = table.members
        if len(members) != len(places):
            writing.fail(
                field, f"there are {len(places)} blocks, but {len(members)} rows in {self.table}"
            )
        for row, block, (begin, end) in zip(members, item.members or (), places, strict=True):
            told = self._told(writing, block, begin, end, origin)
            for cell in row.members or ():
                said = told.get(str(cell.key))
                if said is not None and cell.value != said:
                    cell.value, cell.dirty, row.dirty = said, True, True
                    table.touch()
        part = writing.inside("")
        part.path.pop()
        part.scope = writing.scope
        again = Item(LIST, key=table.key, members=members, field=table.field, dirty=True)
        kind.write(part, again, table.field)
        if len(part.out) != span[1] - span[0]:
            writing.fail(field, "the table changed its size when it was told of the new places")
        writing.out.put(span[0], bytes(part.out))

    def _told(
        self, writing: Writing, block: Item, begin: int, end: int, origin: int
    ) -> dict[str, int]:
        """Return what the row of a block says, by its columns."""
        if end <= begin:
            nothing = self.nothing if self.nothing is not None else 0
            out = {self.offset: nothing, self.size: 0, self.unpacked: 0}
        else:
            far = origin - begin if self.base == "end" else begin - origin
            size = writing.unpacked.get(id(block), unpacked_size(block)) if self.unpacked else 0
            out = {self.offset: far // self.unit, self.size: end - begin, self.unpacked: size or 0}
        out.pop("", None)
        return out

    def least(self, version: int) -> int:
        return 0


def fixed_size(kind: Any, version: int) -> int | None:
    """Return how many bytes a kind always takes; None if that differs."""
    fields = getattr(kind, "fields", None)
    if isinstance(fields, tuple):
        sizes = [
            None if field.condition is not None else fixed_size(field.kind, version)
            for field in fields
            if field.is_in(version)
        ]
        return None if None in sizes else sum(size for size in sizes if size is not None)
    if getattr(kind, "derived", False) or (
        hasattr(kind, "dtype") and kind.dtype(False) is not None
    ):
        return int(kind.least(version))
    number = getattr(kind, "number", kind)
    width = getattr(number, "width", None)
    return int(width) if isinstance(width, int) else None


def _shared(spans: list[Span]) -> set[int]:
    """Return the numbers of blocks that share bytes with another."""
    found: set[int] = set()
    last = -1
    reach = 0
    for begin, end, number in sorted((a, b, n) for n, (a, b) in enumerate(spans) if b > a):
        if begin < reach:
            found |= {last, number}
        if end > reach:
            last, reach = number, end
    return found


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

"""Blocks at offsets that a table tells: a directory of them, wherever they lie in the file.

What lies between the blocks (padding, free space, old blocks) stays as it is. A block that was
touched and still fits its slot stays in its place; one that has grown goes behind all others, on
the next aligned offset, and the table tells its new place.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ..tree import LIST, SCALAR
from .item import Field, Item, Reading, Writing, give_paths

__all__ = ["Each"]


class Each(Struct, frozen=True):
    """`each TABLE at OFFSET size SIZE align N TYPE`: one block for every row of a table.

    A row whose offset is 0 has no block. The blocks reach to the end of the file.
    """

    table: str
    offset: str
    size: str
    align: int
    inner: Any
    follows: bool = True  # written whenever its table may have changed

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.at
        table = reading.scope.find(self.table)
        if table is None or table.kind != LIST:
            reading.fail(field, f"there is no table {self.table!r} before it")
        spans = self._spans(reading, field, table, start)
        item = Item(LIST, key=field.name, members=[], buffer=reading.data, start=start, field=field)
        item.shape = (start, spans)
        for number, (begin, end) in enumerate(spans):
            inner = Field(f"{field.name}[{number}]", self.inner, field.at)
            if end <= begin:
                block = Item(SCALAR, value=None, buffer=reading.data, start=begin, end=begin)
            else:
                within = reading.inside(reading.data[begin:end], reading.base + begin)
                block = self.inner.read(within, inner)
                if not self.size:
                    within.data = within.data[: within.at]
                within.finish(inner, "it")
                block.end, block.inside, block.buffer = begin + within.at, begin, reading.data
            block.key, block.parent, block.at, block.start = None, item, number, begin
            item.members.append(block)  # type: ignore[union-attr]
        reading.at = item.end = len(reading.data)
        return item

    def _spans(
        self, reading: Reading, field: Field, table: Item, start: int
    ) -> list[tuple[int, int]]:
        spans = []
        total = 0
        rows = table.members
        for number in range(table.rows.count if rows is None else len(rows)):
            row = rows[number] if rows is not None else table.maker.row(table, number)
            told = {member.key: member.value for member in row.members or ()}
            begin = told.get(self.offset)
            size = told.get(self.size) if self.size else None
            if not isinstance(begin, int):
                reading.fail(field, f"the table has no column {self.offset!r}")
            if begin == 0:
                spans.append((0, 0))
                continue
            end = begin if size is None else begin + int(size)
            if begin < start or end > len(reading.data):
                room = f"{start:,} to {len(reading.data):,}"
                what = f"block {number} lies at {begin:,} to {end:,}, outside {room}"
                reading.fail(field, what, row.start)
            total += end - begin if self.size else 0
            if total > 2 * len(reading.data):
                reading.fail(field, "the blocks lie over each other", row.start)
            spans.append((begin, end))
        if not self.size:  # each goes at most to where the next one begins
            begins = sorted({begin for begin, _ in spans})
            stops = dict(zip(begins, [*begins[1:], len(reading.data)], strict=True))
            spans = [(begin, stops[begin] if begin else 0) for begin, _ in spans]
        return spans

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        start, spans = item.shape if item.shape else (len(writing.out), [])
        if item.kind != LIST:
            writing.fail(field, "a list of blocks is needed here")
        table = writing.scope.find(self.table)
        if table is None:
            writing.fail(field, f"there is no table {self.table!r}")
        same_head = item.start >= 0 and len(item.members or ()) == len(spans)
        if same_head and (shift := len(writing.out) - start):
            # What lies before them grew or shrank: all move together, and keep their alignment.
            gap = -shift % self.align
            writing.out += b"\0" * gap
            spans = [(a + shift + gap, b + shift + gap) if b > a else (a, b) for a, b in spans]
        tail = bytearray(item.buffer[start:]) if same_head else bytearray()
        places: list[tuple[int, int]] = []
        for number, block in enumerate(item.members or ()):
            old = spans[number] if same_head else (0, 0)
            if same_head and block.start >= 0 and not block.dirty and not writing.changed:
                places.append(old)
                continue
            if block.kind == SCALAR and block.value is None:
                places.append((0, 0))
                continue
            data = block.raw
            if block.dirty or block.start < 0 or writing.changed:
                part = writing.inside(f"{field.name}[{number}]")
                self.inner.write(
                    part, block, Field(f"{field.name}[{number}]", self.inner, field.at)
                )
                data = bytes(part.finish())
            places.append(self._place(tail, len(writing.out), old, data))
        base = len(writing.out)
        writing.out += tail
        if places != (item.shape or (0, []))[1] or table.dirty:
            self._tell(writing, table, places, field, base)

    def _place(
        self, tail: bytearray, base: int, old: tuple[int, int], data: bytes
    ) -> tuple[int, int]:
        """Put a block into its old slot if it fits, else behind everything."""
        if 0 < old[1] - old[0] >= len(data):
            at = old[0] - base
            tail[at : at + len(data)] = data
            return old[0], old[0] + len(data)
        at = base + len(tail)
        gap = -at % self.align
        tail += b"\0" * gap + data
        return at + gap, at + gap + len(data)

    def _tell(self, writing: Writing, table: Item, places: list[tuple[int, int]], field: Field,
              base: int) -> None:  # fmt: skip
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
        for row, (begin, end) in zip(members, places, strict=True):
            for cell in row.members or ():
                told = {self.offset: begin, self.size: end - begin}.get(str(cell.key))
                if told is not None and cell.value != told:
                    cell.value, cell.dirty, row.dirty = told, True, True
                    table.touch()
        part = writing.inside("")
        part.path.pop()
        part.scope = writing.scope
        again = Item(LIST, key=table.key, members=members, field=table.field, dirty=True)
        kind.write(part, again, table.field)
        if len(part.out) != span[1] - span[0]:
            writing.fail(field, "the table changed its size when it was told of the new places")
        writing.out.put(span[0], bytes(part.out))

    def least(self, version: int) -> int:
        return 0

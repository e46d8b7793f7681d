"""Writing a region of parts that lie where others tell: what is put where, and who is told."""

from __future__ import annotations

from math import lcm
from typing import Any, NoReturn

from ..tree import SCALAR
from .derived import unpacked_size
from .item import Field, Item, Scope, Writing

__all__ = ["NOWHERE", "Member", "Region", "Span", "spans_of"]

Span = tuple[int, int]
_MOST_GAP = 1 << 16  # bytes before a region that has to move as a whole
NOWHERE = (0, 0)  # where a part lies that is not there

# A kind, its item and field, and the groups around it.
Member = tuple[Any, Item, Field, "list[Item]"]


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
            item.region is not None and len(kind.parts(item, writing, field)) == len(spans_of(item))
            for kind, item, field, _ in self.members
        )
        gap = self._gap(here, regions[0][0]) if as_read else None
        as_read = gap is not None  # else every part is put where it can be told
        start = regions[0][0] if as_read else here
        stop = max((region[1] for region in regions), default=here) if as_read else here
        tail = bytearray(self.members[0][1].buffer[start:stop]) if as_read else bytearray()
        writing.out += b"\0" * (gap or 0)
        base = len(writing.out)
        shift = base - start
        old = [
            [_moved(span, shift) for span in spans_of(item)] if as_read else []
            for _, item, _, _ in self.members
        ]
        shared = _shared([span for spans in old for span in spans])
        self._waiting = {id(item) for kind, item, _, _ in self.members if kind.is_single}
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
            again = None
            if writing.levels is not None and len(self.members) == 1 and not shared:
                again = self._put_tight(member, spans, tail, base, origin)
            put, tail = again or (self._put(member, spans, shared, tail, base, origin), tail)
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
            writing.spans[id(item)] = put[0] if kind.is_single else (base, reach)

    def _gap(self, here: int, start: int) -> int | None:
        """Return how many bytes go before the region, so that all parts move together; None if none will do.

        What lies before them grew or shrank: they keep their alignment if they can, and can be told of.
        """
        told = []
        for kind, item, _, groups in self.members:
            places = kind.places
            origin = places.origin(Scope(groups), here, 0, self.writing.span)
            there = next((span for span in spans_of(item) if span != NOWHERE), None)
            if there is not None and origin is not None and places.base != "end":
                told.append((there[0] - start - origin, places.unit))
        steps = [kind.places.align for kind, *_ in self.members]
        most = min(lcm(*steps, *(unit for _, unit in told)), _MOST_GAP)
        for wanted in (steps, []):
            for gap in range(most):
                aligned = all((here - start + gap) % step == 0 for step in wanted)
                if aligned and all((begin + here + gap) % unit == 0 for begin, unit in told):
                    return gap
        return None

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
        for number, known in enumerate(parts):
            slot = spans[number] if same else NOWHERE
            if same and (known is None or self._is_as_read(known)):
                out.append(slot)
                continue
            part = known if known is not None else kind.row(item, number)
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

    def _put_tight(
        self, member: Member, spans: list[Span], tail: bytearray, base: int, origin: int
    ) -> tuple[list[Span], bytearray] | None:
        """Place parts that lay one behind another so again; None if they did not, or cannot be told."""
        kind, item, _, _ = member
        parts = kind.parts(item, self.writing, member[2])
        if kind.is_single or len(parts) != len(spans):
            return None
        reach, filler = base, {0}
        for span in spans:
            if span == NOWHERE:
                continue
            filler |= set(tail[reach - base : span[0] - base])
            if span[0] != reach + -reach % kind.places.align or len(filler) > 2:
                return None
            reach = span[1]
        if reach - base != len(tail):
            return None
        fill = bytes((max(filler),))
        new, out = bytearray(), list[Span]()
        for number, (known, span) in enumerate(zip(parts, spans, strict=True)):
            if span == NOWHERE:
                out.append(NOWHERE)
                continue
            if known is None or self._is_as_read(known):
                data = bytes(tail[span[0] - base : span[1] - base])
            else:
                data = self._bytes(member, known, number)
            at = base + len(new)
            at += -at % kind.places.align
            if not _is_tellable(kind.places, at - origin):
                return None
            new += fill * (at - base - len(new)) + data
            out.append((at, at + len(data)))
        return out, new

    def _told_already(self, member: Member, origin: int) -> list[Span]:
        """Return what a table that nobody changed tells of the parts, from where offsets count."""
        kind, item, field, _ = member
        if kind.is_single or kind.places.unpacked or self.writing.changed:
            return []
        if item.region is None or item.region[3] is None:
            return []
        table = Scope(member[3]).find(kind.table)
        spans = spans_of(item)
        if table is None or table.dirty or len(spans) != len(kind.parts(item, self.writing, field)):
            return []
        return [_moved(span, -item.region[3]) for span in spans]

    def _bytes(self, member: Member, part: Item, number: int) -> bytes:
        kind, _, field, groups = member
        if self._is_as_read(part):
            return part.raw
        name = f"{field.name}[{number}]" if not kind.is_single else field.name
        made = self.writing.inside(name)
        made.path.pop()  # a group puts its own name there
        made.scope = Scope(kind.scope(groups, number))
        kept, part.region = part.region, None
        kind.inner.write(made, part, Field(name, kind.inner, field.at))
        part.region = kept
        return bytes(made.finish())

    def _is_as_read(self, part: Item) -> bool:
        return bool(part.start >= 0 and not part.dirty and not self.writing.changed)

    def _tell(self, member: Member, put: list[Span], origin: int) -> None:
        kind, item, field, _ = member
        told = self._told_already(member, origin)
        for number, (part, span) in enumerate(
            zip(kind.parts(item, self.writing, field), put, strict=True)
        ):
            size = None
            if (
                kind.places.base != "end"
                and (span[0] - origin) % kind.places.unit
                and span != NOWHERE
            ):
                self.fail(member, f"a part would lie at {span[0]:,}, which no offset can tell")
            if told and told[number] == _moved(span, -origin):
                continue
            if kind.places.unpacked:
                assert part is not None  # directories of compressed parts are read one by one
                size = self.writing.unpacked.get(id(part), unpacked_size(part))
            kind.tell(self, member, number, kind.places.told(span, size, origin))
        kind.write_told(self, member)


def _place(places: Any, tail: bytearray, base: int, slot: Span, data: bytes, origin: int) -> Span:
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


def _is_tellable(places: Any, distance: int) -> bool:
    """Tell whether an offset can say a distance, and does not say that there is nothing."""
    return bool(distance % places.unit == 0 and distance // places.unit != places.nothing)


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


def spans_of(item: Item) -> list[Span]:
    """Return where the parts of an item were read."""
    spans: list[Span] | None = item.region[2]
    if spans is None:
        spans = list(zip(item.rows.begins.tolist(), item.rows.ends.tolist(), strict=True))
        start, stop, _, origin = item.region
        item.region = start, stop, spans, origin
    return spans

"""Items: the values of a file read through a layout, each with its place in the bytes.

An item that was not touched is written as the bytes it was read from, padding and all; what was
touched is written anew by its kind. A kind of field is a value with `read`, `write` and `least`.
"""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from typing import Any, NoReturn, Protocol

from msgspec import Struct, field

from ...errors import FormatError
from ..document import Path
from ..tree import MAPPING, SCALAR, Node
from .language import Source
from .pieces import Pieces

__all__ = ["Field", "Item", "Kind", "Reading", "Scope", "Writing", "give_paths", "same_or_none"]

_MOST_EXPANDED = 256 << 20  # bytes all blocks of a file may hold
_EXPANSION = 8  # times the file, if that is more: all of it is in memory
_MOST_EMPTY = 1 << 16  # rows of a file that take no bytes


class Item(Node, eq=False):
    """A value and where it was: `start:end` of `buffer`; -1 for what was made."""

    value: Any = None
    buffer: bytes = b""
    start: int = -1
    end: int = -1
    field: Any = None
    dirty: bool = False
    maker: Any = None  # of a table: its kind, whatever the field has around it
    rows: Any = None  # of a table: how its rows lie
    some: dict[int, Any] | None = None  # of a table: the rows somebody looked at
    shape: Any = None  # what else its kind must remember to write it
    region: Any = (
        None  # of parts that lie elsewhere: begin and end of the region, and where each lies
    )
    cases: tuple[Any, ...] = ()  # the kinds by which choices read it
    inside: int = 0  # where the offsets of what is in it count from, in those it is in

    @property
    def raw(self) -> bytes:
        """The bytes it was read from."""
        return self.buffer[self.start : self.end]

    def touch(self) -> None:
        """Have it, and what it lies in, be written anew."""
        node: Item | None = self
        while node is not None:
            node.dirty = True
            node = node.parent


class Kind(Protocol):
    """What a field holds."""

    def read(self, reading: Reading, field: Field) -> Item:
        """Read an item at the place the reading has come to.

        Raises:
            FormatError: the bytes cannot be that.
        """
        ...

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        """Append the bytes of an item that was touched or made.

        Raises:
            FormatError: the value has no place in the field.
        """
        ...

    def least(self, version: int) -> int:
        """Return the fewest bytes it can take."""
        ...


class Field(Struct, frozen=True, eq=False):
    """A line of a layout: name, kind, and when it is there."""

    name: str
    kind: Any
    at: int  # offset in the layout's text
    since: int | None = None
    until: int | None = None
    default: Any = None
    constant: Any = None
    condition: Any = None
    within: Any = None  # a Reference: the table that the value stands for a row of
    derives: Any = None  # a Derived: what the number follows from

    @property
    def is_derived(self) -> bool:
        """Whether it is written from others: a checksum, or a number that follows from them."""
        return self.derives is not None or hasattr(self.kind, "derived")

    @property
    def may_lack(self) -> bool:
        """Whether it needs no default: what is written for it then is that there is nothing."""
        return self.is_derived or getattr(self.kind, "may_lack", False)

    def is_in(self, version: int | None) -> bool:
        """Tell whether a version has this field."""
        if version is None:
            return True
        return (self.since is None or version >= self.since) and (
            self.until is None or version <= self.until
        )


class Scope(Struct, eq=False):
    """The groups around the place that is read, the innermost last, to find other fields in."""

    groups: list[Item] = field(default_factory=list)

    @staticmethod
    def around(item: Item) -> Scope:
        """Return the groups that an item of a document lies in."""
        groups: list[Item] = []
        above = item.parent
        while above is not None:
            if above.kind == MAPPING:
                groups.insert(0, above)
            above = above.parent
        return Scope(groups)

    def find(self, path: str) -> Item | None:
        """Return the item a path means: its first name in the innermost group that has it."""
        first, *rest = path.split(".")
        for group in reversed(self.groups):
            found = _member(group, first)
            for name in rest:
                found = found and _member(found, name)
            if found is not None:
                return found
        return None


class Reading:
    """Where a reading has come to."""

    def __init__(self, data: bytes, layout: Any) -> None:
        self.data = data
        self.at = 0
        self.stop = len(data)  # where what is read now must end: what follows has a fixed size
        self.layout = layout
        self.big = layout.big
        self.version: int | None = layout.low if layout.version_path is None else None
        self.scope = Scope()
        self.budget = [max(_MOST_EXPANDED, len(data) * _EXPANSION)]
        self.empty = [_MOST_EMPTY]  # rows without bytes that may still come
        self.parts = [_MOST_EMPTY + len(data) // 4]  # that are told elsewhere, and may still come
        self.path: list[str] = []
        self.late: list[Any] = []  # checks over ranges that were not read yet
        self.references: list[Any] = []  # checks that need the whole file
        self.base = 0  # where `data` begins in the file, to name places
        self.depth = 0  # of kinds in themselves
        self.region: Any = None  # where parts lie that are told elsewhere, while they are read
        self.tree: Any = None  # the tree that is read, if its nodes were found by columns

    def inside(self, data: bytes, base: int = 0) -> Reading:
        """Return a reading of what a block holds, whose offsets are its own; `base` is its place."""
        inner = Reading.__new__(Reading)
        inner.__dict__.update(self.__dict__)
        inner.data, inner.at, inner.late, inner.base = data, 0, [], base
        inner.stop = len(data)
        inner.path, inner.region, inner.tree = list(self.path), None, None
        return inner

    def finish(self, field: Field, what: str) -> None:
        """Raise if anything of a block was not read; then hold its checksums against it."""
        if self.left:
            self.fail(field, f"{self.left:,} bytes of {what} are not described")
        for late in self.late:
            late(self)

    @property
    def left(self) -> int:
        """How many bytes are left, without those of what must follow."""
        return self.stop - self.at

    def take(self, count: int, field: Field) -> int:
        """Go on by so many bytes; return where they began."""
        start = self.at
        if count > self.stop - start:
            self.fail(field, f"needs {count:,} bytes, but {max(self.stop - start, 0):,} are left")
        self.at = start + count
        return start

    def item(self, field: Field, start: int, value: Any, kind: str = SCALAR) -> Item:
        """Return the item for what was read from `start` to here."""
        return Item(kind, key=field.name, value=value, buffer=self.data, start=start, end=self.at,
                    field=field)  # fmt: skip

    def spend(self, count: int, field: Field) -> None:
        """Account for bytes that a block expands to."""
        self.budget[0] -= count
        if self.budget[0] < 0:
            self.fail(field, "the blocks of the file expand without bound")

    def note_check(self, check: Callable[[], None]) -> None:
        """Note a check that needs the whole file; what it raises is told of the place it was noted at."""
        path = list(self.path)

        def hold() -> None:
            self.path = path
            check()

        self.references.append(hold)

    def note_part(self, field: Field) -> None:
        """Account for a part that is told elsewhere: parts may lie in one another, but not without end."""
        self.parts[0] -= 1
        if self.parts[0] < 0:
            self.fail(field, "there are more parts than a file of its size has")

    def fail(self, field: Field, what: str, at: int | None = None) -> NoReturn:
        """Raise the error for a fault in a field.

        Raises:
            FormatError: always.
        """
        names = ".".join((*self.path, field.name)) if field.name else ".".join(self.path)
        place = self.base + (self.at if at is None else at)
        source: Source = self.layout.source
        raise FormatError(what, where=f"byte {place} ({names or 'the file'})",
                          remedy=f"By the layout {source.name}:\n{source.show(field.at)}")  # fmt: skip


class Writing:
    """Bytes that are put together."""

    def __init__(self, layout: Any, version: int) -> None:
        self.out = Pieces()
        self.layout = layout
        self.big = layout.big
        self.version = version
        self.scope = Scope()
        self.path: list[str] = []
        self.fills: list[Any] = []  # numbers that follow from what is written
        self.checks: list[Any] = []
        self.spans: dict[int, tuple[int, int]] = {}  # of items, by identity, for checks
        self.derived: dict[int, bool] = {}  # by kind, by identity: whether it holds what is derived
        self.copied: set[int] = set()  # of those items, which were written as they were read
        self.changed = False  # another version is written than was read
        self.told: dict[int, int] = {}  # what fields were told of the size of others
        self.region: Any = (
            None  # where parts go that are told elsewhere, until what follows is written
        )
        self.outer: Writing | None = None
        self.depth = 0  # of kinds in themselves
        self.unpacked: dict[int, int] = {}  # bytes in blocks, by identity of their items
        # Parts that lay one behind another do so again, and blocks are compressed as they were: by method.
        self.levels: dict[str, int] | None = None

    def inside(self, name: str) -> Writing:
        """Return a writing of what a block holds."""
        inner = Writing(self.layout, self.version)
        inner.scope, inner.path = self.scope, [*self.path, name]
        inner.changed, inner.derived = self.changed, self.derived
        inner.unpacked, inner.depth = self.unpacked, self.depth
        inner.told, inner.outer, inner.levels = self.told, self, self.levels
        return inner

    def span(self, item: Item) -> tuple[int, int] | None:
        """Return where an item was written; in what was copied, things lie as they were read."""
        node: Item | None = item
        while node is not None:
            span = self.spans.get(id(node))
            if span is not None:
                if node is item:
                    return span
                start = span[0] - node.start
                inside = id(node) in self.copied and node.buffer is item.buffer
                return (start + item.start, start + item.end) if inside else None
            node = node.parent
        return None

    def holder(self, item: Item) -> Writing | None:
        """Return the writing in which an item was written, this one or one around it."""
        writing: Writing | None = self
        while writing is not None and writing.span(item) is None:
            writing = writing.outer
        return writing

    def close_region(self) -> None:
        """Write the parts that are told elsewhere, if there are any."""
        region, self.region = self.region, None
        if region is not None:
            region.close()

    def finish(self) -> Pieces:
        """Fill in what follows from the rest, then the checksums, and return what was written."""
        self.close_region()
        for fill in (*self.fills, *self.checks):
            fill(self)
        return self.out

    def fail(self, field: Field, what: str) -> NoReturn:
        """Raise the error for a value that cannot be written.

        Raises:
            FormatError: always.
        """
        names = ".".join((*self.path, field.name))
        source: Source = self.layout.source
        raise FormatError(what, where=names or "the file",
                          remedy=f"By the layout {source.name}:\n{source.show(field.at)}")  # fmt: skip


def give_paths(item: Item, path: Path) -> None:
    """Give items that were read at once the paths they were read under."""
    stack = [(item, path)]
    while stack:
        node, at = stack.pop()
        node.origin = at
        node.was_leaf = node.kind == SCALAR or node.members == []
        for number, member in enumerate(node.members or ()):
            member.parent, member.at = node, number
            stack.append((member, (*at, number if member.key is None else member.key)))


def _member(item: Item, name: str) -> Item | None:
    if item.kind != MAPPING or item.members is None:
        return None
    return next((member for member in item.members if member.key == name), None)


def same_or_none(value: Any, wanted: Any) -> bool:
    """Tell whether a value is the one a constant asks for."""
    if isinstance(wanted, float) or isinstance(value, (float, Decimal)):
        return Decimal(str(value)) == Decimal(str(wanted))
    return bool(value == wanted)

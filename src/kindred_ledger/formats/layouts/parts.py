"""Kinds of fields that hold other fields: groups, optional parts, choices, sections, blocks."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any

from msgspec import Struct

from ...errors import FormatError
from ..expressions import Expression
from ..tree import LIST, MAPPING, SCALAR
from .derived import fill_in, hold, holds
from .item import Field, Item, Reading, Writing
from .many import BEYOND, Many, Unmeasured, beyond_unless
from .references import note_value
from .squeeze import USUAL_LEVEL, expand, level_of, squeeze
from .strings import Pad, Size
from .trees import element_of, find_tree

__all__ = ["Block", "Choice", "Condition", "Group", "Named", "Optional", "Sections", "write_item"]


class Condition(Struct, frozen=True):
    """`if PATH`, `if PATH == VALUE`, `if (EXPRESSION)`: whether a field is there, by those before it."""

    path: str
    sign: str = ""
    value: Any = None
    expression: Expression | None = None

    def holds(self, scope: Any) -> bool:
        """Tell whether it holds; a path to nothing is false."""
        if self.expression is not None:
            return holds(self.expression, scope)
        value = _tag(scope, self.path)
        if not self.sign:
            return bool(value)
        if self.sign in ("==", "!="):
            return bool(value == self.value) == (self.sign == "==")
        if not isinstance(value, (int, float)) or not isinstance(self.value, (int, float)):
            return False
        return bool(_ORDERS[self.sign](value, self.value))

    def ends(self, many: Many, kind: Any, at: Any) -> Any:
        """Return where things of a kind end that are there if this holds; see `Many`."""
        import numpy as np

        if self.expression is not None or self.sign not in ("==", "!="):
            raise Unmeasured
        (held,) = many.matching(self.path, (self.value,))
        there = held if self.sign == "==" else ~held
        out = at.copy()
        if there.any():
            out[there] = many.some(kind, at, np.flatnonzero(there))
        return out


_DEEPEST_TREE = 60  # each level takes a handful of Python's frames, of which there are 1,000
_ORDERS: dict[str, Callable[[Any, Any], bool]] = {
    "<": lambda a, b: a < b, "<=": lambda a, b: a <= b,
    ">": lambda a, b: a > b, ">=": lambda a, b: a >= b,
}  # fmt: skip


def _tag(scope: Any, path: str) -> Any:
    """Return what a field says that others hang on; bytes as the text that a layout writes for them."""
    found = scope.find(path)
    value = found.value if found is not None else None
    return value.decode("latin-1") if isinstance(value, bytes) else value


class Group(Struct, frozen=True):
    """`{ ... }`: fields one after another."""

    fields: tuple[Field, ...]

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.at
        item = Item(
            MAPPING, key=field.name, members=[], buffer=reading.data, start=start, field=field
        )
        item.shape = []  # all items in order, padding too
        layout = reading.layout
        reading.scope.groups.append(item)
        if field.name:
            reading.path.append(field.name)
        for inner in self.fields:
            if reading.version is None and (inner.since is not None or inner.until is not None):
                reading.fail(inner, "it depends on the version, which was not read yet")
            if not inner.is_in(reading.version):
                continue
            if inner.condition is not None and not inner.condition.holds(reading.scope):
                continue
            stop = reading.stop
            if id(inner) in layout.reserved:
                behind = layout.reserved_size(inner, reading.version) or 0
                reading.stop = max(reading.at, min(stop, len(reading.data) - behind))
            read = inner.kind.read(reading, inner)
            reading.stop = stop
            read.parent = item
            item.shape.append(read)
            if inner.name:
                item.members.append(read)  # type: ignore[union-attr]
                if layout.version_path and not reading.version:
                    layout.note_version(reading, inner, read)
                if inner.within is not None and read.kind == SCALAR:
                    note_value(reading, inner, read)
                if inner.derives is not None:
                    hold(reading, inner, read)
        if field.name:
            reading.path.pop()
        reading.scope.groups.pop()
        item.end = reading.at
        return item

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        if item.kind != MAPPING:
            writing.fail(field, "a group of fields is needed here")
        members = {member.key: member for member in item.members or ()}
        placed = {id(each.field): each for each in item.shape or () if not each.key}
        writing.scope.groups.append(item)
        if field.name:
            writing.path.append(field.name)
        for inner in self.fields:
            if not inner.is_in(writing.version):
                continue
            if inner.condition is not None and not inner.condition.holds(writing.scope):
                continue
            member = members.pop(inner.name, None) if inner.name else placed.get(id(inner))
            if member is None:
                member = Item(SCALAR, key=inner.name, value=None, dirty=True, parent=item)
                if inner.name:
                    value = inner.default
                    if value is None:
                        value = inner.constant
                    if value is None and not inner.may_lack:
                        writing.fail(
                            inner, f"there is no {inner.name!r}, and the layout has no default"
                        )
                    if isinstance(value, list):
                        member.kind, member.members = LIST, _scalars(value, member)
                    elif isinstance(value, dict):
                        member.kind, member.members = MAPPING, _scalars([*value.values()], member)
                        for key, part in zip(value, member.members, strict=True):
                            part.key = key
                    else:
                        member.value = value
                    if item.members is not None:  # from now on the document has it
                        member.at = len(item.members)
                        item.members.append(member)
            if not hasattr(inner.kind, "follows"):
                writing.close_region()
            write_item(writing, member, inner)
        writing.close_region()
        for key in members:
            version = writing.version
            writing.fail(field, f"{key!r} has no place in version {version} of the layout")
        if field.name:
            writing.path.pop()
        writing.scope.groups.pop()

    def ends(self, many: Many, at: Any) -> Any:
        many.begin_group()
        for field in self.fields:
            if not field.is_in(many.version):
                continue
            kind = field.kind
            if field.within is not None or field.is_derived or id(field) in many.layout.reserved:
                raise Unmeasured
            condition = field.condition
            if field.name:
                many.note(field.name, None if condition else kind, at)
            if condition is not None and field.constant is not None:
                raise Unmeasured
            ends = many.ends(kind, at) if condition is None else condition.ends(many, kind, at)
            at = ends if field.constant is None else many.constant(field, at, ends)
        many.end_group()
        return at

    def least(self, version: int) -> int:
        return sum(
            f.kind.least(version) for f in self.fields if f.is_in(version) and not f.condition
        )


def _scalars(values: list[Any], parent: Item) -> list[Item]:
    return [
        Item(SCALAR, value=value, parent=parent, at=at, dirty=True)
        for at, value in enumerate(values)
    ]


class Optional(Struct, frozen=True):
    """`optional u8 { ... }`: a number that tells whether the rest is there."""

    number: Any
    inner: Any

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.at
        told = Size(prefix=self.number).read(reading, field)
        if told > 1:
            reading.fail(field, f"{told} is neither 0 nor 1", start)
        if not told:
            return reading.item(field, start, None)
        item: Item = self.inner.read(reading, field)
        item.shape = (start, item.shape)
        item.start = start
        return item

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        there = item.kind != SCALAR or item.value is not None
        Size(prefix=self.number).write(int(there), writing, field)
        if there:
            kept = item.shape
            if isinstance(kept, tuple):
                item.shape = kept[1]
            self.inner.write(writing, item, field)
            item.shape = kept

    def ends(self, many: Many, at: Any) -> Any:
        import numpy as np

        told, behind = many.whole(self.number, at)
        out = beyond_unless((told == 0) | (told == 1), behind)
        there = np.flatnonzero(told == 1)
        if len(there):
            out[there] = many.some(self.inner, behind, there)
        return out

    def least(self, version: int) -> int:
        return int(self.number.least(version))


class Choice(Struct, frozen=True):
    """`choice PATH { 1 { ... } 2 u16 else bytes to end }`: what is there depends on a tag."""

    path: str
    cases: dict[Any, Any]
    otherwise: Any

    @property
    def kinds(self) -> list[Any]:
        """All kinds that can be there."""
        return [*self.cases.values(), *([self.otherwise] if self.otherwise is not None else [])]

    def chosen(self, scope: Any) -> tuple[Any, Any]:
        """Return the tag, and the kind that is there by it; None if the layout has no case for it."""
        tag = _tag(scope, self.path)
        return tag, self.cases.get(tag, self.otherwise)

    def read(self, reading: Reading, field: Field) -> Item:
        tag, kind = self.chosen(reading.scope)
        if kind is None:
            reading.fail(field, f"{self.path} is {tag!r}, for which the layout has no case")
        item: Item = kind.read(reading, field)
        item.cases = (*item.cases, kind)
        return item

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        tag, kind = self.chosen(writing.scope)
        if kind is None:
            writing.fail(field, f"{self.path} is {tag!r}, for which the layout has no case")
        kind.write(writing, item, field)

    def ends(self, many: Many, at: Any) -> Any:
        import numpy as np

        out = np.full(len(at), BEYOND)
        left = np.ones(len(at), np.bool_)
        matching = many.matching(self.path, self.cases)
        for kind, fits in zip(self.cases.values(), matching, strict=True):
            chosen = np.flatnonzero(fits)  # a value fits one case only
            if len(chosen):
                out[chosen] = many.some(kind, at, chosen)
                left &= ~fits
        if self.otherwise is not None and left.any():
            chosen = np.flatnonzero(left)
            out[chosen] = many.some(self.otherwise, at, chosen)
        return out

    def least(self, version: int) -> int:
        return min((kind.least(version) for kind in self.kinds), default=0)


class Sections(Struct, frozen=True):
    """`sections TAG LENGTH COUNT { "CREW" crew { ... } }`: parts with a tag, in any order.

    A part whose tag the layout does not have is carried as it is.
    """

    tag: Any
    length: Any
    count: Size
    cases: dict[Any, tuple[str, Any, int]]  # tag: name, kind, offset in the layout

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.at
        item = Item(
            MAPPING, key=field.name, members=[], buffer=reading.data, start=start, field=field
        )
        item.shape = []
        count = self.count.read(reading, field)
        reading.scope.groups.append(item)
        reading.path.append(field.name)
        names: dict[str, int] = {}
        while reading.left if count < 0 else len(item.shape) < count:
            begin = reading.at
            tag_field = Field("tag", self.tag, field.at)
            tag = self.tag.read(reading, tag_field).value
            length = Size(prefix=self.length).read(reading, field)
            body = reading.take(length, field)
            name, kind, at = self.cases.get(tag, (f"unknown {tag}", None, field.at))
            inner = Field(name, kind, at)
            if kind is None:
                part = Item(SCALAR, value=reading.data[body : reading.at])
            else:
                within = reading.inside(reading.data[body : reading.at], reading.base + body)
                part = kind.read(within, inner)
                within.finish(inner, "the section")
                part.inside = body
            names[name] = number = names.get(name, 0) + 1
            part.key = name if number == 1 else f"{name} {number}"
            part.parent, part.buffer = item, reading.data
            part.shape = (tag, kind, part.shape)
            part.cases = (*part.cases, kind)
            part.start, part.end = begin, reading.at
            item.shape.append(part)
            item.members.append(part)  # type: ignore[union-attr]
        reading.path.pop()
        reading.scope.groups.pop()
        item.end = reading.at
        return item

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        members = list(item.members or ())
        self.count.write(len(members), writing, field)
        writing.scope.groups.append(item)
        tags = {name: (tag, kind, at) for tag, (name, kind, at) in self.cases.items()}
        for member in members:
            unknown = isinstance(member.shape, tuple) and member.shape[1] is None
            if not member.dirty and member.start >= 0 and (unknown or not writing.changed):
                writing.out += member.raw
                continue
            name = str(member.key)
            kept = member.shape
            if isinstance(kept, tuple):
                tag, kind, member.shape = kept
            elif name in tags:
                tag, kind, _ = tags[name]
            else:
                writing.fail(field, f"the layout has no section {name!r}")
            part = writing.inside(field.name)
            inner = Field(name, kind, field.at)
            if kind is None:
                part.out += member.value
            else:
                kind.write(part, member, inner)
            member.shape = kept
            data = bytes(part.finish())
            self.tag.write(writing, Item(SCALAR, value=tag), Field("tag", self.tag, field.at))
            Size(prefix=self.length).write(len(data), writing, field)
            writing.out += data
        writing.scope.groups.pop()

    def least(self, version: int) -> int:
        return self.count.least(version)


class Block(Struct, frozen=True):
    """`block SIZE METHOD { ... }`: bytes of their own, compressed or not; offsets in it are its own."""

    size: Size
    methods: tuple[str, ...]  # how it is kept, the outermost first
    inner: Any

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.at
        count = self.size.read(reading, field)
        body = reading.take(reading.left if count < 0 else count, field)
        stored = reading.data[body : reading.at]
        data = stored
        for method in self.methods:
            try:
                data = expand(method, data, most=reading.budget[0])
            except FormatError as error:
                reading.fail(field, error.what, body)
        reading.spend(len(data), field)
        within = reading.inside(data, 0 if self.methods else reading.base + body)
        item: Item = self.inner.read(within, field)
        within.finish(field, "the block")
        item.shape = (data, stored, item.shape)
        item.buffer, item.start, item.end = reading.data, start, reading.at
        return item

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        part = writing.inside(field.name)
        part.path.pop()
        start, shape = item.start, item.shape
        before, kept, inner = shape if isinstance(shape, tuple) else (None, b"", shape)
        item.start, item.shape = -1, inner
        self.inner.write(part, item, field)
        item.start, item.shape = start, shape
        stored = data = bytes(part.finish())
        if data == before:  # as somebody else has compressed it
            stored = kept
        else:
            for method in reversed(self.methods):
                level = _level(writing, self.methods, before, kept)
                stored = squeeze(method, stored, level)
        writing.unpacked[id(item)] = len(data)
        self.size.write(len(stored), writing, field)
        writing.out += stored

    def least(self, version: int) -> int:
        return self.size.fixed or self.size.least(version)


def _level(writing: Writing, methods: tuple[str, ...], before: bytes | None, kept: bytes) -> int:
    """Return how hard to compress: as the first block of the file was, where that is asked for."""
    if writing.levels is None or before is None or len(methods) != 1:
        return USUAL_LEVEL
    if methods[0] not in writing.levels:
        writing.levels[methods[0]] = level_of(methods[0], before, kept)
    return writing.levels[methods[0]]


class Named(Struct, eq=False, dict=True):
    """A kind that holds itself: a tree. It is known by its name."""

    name: str
    kind: Any = None
    is_used: bool = False  # within itself
    is_measured: bool = False  # while its least size is looked for

    @cached_property
    def element(self) -> Any:
        """What all its tables hold, if its nodes lie one behind another; else None."""
        return element_of(self)

    def read(self, reading: Reading, field: Field) -> Item:
        reading.depth += 1
        if reading.depth > _DEEPEST_TREE:
            reading.fail(field, f"{self.name} lies in itself more than {_DEEPEST_TREE} times")
        outermost = reading.depth == 1 and reading.tree is None and self.is_used
        if outermost and self.element is not None:
            reading.tree = find_tree(self.kind, self.element, reading, deepest=_DEEPEST_TREE)
        item: Item = self.kind.read(reading, field)
        if outermost:
            reading.tree = None
        reading.depth -= 1
        return item

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        writing.depth += 1
        if writing.depth > _DEEPEST_TREE:
            writing.fail(field, f"{self.name} lies in itself more than {_DEEPEST_TREE} times")
        self.kind.write(writing, item, field)
        writing.depth -= 1

    def ends(self, many: Many, at: Any) -> Any:
        if many.element is None and self in many.inside:
            raise Unmeasured  # how deep it goes is not known
        many.inside.append(self)
        ends = many.ends(self.kind, at)
        many.inside.pop()
        return ends

    def least(self, version: int) -> int:
        if self.is_measured:
            return 0
        self.is_measured = True
        least = int(self.kind.least(version))
        self.is_measured = False
        return least


def write_item(writing: Writing, item: Item, field: Field) -> None:
    """Append an item: as it was read, or anew if it was touched."""
    start = len(writing.out)
    as_read = item.start >= 0 and not item.dirty
    if isinstance(field.kind, Pad) and field.kind.align:
        as_read &= item.start == start  # else other bytes are needed to fill up
    elif writing.changed and (item.kind != SCALAR or item.rows is not None):
        as_read = False  # what is in it may be another thing in this version
    elif writing.changed and item.field is not None and item.field.kind != field.kind:
        as_read = False  # the field is of another kind in this version
    elif field.derives is not None or _derives(field.kind, writing.derived):
        as_read = False
    if as_read:
        size = getattr(field.kind, "size", None) or getattr(field.kind, "count", None)
        if isinstance(size, Size) and (size.path or size.expression):
            size.write(_count(item), writing, field)
        writing.out += item.raw
        writing.copied.add(id(item))
    else:
        if field.derives is not None:
            item.value = item.value if isinstance(item.value, int) else 0  # until it is filled in
            fill_in(writing, field, item, start)
        field.kind.write(writing, item, field)
    if field.name:
        writing.spans[id(item)] = (start, len(writing.out))


def _derives(kind: Any, known: dict[int, bool]) -> bool:
    """Tell whether a kind is, or holds, what is made of other bytes: checksums, directories."""
    if id(kind) not in known:
        known[id(kind)] = False
        fields = kind.fields if isinstance(kind, Group) else ()
        inner = [field.kind for field in fields]
        inner += [kind.inner] if getattr(kind, "inner", None) is not None else []
        if isinstance(kind, Choice):
            inner += kind.kinds
        if isinstance(kind, Sections):
            inner += [case[1] for case in kind.cases.values()]
        inner += [kind.kind] if isinstance(kind, Named) else []
        made = hasattr(kind, "follows") or hasattr(kind, "derived")
        made = made or any(field.derives is not None for field in fields)
        known[id(kind)] = made or any(_derives(each, known) for each in inner)
    return known[id(kind)]


def _count(item: Item) -> int:
    """Return how many rows or bytes an item has that was not touched."""
    if isinstance(item.shape, int):  # runs
        return item.shape
    if item.rows is not None:
        return int(item.rows.count)
    return len(item.members) if item.members is not None else item.end - item.start

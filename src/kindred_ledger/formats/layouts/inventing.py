"""Inventing: files as a layout allows them, with made-up values, in any of its versions.

What is invented reads by the layout. It shows what no sample does: every case of a choice, empty
tables, numbers at both ends of their range.
"""

from __future__ import annotations

import random
from decimal import Decimal
from typing import Any
from uuid import UUID

from ...errors import FormatError
from ..tree import LIST, MAPPING, SCALAR
from .arrays import Packed, Runs
from .derived import computed_number
from .directory import At, Each
from .item import Field, Item, Scope, Writing
from .layout import Layout
from .meanings import Colour, Fixed, Time, Uuid
from .numbers import Bits, Enum, Float, Integer, Varint
from .parts import Block, Choice, Group, Named, Optional, Sections
from .pools import Pooled, intern
from .rows import Table
from .strings import Bytes, Pad, Size, Text

__all__ = ["invent"]

_WORDS = ("reed", "peat", "moss", "tern", "eel", "haar", "quay", "bog")
_DEEP, _DEEPEST = 3, 20  # where a tree stops to grow; where one that cannot stop is given up
_SHARE_OF_ENDS = 0.1  # numbers that are the least or the most of their kind


def invent(layout: Layout, version: int, rng: random.Random) -> bytes:
    """Return a file of a version of a layout.

    Raises:
        FormatError: the layout cannot be written, such as a size that nothing tells.
    """
    inventor = _Inventor(layout, version, rng)
    root = inventor.group(layout.root, Field("", layout.root, 0))
    intern(root, version)
    writing = Writing(layout, version)
    layout.root.write(writing, root, Field("", layout.root, 0))
    return b"".join(writing.finish())


class _Inventor:
    def __init__(self, layout: Layout, version: int, rng: random.Random) -> None:
        self._layout = layout
        self._version = version
        self._rng = rng
        self._scope = Scope()
        self._tags: dict[str, list[Any]] = {}  # by path: what choices hang on
        self._sizes: set[str] = set()  # fields that tell the sizes of others
        self._pools: set[str] = set()  # fields that texts lie in
        self._targets: set[str] = set()  # columns and tables that are referred to
        self._small: set[str] = set()  # fields that sizes are computed from
        self._named: set[int] = set()  # kinds with names that were looked into
        self._depth = 0  # of kinds in themselves
        self._collect(layout.root)

    def _collect(self, kind: Any) -> None:
        """Look for the fields whose values other fields hang on."""
        for name in ("count", "size"):
            size = getattr(kind, name, None)
            if isinstance(size, Size) and size.path:
                self._sizes.add(size.path)
            if isinstance(size, Size) and size.expression is not None:
                self._small |= {str(name[-1]) for name in size.expression.names}
        if isinstance(kind, Pooled):
            self._pools.add(kind.pool.rpartition(".")[2])
        if isinstance(kind, Named) and id(kind) not in self._named:
            self._named.add(id(kind))
            self._collect(kind.kind)
        if isinstance(kind, Choice):
            self._tags.setdefault(kind.path, []).extend(kind.cases)
            for inner in kind.kinds:
                self._collect(inner)
        if isinstance(kind, Sections):
            for _, inner, _ in kind.cases.values():
                self._collect(inner)
        if isinstance(kind, Group):
            for field in kind.fields:
                if field.within is not None:
                    self._targets |= {
                        field.within.table,
                        f"{field.within.table}.{field.within.column}",
                    }
                self._collect(field.kind)
        elif hasattr(kind, "inner"):
            self._collect(kind.inner)

    def group(self, kind: Group, field: Field) -> Item:
        """Return a group whose members are there as their versions and conditions say."""
        item = Item(MAPPING, key=field.name, members=[], dirty=True, field=field)
        self._scope.groups.append(item)
        for inner in kind.fields:
            if not inner.is_in(self._version) or not inner.name:
                continue
            if inner.condition is not None and not inner.condition.holds(self._scope):
                continue
            member = self.item(inner.kind, inner)
            member.key, member.parent = inner.name, item
            item.members.append(member)  # type: ignore[union-attr]
        self._scope.groups.pop()
        return item

    def item(self, kind: Any, field: Field) -> Item:
        """Return an item of a kind."""
        if isinstance(kind, Group):
            return self.group(kind, field)
        if isinstance(kind, Table):
            return self._table(kind, field)
        if isinstance(kind, Each):
            return self._each(kind, field)
        if isinstance(kind, At):
            there = kind.places.nothing is None or self._rng.random() < 0.8
            return self.item(kind.inner, field) if there else self._made(None, field)
        if isinstance(kind, Block):
            return self.item(kind.inner, field)
        if isinstance(kind, Named):
            return self._in_itself(kind, field)
        if isinstance(kind, (Packed, Runs)):
            return self._numbers(kind, field)
        if isinstance(kind, Optional):
            return (
                self.item(kind.inner, field)
                if self._rng.random() < 0.7 and self._depth < _DEEP
                else self._made(None, field)
            )
        if isinstance(kind, Choice):
            return self.item(kind.chosen(self._scope)[1], field)
        if isinstance(kind, Sections):
            return self._sections(kind, field)
        if isinstance(kind, Bits):
            item = Item(MAPPING, key=field.name, members=[], dirty=True, field=field)
            for name, _, count in kind.parts:
                number = self._rng.randrange(1 << count)
                part = Item(SCALAR, key=name, value=bool(number) if kind.logical else number)
                part.parent = item
                item.members.append(part)  # type: ignore[union-attr]
            return item
        return self._made(self._value(kind, field), field)

    def _made(self, value: Any, field: Field) -> Item:
        return Item(SCALAR, key=field.name, value=value, dirty=True, field=field)

    def _in_itself(self, kind: Named, field: Field) -> Item:
        self._depth += 1
        if self._depth > _DEEPEST:
            raise FormatError(f"{kind.name} lies in itself without end", where=field.name)
        made = self.item(kind.kind, field)
        self._depth -= 1
        return made

    def _numbers(self, kind: Packed | Runs, field: Field) -> Item:
        bits = kind.bits if isinstance(kind, Packed) else kind.value.width * 8 - kind.value.signed
        count = self._counted(kind.size) if isinstance(kind, Packed) else self._rng.randrange(9)
        if isinstance(kind, Packed) and kind.size.to_end:
            count -= count % 8  # the bits that fill up the last byte would be more of them
        item = Item(LIST, key=field.name, members=[], dirty=True, field=field)
        for _ in range(count):
            made = self._made(self._rng.randrange(1 << self._rng.randrange(bits + 1)), field)
            made.key, made.parent = None, item
            item.members.append(made)  # type: ignore[union-attr]
        return item

    def _counted(self, size: Size) -> int:
        """Return how many of something there shall be."""
        if size.expression is not None:
            return computed_number(size.expression, self._scope) or 0
        if size.fixed is not None:
            return size.fixed
        return self._rng.randrange(5) if self._depth < _DEEP else 0

    def _table(self, kind: Table, field: Field) -> Item:
        item = Item(LIST, key=field.name, members=[], dirty=True, field=field, maker=kind)
        most = self._counted(kind.count)
        if (
            kind.count.fixed is None
            and kind.count.expression is None
            and field.name in self._targets
        ):
            most = max(most, 1)
        for row in range(most):
            inner = Field(f"{field.name}[{row}]", kind.inner, field.at, within=field.within)
            made = self.item(kind.inner, inner)
            made.key, made.parent, made.at = None, item, row
            for cell in made.members or ():
                if f"{field.name}.{cell.key}" in self._targets and isinstance(cell.value, int):
                    cell.value = row
            item.members.append(made)  # type: ignore[union-attr]
        return item

    def _each(self, kind: Each, field: Field) -> Item:
        item = Item(LIST, key=field.name, members=[], dirty=True, field=field)
        table = self._scope.find(kind.table)
        for row in range(len(table.members or ()) if table is not None else 0):
            inner = Field(f"{field.name}[{row}]", kind.inner, field.at)
            there = kind.places.nothing is None or self._rng.random() < 0.8
            self._scope.groups.append(table.members[row])  # type: ignore[union-attr,index]
            made = self.item(kind.inner, inner) if there else self._made(None, inner)
            self._scope.groups.pop()
            made.key, made.parent, made.at = None, item, row
            item.members.append(made)  # type: ignore[union-attr]
        return item

    def _sections(self, kind: Sections, field: Field) -> Item:
        item = Item(MAPPING, key=field.name, members=[], dirty=True, field=field)
        cases = list(kind.cases.values())
        count = kind.count.fixed
        known = self._rng.randint(0, len(cases)) if count is None else min(count, len(cases))
        chosen = self._rng.sample(cases, known)
        for number in range(count - known if count is not None else self._rng.randrange(2)):
            item.members.append(self._unknown(kind, item, number))  # type: ignore[union-attr]
        self._scope.groups.append(item)
        for name, inner, at in chosen:
            member = self.item(inner, Field(name, inner, at))
            member.key, member.parent = name, item
            item.members.append(member)  # type: ignore[union-attr]
        self._scope.groups.pop()
        return item

    def _unknown(self, kind: Sections, item: Item, number: int) -> Item:
        """Return a section that the layout does not know."""
        tag: Any = 0x70 + number
        if isinstance(kind.tag, (Bytes, Text)):
            word = f"?{number}".ljust(kind.tag.size.fixed or 2, "?")[: kind.tag.size.fixed]
            tag = word if isinstance(kind.tag, Text) else word.encode()
        part = self._made(bytes(self._rng.randrange(4)), Field("", None, 0))
        part.key, part.parent, part.shape = f"unknown {tag}", item, (tag, None, None)
        return part

    def _value(self, kind: Any, field: Field) -> Any:
        """Return a value of a single field."""
        rng = self._rng
        path = self._layout.version_path or ()
        if path[-1:] == (field.name,) and len(self._scope.groups) == len(path):
            return self._version
        if field.constant is not None:
            return field.constant
        if field.name in self._tags:
            tag = rng.choice([tag for tag in self._tags[field.name] if tag != "else"])
            return (
                tag.encode("latin-1") if isinstance(kind, Bytes) and isinstance(tag, str) else tag
            )
        if field.within is not None:
            return 0
        if field.name in self._sizes or field.derives is not None:
            return 0  # it is told what to be
        if field.name in self._pools:
            return b""
        if field.name in self._small:
            return rng.randrange(5)
        if isinstance(kind, (Integer, Varint)):
            return self._whole(kind)
        if isinstance(kind, Float):
            return Decimal(rng.randrange(-400, 400)) / 4
        if isinstance(kind, Enum):
            return rng.choice(list(kind.names.values()))
        if isinstance(kind, Text):
            return self._text(kind)
        if isinstance(kind, Pooled):
            return " ".join(rng.choices(_WORDS, k=rng.randrange(3)))
        if isinstance(kind, (Colour, Fixed, Time, Uuid)):
            return self._meant(kind)
        if isinstance(kind, Bytes):
            count = kind.size.fixed
            if kind.size.expression is not None:
                count = self._counted(kind.size)
            size = count if count is not None else rng.randrange(6)
            return bytes(rng.choices(range(1, 10), k=size)).replace(
                kind.size.terminator or b"\0\0\0", b""
            )
        return 0 if not isinstance(kind, Pad) else None

    def _meant(self, kind: Colour | Fixed | Time | Uuid) -> Any:
        if isinstance(kind, Colour):
            return f"#{self._rng.randbytes(len(kind.order)).hex()}"
        if isinstance(kind, Uuid):
            return str(UUID(bytes=self._rng.randbytes(16)))
        return kind.shown(self._whole(kind.number))

    def _whole(self, kind: Any) -> Any:
        if isinstance(kind, Varint):
            return self._rng.randrange(1 << self._rng.randrange(1, 40))
        if kind.logical:
            return self._rng.random() < 0.5
        low = -(1 << kind.width * 8 - 1) if kind.signed else 0
        high = (1 << kind.width * 8 - int(kind.signed)) - 1
        if self._rng.random() < _SHARE_OF_ENDS:
            return self._rng.choice((low, high))
        return self._rng.randrange(max(low, -100), min(high, 1000) + 1)

    def _text(self, kind: Text) -> str:
        text = " ".join(self._rng.choices(_WORDS, k=self._rng.randrange(3)))
        if kind.size.fixed is not None:
            text = text[: kind.size.fixed // (2 if "16" in kind.encoding else 1)]
        return text.rstrip()

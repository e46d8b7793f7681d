"""Texts in a pool: a field holds where its text begins among zero-ended texts that lie elsewhere in the file.

The value is the text. A text that is put and is not in the pool yet goes behind the others; no text is taken
out, as others may begin in its middle.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import Struct

from ..tree import LIST
from .item import Field, Item, Reading, Scope, Writing
from .numbers import Integer

__all__ = ["Pooled", "intern"]


class Pooled(Struct, frozen=True):
    """`pooled u32 of POOL or N`: the offset of a text in the bytes of another field; N: there is none."""

    number: Integer
    pool: str
    encoding: str = "utf-8"
    nothing: int | None = None

    def read(self, reading: Reading, field: Field) -> Item:
        start = reading.take(self.number.width, field)
        offset = self.number.number(reading.data, start, reading.big)
        item = reading.item(field, start, None)
        item.shape = offset
        if offset == self.nothing:
            return item
        groups = list(reading.scope.groups)

        def fill() -> None:
            found = Scope(groups).find(self.pool)
            text = self.text(found.value, offset) if found is not None else None
            if text is None:
                reading.fail(field, f"there is no text at {offset:,} of {self.pool}", start)
            item.value = text

        if reading.scope.find(self.pool) is not None:
            fill()
        else:  # it lies behind
            reading.references.append(fill)
        return item

    def text(self, pool: Any, offset: int) -> str | None:
        """Return the text that begins at an offset of a pool; None if there is none."""
        if not isinstance(pool, bytes) or not 0 <= offset < len(pool):
            return None
        end = pool.find(b"\0", offset)
        try:
            return pool[offset:end].decode(self.encoding, "surrogateescape") if end >= 0 else None
        except UnicodeDecodeError:
            return None

    def packed(self, text: str) -> bytes:
        """Return a text as it lies in a pool."""
        return text.encode(self.encoding, "surrogateescape") + b"\0"

    def write(self, writing: Writing, item: Item, field: Field) -> None:
        if item.value is None and self.nothing is not None:
            writing.out += self.number.pack(self.nothing, writing, field)
            return
        found = writing.scope.find(self.pool) or Scope.around(item).find(self.pool)
        pool = found.value if found is not None else None
        if not isinstance(item.value, str) or "\0" in item.value:
            writing.fail(field, f"{item.value!r} is no text without zeros")
        offset = item.shape if isinstance(item.shape, int) else -1
        if self.text(pool, offset) != item.value:
            offset = pool.find(self.packed(item.value)) if isinstance(pool, bytes) else -1
        if offset < 0 or offset == self.nothing:
            writing.fail(field, f"{item.value!r} is not in {self.pool}, and could not be put there")
        item.shape = offset
        writing.out += self.number.pack(offset, writing, field)

    def least(self, version: int) -> int:
        return self.number.width

    def dtype(self, big: bool) -> str | None:
        return f"V{self.number.width}"


def intern(root: Item) -> None:
    """Put the texts that were given to fields into their pools, before any of them is written."""
    for item in list(_edited(root)):
        kind = item.field.kind
        found = Scope.around(item).find(kind.pool)
        if found is None or not isinstance(found.value, bytes) or not isinstance(item.value, str):
            continue  # told when it is written
        packed = kind.packed(item.value)
        at = found.value.find(packed)
        if at < 0 or at == kind.nothing:
            padding = b"\0" if len(found.value) == kind.nothing else b""
            found.value += padding + packed
            found.touch()


def _edited(item: Item) -> Iterator[Item]:
    """Yield the texts in pools that were edited: what is dirty marks all that it lies in."""
    stack = [item]
    while stack:
        node = stack.pop()
        if not node.dirty:
            continue
        if node.field is not None and isinstance(node.field.kind, Pooled) and node.kind != LIST:
            yield node
        inner = node.members if node.members is not None else (node.some or {}).values()
        stack += reversed(list(inner or ()))

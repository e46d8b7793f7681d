"""Texts in a pool: a field holds where its text begins among zero-ended texts that lie elsewhere in the file.

The value is the text. A text that is put and is not in the pool yet goes behind the others; no text is taken
out, as others may begin in its middle.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import Struct

from ...errors import FormatError
from ..columns import Columns, Words
from ..tree import LIST
from .item import Field, Item, Reading, Scope, Writing
from .numbers import Integer

__all__ = ["Pooled", "intern", "note_pooled", "offsets_in_pool", "texts_in_pool"]

_RATIO = 8  # texts of a pool a row, up to which they are all read at once
_FARTHEST = 1 << 40  # bytes
_FEW_NEW = 1000  # texts; of more it is not looked for those that are the end of another


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
            reading.note_check(fill)
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

    def found(self, pool: Any, packed: bytes) -> int:
        """Return where a text lies in a pool, -1 if nowhere; not where an offset means that there is none."""
        at: int = pool.find(packed) if isinstance(pool, bytes) else -1
        return pool.find(packed, at + 1) if at >= 0 and at == self.nothing else at

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
            offset = self.found(pool, self.packed(item.value))
        if offset < 0 or offset == self.nothing:
            writing.fail(field, f"{item.value!r} is not in {self.pool}, and could not be put there")
        item.shape = offset
        writing.out += self.number.pack(offset, writing, field)

    def least(self, version: int) -> int:
        return self.number.width

    def dtype(self, big: bool) -> str | None:
        return f"V{self.number.width}"


def texts_in_pool(kind: Pooled, column: Any, big: bool, groups: list[Item]) -> Words:
    """Return the texts that a stored column of offsets stands for.

    Raises:
        FormatError: some rows have none, so that the column is texts and nothing.
    """
    import numpy as np

    found = Scope(groups).find(kind.pool)
    pool = found.value if found is not None else None
    offsets = _offsets(kind, column, big)
    if not isinstance(pool, bytes) or (offsets == kind.nothing).any():
        raise FormatError("some rows have no text, so that the column is texts and nothing")
    wrong = (offsets < 0) | (offsets > pool.rfind(b"\0"))
    if wrong.any():
        raise FormatError(f"there is no text at {int(offsets[wrong][0]):,} of {kind.pool}")
    is_end = np.frombuffer(pool, np.uint8) == 0
    begins = np.append(0, np.flatnonzero(is_end) + 1)
    if len(begins) > _RATIO * len(offsets) or not _is_of_bytes(kind.encoding):
        begins = begins[:0]  # most of the pool is of others
    texts = pool.decode(kind.encoding, "surrogateescape").split("\0") if len(begins) else []
    before = np.zeros(len(pool) + 1, np.int32)  # how many texts end before each byte
    np.cumsum(is_end, out=before[1:])
    codes = before[offsets].astype(np.intp)
    at_begin = codes < len(begins)
    at_begin[at_begin] = begins[codes[at_begin]] == offsets[at_begin]
    others, numbers = np.unique(offsets[~at_begin], return_inverse=True)
    codes[~at_begin] = len(texts) + numbers
    for offset in others.tolist():  # in the middle of a text, at its end
        texts.append(kind.text(pool, offset) or "")
    return Words(codes, texts)


def note_pooled(reading: Reading, field: Field, inner: Field, item: Item) -> None:
    """Note to look, once the pool was read, whether all offsets in a column have a text there."""
    groups = list(reading.scope.groups)
    kind = inner.kind

    def hold() -> None:
        if not item.rows.count:
            return
        found = Scope(groups).find(kind.pool)
        pool = found.value if found is not None else None
        column = item.maker.columns(item)[inner.name or "value"]
        offsets = _offsets(kind, column, bool(reading.layout.big))
        end = pool.rfind(b"\0") if isinstance(pool, bytes) else -1
        wrong = (offsets < 0) | (offsets > end)
        if kind.nothing is not None:
            wrong &= offsets != kind.nothing
        if wrong.any():
            row = int(wrong.argmax())
            one = Field(f"{field.name}[{row}].{inner.name}".rstrip("."), kind, inner.at)
            what = f"there is no text at {int(offsets[row]):,} of {kind.pool}"
            reading.fail(one, what, item.rows.span(row)[0])

    reading.note_check(hold)


def _offsets(kind: Pooled, column: Any, big: bool) -> Any:
    """Return a stored column of offsets as numbers: `(n,) int64`, those beyond any file as the largest."""
    import numpy as np

    form = kind.number.dtype(big)
    raw = np.ascontiguousarray(column)
    if form is not None:
        numbers = raw.view(form)
        if kind.number.width == 8:
            numbers = np.minimum(numbers, _FARTHEST)
        return numbers.astype(np.int64)
    order = kind.number.order(big)
    listed = [int.from_bytes(each, order, signed=kind.number.signed) for each in raw.tolist()]
    return np.array([min(each, _FARTHEST) for each in listed], np.int64)


def _is_of_bytes(encoding: str) -> bool:
    """Tell whether no zero byte is a part of a letter, whatever stands before it."""
    return encoding in ("utf-8", "ascii") or encoding.startswith(("iso8859", "cp125", "latin"))


def intern(root: Item, version: int) -> None:
    """Put the texts that were given to fields into their pools, before any of them is written."""
    for item in list(_edited(root)):
        if isinstance(item.value, str):
            _put(item.field.kind, item.value, Scope.around(item).find(item.field.kind.pool))
    for table in list(_tables(root)):
        columns = table.value
        for field in table.maker.fields(version):
            name = field.name or "value"
            if isinstance(field.kind, Pooled) and name in columns.cells:
                if (
                    columns.is_stored(name)
                    and columns.kinds.get(columns.origins[name] or name) == field.kind
                ):
                    continue
                words = columns.read(name)
                pool = Scope.around(table).find(field.kind.pool)
                if isinstance(words, Words) and pool is not None and isinstance(pool.value, bytes):
                    _put_many(field.kind, words, pool)


def _put_many(kind: Pooled, words: Words, pool: Item) -> None:
    """Put those texts of a column into a pool that are not in it."""
    known = _by_bytes(kind, pool.value)
    used = dict.fromkeys(words.texts[code] for code in sorted({*words.codes.tolist()}))
    new = [packed for text in used if (packed := kind.packed(text)) not in known]
    if len(new) <= _FEW_NEW:
        for text in used:
            if kind.packed(text) in new:
                _put(kind, text, pool)
        return
    padding = b"\0" if len(pool.value) == kind.nothing else b""
    pool.value += padding + b"".join(new)
    pool.touch()


def offsets_in_pool(kind: Pooled, words: Words, pool: Any) -> Any:
    """Return where the texts of a column lie in a pool: `(n,) int64`, -1 for those that are not in it."""
    import numpy as np

    known = _by_bytes(kind, pool) if isinstance(pool, bytes) else {}
    offsets = np.full(len(words.texts), -1, np.int64)
    for code in {*words.codes.tolist()}:
        packed = kind.packed(words.texts[code])
        at = known.get(packed)
        offsets[code] = kind.found(pool, packed) if at is None else at
    return offsets[words.codes]


def _by_bytes(kind: Pooled, pool: bytes) -> dict[bytes, int]:
    """Return where each text of a pool begins, with its zero."""
    known: dict[bytes, int] = {}
    at = 0
    for piece in pool.split(b"\0")[:-1]:
        if at != kind.nothing:
            known.setdefault(piece + b"\0", at)
        at += len(piece) + 1
    return known


def _put(kind: Pooled, text: str, pool: Item | None) -> None:
    """Put a text into a pool if it is not there; what cannot be is told when it is written."""
    if pool is None or not isinstance(pool.value, bytes):
        return
    packed = kind.packed(text)
    if kind.found(pool.value, packed) < 0:
        padding = b"\0" if len(pool.value) == kind.nothing else b""
        pool.value += padding + packed
        pool.touch()


def _tables(root: Item) -> Iterator[Item]:
    """Yield the tables that were edited by columns."""
    stack = [root]
    while stack:
        node = stack.pop()
        if isinstance(node.value, Columns):
            yield node
        elif node.dirty:
            stack += reversed(list(node.members or ()))


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

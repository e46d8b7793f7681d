"""Ids in compressed blocks, taken as one array: for files that hold hundreds of blocks.

Through the layout every block becomes a table of its own. Where blocks hold nothing but a table of whole
numbers, the same layout with plain bytes in their place reads the file as surely, and they are unpacked here.

What always holds: a block is whole (it unpacks to its end, to whole numbers, with nothing behind it), or the
file is read through its layout, which says what is wrong. Blocks in which no number changes keep their bytes.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

import numpy as np
from msgspec import Struct

from ..errors import KindredError
from ..formats import ANY, Layout, LayoutDocument, Path
from ..formats.layouts.squeeze import expand, level_of, squeeze
from .cells import Cells, Numbers

__all__ = ["BlockCells", "PlainBlocks", "plain_blocks", "read_blocks"]

_MOST = 1 << 30  # bytes that one block unpacks to
_BLOCK = (
    r"(?P<block>block)\s+to\s+end\s+(?P<method>zlib|gzip|deflate|zstd)\s*\{{\s*{inner}\s+table\s+to\s+end\s+"
    r"(?P<kind>u8|u16|u32)(?:\s+(?P<order>little|big))?\s*(?:#[^\n]*)?\s*\}}"
)
_KINDS = {"u8": "u1", "u16": "u2", "u32": "u4"}


class PlainBlocks(Struct, frozen=True, eq=False):
    """A layout with plain bytes in the place of blocks: their field, how they are packed, what is in them."""

    layout: Layout
    field: str
    method: str
    form: str  # of NumPy


def plain_blocks(layout: Layout, at: Path) -> PlainBlocks | None:
    """Return a layout that reads the blocks of a path as bytes; None if they hold more than numbers."""
    if layout.is_told_by_fit or len(at) != 4 or at[1] != ANY or at[3] != ANY:
        return None
    return _derived(layout, str(at[0]), str(at[2]))


@lru_cache(maxsize=16)
def _derived(layout: Layout, field: str, inner: str) -> PlainBlocks | None:
    text = layout.source.text
    head = rf"(?m)^[ \t]*{re.escape(field)}[ \t]+each[ \t][^\n{{#]*?"
    found = list(re.finditer(head + _BLOCK.format(inner=re.escape(inner)), text))
    if len(found) != 1 or re.search(r"\bunpacked\b", found[0][0]):
        return None
    match = found[0]
    begin = match.start("block")
    try:
        plain = Layout.parse(f"{text[:begin]}bytes to end{text[match.end() :]}")
    except KindredError:  # something else in it refers to what is in the blocks
        return None
    big = match["order"] == "big" or (match["order"] is None and layout.big)
    return PlainBlocks(plain, field, match["method"], (">" if big else "<") + _KINDS[match["kind"]])


class BlockCells(Cells, eq=False):
    """The ids of all blocks of a file, one behind the other; `bounds` are where each begins and ends."""

    plain: PlainBlocks | None = None
    packed: tuple[bytes, ...] = ()
    which: tuple[int, ...] = ()  # the number of each block in the file
    bounds: tuple[int, ...] = ()

    @property
    def widest(self) -> int | None:
        """The highest number that the blocks have room for."""
        return int(np.iinfo(self.numbers.dtype).max)

    def tile_numbers(self) -> Numbers:
        """Return the number of each tile in its region, taking all blocks to be as large as each is."""
        out = np.arange(len(self.numbers), dtype=np.int64)
        for n, number in enumerate(self.which):
            begin, end = self.bounds[n], self.bounds[n + 1]
            out[begin:end] += number * (end - begin) - begin
        return out

    def name_of(self, at: int) -> str:
        """Return the path of one id as people write it."""
        n = int(np.searchsorted(self.bounds, at, "right")) - 1
        field, _, inner, _ = self.field.at
        return f"{field}[{self.which[n]}].{inner}[{at - self.bounds[n]}]"

    def put(self, new: Numbers) -> None:
        """Put other numbers in their place; blocks in which none changes stay as they are."""
        plain, level = self.plain, None
        assert plain is not None
        for n, number in enumerate(self.which):
            begin, end = self.bounds[n], self.bounds[n + 1]
            part, old = new[begin:end], self.numbers[begin:end]
            if np.array_equal(part, old):
                continue
            if level is None:
                level = level_of(
                    plain.method, self.numbers[: self.bounds[1]].tobytes(), self.packed[0]
                )
            self.document.set((plain.field, number), squeeze(plain.method, part.tobytes(), level))


def read_blocks(data: bytes, plain: PlainBlocks, field: Any) -> tuple[Any, BlockCells] | None:
    """Return a file's document and the ids of its blocks; None if it must be read through its own layout.

    That is where anything is wrong with it, too.
    """
    try:
        document = LayoutDocument(data, plain.layout)
        paths = document.find((plain.field, ANY))
        packed = [(int(path[-1]), document.get(path)) for path in paths]
        there = [(number, block) for number, block in packed if block is not None]
        parts = [expand(plain.method, block, most=_MOST) for _, block in there]
    except KindredError:
        return None
    size = np.dtype(plain.form).itemsize
    if not parts or any(len(part) % size for part in parts):
        return None
    bounds = [0]
    for part in parts:
        bounds.append(bounds[-1] + len(part) // size)
    numbers = np.frombuffer(b"".join(parts), plain.form)
    cells = BlockCells(
        document, field, (plain.field,), numbers, plain=plain,
        packed=tuple(block for _, block in there), which=tuple(number for number, _ in there),
        bounds=tuple(bounds),
    )  # fmt: skip
    return document, cells

"""Tables, directories and trees found by columns: the same as read one by one, or read so."""

from __future__ import annotations

import random
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any
from unittest import mock

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.cards.models import FormatTable
from kindred_ledger.convert import convert_bytes
from kindred_ledger.errors import FormatError, KindredError
from kindred_ledger.formats import Layout, LayoutDocument
from kindred_ledger.formats.columns import words_of
from kindred_ledger.formats.layouts import directory, invent, rows, trees
from kindred_ledger.formats.layouts.strides import follow
from kindred_ledger.versions import INTEGER
from tests.formats.made_up.grammar import Grammar
from tests.formats.test_made_up import FORMATS, Held
from tests.support import law, side_law

NEVER = 1 << 60


@contextmanager
def by_columns(least: int) -> Iterator[None]:
    """Have tables and directories of so many rows be found by columns, and trees of so many bytes."""
    with (
        mock.patch.multiple(rows, MANY=least),
        mock.patch.multiple(directory, MANY=least),
        mock.patch.multiple(trees, _LEAST_BYTES=least),
    ):
        yield


NAMES = ("", "name text u8, ", "name text zero, ", "name text u8 if tag == 2, ")
COUNTS = ("u8", "u16", "varint")
BODIES = ("1 u8, 2 i32", "1 u8, 2 text u8", "1 u8, 2 table u8 node")


def told(data: bytes, layout: Layout, least: int) -> Any:
    """Return what a file reads as, or that it cannot be read; and whether anything was found by columns."""
    with by_columns(least):
        try:
            document = LayoutDocument(data, layout)
        except FormatError as error:
            return error.what, error.where
        return document.get(())


class ManyAtOnce(unittest.TestCase):
    def hold(self, data: bytes, layout: Layout, rng: random.Random) -> None:
        """Read a file both ways; edit it both ways."""
        slow, fast = told(data, layout, NEVER), told(data, layout, 1)
        self.assertEqual(slow, fast, (layout.source.text, data))
        if isinstance(slow, tuple):
            return
        leaves = [leaf for leaf in LayoutDocument(data, layout).leaves() if type(leaf.value) is int]
        for leaf in rng.sample(leaves, min(2, len(leaves))):
            made = []
            for least in (NEVER, 1):
                with by_columns(least):
                    document = LayoutDocument(data, layout)
                    try:
                        document.set(leaf.path, leaf.value // 2)
                        made.append((document.encode(), document.get(())))
                    except FormatError as error:
                        made.append((error.what.encode(), None))
            self.assertEqual(made[0], made[1], (layout.source.text, data, leaf.path))

    @law
    @given(st.integers(0, 2**32))
    def test_any_layout(self, seed: int) -> None:
        """Files that a layout allows, whole, cut off, and with a byte that is another."""
        rng = random.Random(seed)
        try:
            layout = Layout.parse(Grammar(rng).layout())
            made = invent(layout, 1, rng)
        except KindredError:
            return
        damaged = bytearray(made or b"\0")
        damaged[rng.randrange(len(damaged))] ^= 1 << rng.randrange(8)
        for data in (made, bytes(damaged), made[: rng.randrange(len(made) + 1)]):
            self.hold(data, layout, rng)

    @side_law
    @given(st.sampled_from(sorted(FORMATS)), st.integers(0, 2**32), st.integers(1, 3))
    def test_the_made_up_formats(self, name: str, seed: int, version: int) -> None:
        """The same of files that independent writers wrote."""
        rng = random.Random(seed)
        made = bytearray(FORMATS[name].made(rng, version))
        layout = Layout.parse(FORMATS[name].LAYOUT, name)
        self.hold(bytes(made), layout, rng)
        converted = [self._converted(name, bytes(made), least) for least in (NEVER, 1)]
        self.assertEqual(*converted)
        made[rng.randrange(len(made))] ^= 1 << rng.randrange(8)
        self.hold(bytes(made), layout, rng)

    def _converted(self, name: str, data: bytes, least: int) -> list[tuple[bytes, str]]:
        """Return what a file becomes in each version, with its books."""
        table = {
            "files": ["*"], "codec": "layout",
            "builds": [{"builds": "*", "writes": "3", "reads": ["1", "2", "3"]}],
        }  # fmt: skip
        format = Held(name, msgspec.convert(table, FormatTable), INTEGER)
        with by_columns(least):
            made = [convert_bytes(data, format, target, name="a") for target in ("1", "2", "3")]
        return [(each.data, str(each.statement.lines)) for each in made]

    @law
    @given(st.integers(0, 2**32))
    def test_trees(self, seed: int) -> None:
        """Trees of nodes with names, keys or neither, flat and deep; some have tables that differ."""
        rng = random.Random(seed)
        name, count, body = rng.choice(NAMES), rng.choice(COUNTS), rng.choice(BODIES)
        element = rng.choice(("node", "{ key u8, value node }"))
        layout = Layout.parse(
            f"layout t\n{rng.choice(('little', 'big'))} endian\n"
            f"type node {{ tag u8, {name}body choice tag {{ {body}, 9 table {count} {element} }} }}\n"
            "size u8\nroot node\nlast u16"
        )
        made = bytearray(b"\0" + self._node(layout, rng, 0) + b"\1\2")
        self.hold(bytes(made), layout, rng)
        made[rng.randrange(len(made))] = rng.choice((0, 1, 2, 9, 255))
        self.hold(bytes(made), layout, rng)

    def _node(self, layout: Layout, rng: random.Random, depth: int) -> bytes:
        """Write a node and what is in it, by the words of the layout."""
        text, order = layout.source.text, "big" if layout.big else "little"
        tag = rng.choice((1, 2, 9, 9)) if depth < rng.choice((3, 8, 70)) else 1
        out = bytes((tag,))
        if "name text u8" in text:
            out += b"\3abc" if rng.random() < 0.5 else b"\0"
        if "name text zero" in text:
            out += b"reed\0"
        if tag == 9:
            many = rng.randrange(4)
            key = b"k" if "key" in text else b""
            inside = b"".join(key + self._node(layout, rng, depth + 1) for _ in range(many))
            width = 2 if "table u16" in text else 1
            return out + many.to_bytes(width, order) + inside  # type: ignore[arg-type]
        two = {"i32": b"abcd", "text u8": b"\2hi", "table u8 node": b"\1\1" + out[1:] + b"z"}
        return out + (b"z" if tag == 1 else next(v for k, v in two.items() if f"2 {k}" in text))


class Pools(unittest.TestCase):
    LAYOUT = """
layout names
{order} endian
text latin-1
{first}
names  table u16 {{
    id u8, name pooled {number} of pool{nothing}
    when time u32 seconds, hue colour rgb, who uuid
}}
{last}
"""

    @law
    @given(st.integers(0, 2**32))
    def test_by_columns_as_row_by_row(self, seed: int) -> None:
        """Read, edited with texts that are there, are the end of others, or new; refused alike."""
        rng = random.Random(seed)
        pool = "pool bytes u16"
        first, last = rng.choice(((pool, ""), ("", pool)))
        number, width = rng.choice((("u8", 1), ("u16", 2), ("u24", 3), ("i32", 4)))
        layout = Layout.parse(
            self.LAYOUT.format(
                order=rng.choice(("little", "big")),
                number=number,
                nothing=rng.choice(("", " or 0", " or 255")),
                first=first,
                last=last,
            )
        )
        texts = [
            rng.choice(("reed", "eed", "peat bog", "", "haar")) for _ in range(rng.randrange(1, 5))
        ]
        bytes_ = b"\0" * rng.randrange(2) + b"".join(text.encode() + b"\0" for text in texts)
        order: Any = "big" if layout.big else "little"
        count = rng.randrange(1, 6)
        rows_ = b"".join(
            bytes((n,)) + rng.randrange(len(bytes_) + rng.choice((0, 0, 0, 3)) ).to_bytes(width, order)
            + rng.randbytes(4) + rng.randbytes(3) + rng.randbytes(16)
            for n in range(count)
        )  # fmt: skip
        table = count.to_bytes(2, order) + rows_
        held = len(bytes_).to_bytes(2, order) + bytes_
        data = held + table if first else table + held
        try:
            one, other = LayoutDocument(data, layout), LayoutDocument(data, layout)
            values = one.get(("names",))
        except FormatError as error:
            self.assertIn("there is no text at", error.what)
            with self.assertRaises(FormatError):
                LayoutDocument(data, layout)
            return
        self.assertEqual(one.encode(), data)
        columns = other.open_columns(("names",))
        assert columns is not None
        readable = all(row["name"] is not None for row in values)
        self.assertEqual(columns.is_readable("name"), readable)
        if not readable:
            return
        found = columns.read("name").array().tolist()
        self.assertEqual(found, [row["name"] for row in values])
        for name in ("when", "hue", "who"):
            self.assertEqual(columns.read(name).array().tolist(), [row[name] for row in values])
        new = [rng.choice((text, "reed", "d", "Mossferry", "new")) for text in found]
        columns.write("name", words_of(new))
        columns.write("hue", words_of(["#010203"] * count))
        for n, text in enumerate(new):
            one.set(("names", n, "name"), text)
            one.set(("names", n, "hue"), "#010203")
        made = []
        for document in (one, other):
            try:
                made.append(LayoutDocument(document.encode(), layout).get(("names",)))
            except FormatError as error:
                made.append(error.what)
        self.assertEqual(*made)


class Following(unittest.TestCase):
    @law
    @given(st.integers(0, 2**32))
    def test_a_chain_is_followed_as_one_by_one(self, seed: int) -> None:
        """Whatever lies between, also where it cannot go on, or stops."""
        import numpy as np

        rng = random.Random(seed)
        size = rng.choice((60, 3000, 30_000))
        most = rng.choice((3, 9, 60))
        lengths = np.array([rng.randrange(most) + rng.choice((0, 1, 1)) for _ in range(size)])
        wrong = rng.choice((0, 0, 0.001, 0.2))
        bad = np.array([rng.random() < wrong for _ in range(size)])
        first, count = rng.randrange(5), rng.choice((3, 250, 2500, 10**6))

        def step(at: Any) -> Any:
            there = np.minimum(at, size - 1)
            return np.where((at >= size) | bad[there], 1 << 40, at + lengths[there])

        wanted, at = [], first
        while len(wanted) < count and at < size:
            if bad[at] or not lengths[at] or at + lengths[at] > size:
                break
            wanted.append(at)
            at += int(lengths[at])
        self.assertEqual(follow(step, first, count, size).tolist(), [*wanted, at])


if __name__ == "__main__":
    unittest.main()

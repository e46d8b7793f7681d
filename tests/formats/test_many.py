"""Tables, directories and trees found by columns: the same as read one by one, or read so."""

from __future__ import annotations

import random
import unittest
from typing import Any
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.errors import FormatError, KindredError
from kindred_ledger.formats import Layout, LayoutDocument
from kindred_ledger.formats.layouts import directory, invent, rows
from kindred_ledger.formats.layouts.strides import follow
from tests.formats.made_up import atlas, ledgerwood, quilt, warehouse
from tests.formats.made_up.grammar import Grammar
from tests.support import law, side_law

NEVER = 1 << 60
FORMATS: dict[str, Any] = {
    "atlas": atlas,
    "ledgerwood": ledgerwood,
    "quilt": quilt,
    "warehouse": warehouse,
}


def by_columns(least: int) -> Any:
    """Have tables and directories of so many rows be found by columns, and trees of so many bytes."""
    return mock.patch.multiple(rows, _MANY=least), mock.patch.multiple(directory, MANY=least)


def told(data: bytes, layout: Layout, least: int) -> Any:
    """Return what a file reads as, or that it cannot be read; and whether anything was found by columns."""
    one, two = by_columns(least)
    with one, two:
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
                one, two = by_columns(least)
                with one, two:
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
        made[rng.randrange(len(made))] ^= 1 << rng.randrange(8)
        self.hold(bytes(made), layout, rng)


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

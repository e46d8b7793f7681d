"""Layouts and files made up at random: an error with its place, or a document, kept and edited right."""

from __future__ import annotations

import random
import unittest

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.errors import FormatError, KindredError
from kindred_ledger.formats import Layout, LayoutDocument
from kindred_ledger.formats.layouts import dump, dump_part, invent
from tests.formats.made_up.grammar import Grammar
from tests.support import side_law

OTHERS = {int: 3, str: "zz", bytes: b"q", bool: True}


class Fuzzed(unittest.TestCase):
    @side_law
    @given(st.integers(0, 2**32))
    def test_any_layout_and_any_bytes(self, seed: int) -> None:
        """What is read is written as it was; an edit reads back, or is refused; nothing else is raised."""
        rng = random.Random(seed)
        text = Grammar(rng).layout()
        try:
            layout = Layout.parse(text)
        except FormatError as error:
            self.assertIn("line", error.where or "", text)
            return
        for data in self._files(layout, rng):
            try:
                self._hold(layout, data, rng)
            except FormatError as error:
                self.assertIn("byte", error.where or "", (text, data))
            list(dump_part(data, layout))

    def _files(self, layout: Layout, rng: random.Random) -> list[bytes]:
        """Return bytes by chance, and files the layout allows, whole and with a byte that is another."""
        files = [rng.randbytes(rng.randrange(60)) for _ in range(2)]
        try:
            made = invent(layout, 1, rng)
        except KindredError:  # a size that nothing tells, say
            return files
        damaged = bytearray(made or b"\0")
        damaged[rng.randrange(len(damaged))] ^= 1 << rng.randrange(8)
        return [*files, made, bytes(damaged), made[: rng.randrange(len(made) + 1)]]

    def _hold(self, layout: Layout, data: bytes, rng: random.Random) -> None:
        document = LayoutDocument(data, layout)
        document.get(())
        list(dump(document))
        self.assertEqual(document.encode(), data)
        leaves = [leaf for leaf in document.leaves() if type(leaf.value) in OTHERS]
        for leaf in rng.sample(leaves, min(3, len(leaves))):
            edited = LayoutDocument(data, layout)
            try:
                edited.set(leaf.path, OTHERS[type(leaf.value)])
                after = edited.encode()
            except FormatError:
                continue
            wanted = edited.get(leaf.path)
            self.assertEqual(
                LayoutDocument(after, layout).get(leaf.path), wanted, (data, leaf.path)
            )


if __name__ == "__main__":
    unittest.main()

"""Compressed blocks as one array: the same ids, the same bytes, the same faults as through the layout."""

from __future__ import annotations

import random
import struct
import unittest
import zlib

from kindred_ledger.cards.worlds import WorldKind
from kindred_ledger.errors import FormatError
from kindred_ledger.formats import Layout, parse_path
from kindred_ledger.worlds import reconcile
from kindred_ledger.worlds.blocks import BlockCells, plain_blocks
from kindred_ledger.worlds.file_ids import FileIds, positions_of
from kindred_ledger.worlds.translation import Translation
from tests.worlds.support import PACKED, WorldCase, ids, packed

_AT = parse_path("blocks[*].ids[*]")


class Blocks(WorldCase):
    def both(self, data: bytes) -> tuple[FileIds, FileIds]:
        kind: WorldKind = self.card.worlds["mire"]
        ways = (
            FileIds.open("2.1.packed", data, kind, self.card, in_blocks=way)
            for way in (True, False)
        )
        one, other = ways
        assert one is not None and other is not None
        return one, other

    def test_the_same_as_block_by_block(self) -> None:
        """Counts, names, places in the world and the bytes that are made; of any compression and sizes."""
        new = dict(
            zip(self.old, random.Random(4).sample(range(1, 300), len(self.old)), strict=True)
        )
        found = reconcile(ids(self.old), ids(new))
        translation = {"ids": Translation(found, self.card.worlds["mire"].table.lists["ids"], {})}
        for number in range(20):
            rng = random.Random(f"blocks {number}")
            numbers = [0, *self.old.values()]
            size = rng.randrange(1, 60)
            blocks = [rng.choices(numbers, k=size) for _ in range(rng.randrange(1, 9))]
            blocks[-1] = blocks[-1][: rng.randrange(len(blocks[-1]) + 1)]
            data = packed(blocks, rng.randrange(1, 10))
            if number % 3 == 0:  # two rows share a block
                data = data[:8] + data[16:24] + data[16:] if len(blocks) > 1 else data
            one, other = self.both(data)
            self.assertIsInstance(one.cells[0], BlockCells)
            self.assertEqual(one.tally(), other.tally())
            names = [cells.name_of(n) for cells in other.cells for n in range(len(cells))]
            self.assertEqual([one.cells[0].name_of(n) for n in range(len(one.cells[0]))], names)
            placed = positions_of(one, one.cells[0])
            others = [positions_of(other, cells) for cells in other.cells]
            if len({len(block) for block in blocks}) == 1 and placed is not None:
                self.assertEqual(
                    placed.x.tolist(), [x for each in others if each for x in each.x.tolist()]
                )
                self.assertEqual(
                    placed.z.tolist(), [z for each in others if each for z in each.z.tolist()]
                )
            self.assertEqual(one.translated(translation).data, other.translated(translation).data)

    def test_the_same_faults(self) -> None:
        """A block that is cut, has something behind it, or half a number: refused as through the layout."""
        good = packed([[1, 2, 3]])
        begin, size = struct.unpack_from("<II", good, 8)

        def holding(block: bytes) -> bytes:
            return good[:8] + struct.pack("<II", begin, len(block)) + block

        block = good[begin : begin + size]
        for data in (
            holding(block[:-3]),
            holding(block + b"x"),
            holding(zlib.compress(b"123")),
            good[:-1],
        ):
            told = []
            for way in (True, False):
                with self.assertRaises(FormatError) as caught:
                    FileIds.open(
                        "0.0.packed", data, self.card.worlds["mire"], self.card, in_blocks=way
                    )
                told.append(str(caught.exception))
            self.assertEqual(told[0], told[1])

    def test_which_layouts_are_read_so(self) -> None:
        """Only those whose blocks hold one table of whole numbers, and that nothing else refers to."""
        for old, new, fits in (
            ("", "", True),
            ("u16 }\n", "u16 big }  # tiles\n", True),
            ("{ ids table to end u16 }", "{\n ids table to end u32 # n\n}", True),
            ("ids table to end u16 }", "note u8, ids table to end u16 }", False),
            ("ids table to end u16", "ids table to end { id u16 }", False),
            ("zlib", "xor 3", False),
            ("block to end zlib", "block u16 zlib", False),
        ):  # fmt: skip
            text = PACKED
            if old:
                head, _, tail = PACKED.rpartition(old)
                text = head + new + tail
            with self.subTest(new):
                self.assertEqual(plain_blocks(Layout.parse(text), _AT) is not None, fits)


if __name__ == "__main__":
    unittest.main()

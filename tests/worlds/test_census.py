"""Censuses: what they count beyond ids, how far two may differ, and landmarks."""

from __future__ import annotations

import json
import unittest

import msgspec

import kindred_ledger as kl
from kindred_ledger.cards import Card
from tests.support import write
from tests.worlds.support import CARD, WorldCase, flat, ids, list_json, packed

MORE = """
[[worlds.mire.census]]
kind = "owners"
files = ["*.flat"]
format = "flat"
by = "things[*].name"
[[worlds.mire.census]]
kind = "coins"
files = ["bags/*.json"]
format = "bag"
sum = "coins"
tolerance = "10%"
[[worlds.mire.landmarks]]
name = "the bell"
content = "mod:bell"
x = 2
z = 1
within = 1
expect = "gone"
[[worlds.mire.landmarks]]
name = "the old lamp"
content = "mod:old"
x = 5
z = 0
"""


class Counted(WorldCase):
    def setUp(self) -> None:
        super().setUp()
        write(self.folder, {"mire.card.toml": (CARD + MORE).encode()})
        self.card = Card.load(self.path("mire.card.toml"))
        bell, old = self.old["mod:bell"], self.old["mod:old"]
        tiles = [0] * 64
        tiles[10], tiles[5] = bell, old  # at 2, 1 and at 5, 0
        self.put(
            {
                "0.0.flat": flat(tiles, [(bell, 3, "ada"), (old, 1, "ada"), (old, 4, "bo")]),
                "bags/ada.json": b'{"name": "ada", "coins": 100, "bag": []}',
                "bags/bo.json": b'{"name": "bo", "coins": 30, "bag": [{"id": 4, "many": 7}]}',
                "ids.json": list_json(self.old),
            }
        )

    def census(self) -> kl.Census:
        return kl.take_census(kl.open_world(self.install()), build="1.0")

    def test_amounts_owners_and_money(self) -> None:
        """Things by how many, owners by name, coins as a sum; and all of it as JSON, CSV and a data frame."""
        found = self.census()
        self.assertEqual(found.counts["things"], {"mod:bell": 3, "mod:old": 5})
        self.assertEqual(found.counts["goods"], {"mod:bell": 7})
        self.assertEqual(found.counts["owners"], {"ada": 2, "bo": 1})
        self.assertEqual(found.counts["coins"], {"all": 130})
        self.assertEqual(found.counts["tiles"], {"mod:bell": 1, "mod:old": 1, "nothing": 62})
        self.assertEqual(kl.read_census(msgspec.json.encode(found.to_json())), found)
        frame = found.to_frame()
        self.assertEqual(int(frame[frame.name == "mod:bell"].amount.sum()), 11)
        self.assertEqual(len(found.to_csv().splitlines()), len(found.rows()) + 1)

    def test_tolerance_is_of_the_card(self) -> None:
        """What it covers is allowed, and named all the same; everything else is not."""
        before = self.census()
        for coins, allowed in ((95, True), (100, None), (60, False)):
            self.put({"bags/ada.json": b'{"name": "ada", "coins": %d, "bag": []}' % coins})
            found = kl.compare_censuses(before, self.census())
            told = [each.allowed for each in found]
            self.assertEqual(told, [] if allowed is None else [allowed], coins)

    def test_a_sum_of_what_is_no_number(self) -> None:
        """Told with its place; nothing is counted as something else."""
        self.put({"bags/bo.json": b'{"name": "bo", "coins": "many", "bag": []}'})
        with self.assertRaisesRegex(kl.FormatError, "cannot be added up"):
            self.census()
        for data in (b"{}", b"[", b'{"census": 2}', json.dumps({"counts": 1}).encode()):
            with self.subTest(data), self.assertRaises(kl.FormatError):
                kl.read_census(data)

    def test_landmarks_follow_names(self) -> None:
        """Under another number and another name; what should be gone and is not is told."""
        seen = kl.find_landmarks(kl.open_world(self.install()))
        self.assertEqual([(each.count, each.is_right) for each in seen], [(1, False), (1, True)])
        self.assertEqual([each.code for each in kl.landmark_findings(seen)], ["landmark"])
        new = {n: m + 40 for n, m in self.old.items() if n not in ("mod:bell", "mod:old")}
        new["mod:newest"] = 300
        ledger = self.ledger()
        choices = kl.ContentChoices(inert=("mod:bell",))
        change = kl.remap(self.install(), {"ids": ids(new)}, ledger=ledger, choices=choices)
        change.apply(ledger, allow_loss=True)
        seen = kl.find_landmarks(kl.open_world(self.install()))
        self.assertEqual([each.is_right for each in seen], [True, True])
        self.assertEqual(seen[1].content, "mod:newest")
        new_ones = [kl.read_landmark("plain:stone@2,1")]
        seen = kl.find_landmarks(kl.open_world(self.install()), new_ones)
        self.assertEqual(seen[-1].count, 1)

    def test_blocks_whose_ids_stay_keep_their_bytes(self) -> None:
        """Compressed by whoever: only what changes is written anew."""
        stay, move = self.old["plain:grass"], self.old["mod:lamp"]
        data = packed([[stay] * 400, [move] * 400, [stay] * 300], 1)
        self.put({"3.3.packed": data})
        new = {**self.old, "mod:lamp": 444}
        ledger = self.ledger()
        kl.remap(self.install(), {"ids": ids(new)}, ledger=ledger).apply(ledger)
        after = self.world()["3.3.packed"]
        parts = [data[int.from_bytes(data[at : at + 4], "little") :] for at in (8, 24)]
        sizes = [int.from_bytes(data[at : at + 4], "little") for at in (12, 28)]
        for part, size in zip(parts, sizes, strict=True):
            self.assertIn(part[:size], after)
        self.assertEqual(
            self.counted({"3.3.packed": after}), {("tiles", stay): 700, ("tiles", 444): 400}
        )


if __name__ == "__main__":
    unittest.main()

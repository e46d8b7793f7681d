"""Drills: an entry is proven by bringing it back for real, and nothing else is touched by that."""

from __future__ import annotations

import os

from kindred_ledger.changes import drill
from kindred_ledger.errors import PlaceError, UsageError
from kindred_ledger.ledger import PROVEN
from tests.support import Case, small_disk, snapshot, texts

FILES = {"a.txt": b"peat", "deep/b.bin": bytes(200_000), "link": "a.txt", "empty": None}


class Drills(Case):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        os.mkdir(self.path("scratch"))

    def test_every_entry_has_its_turn(self) -> None:
        """The newest first, then what was never proven, then the oldest proof again."""
        with self.assertRaisesRegex(UsageError, "keeps nothing"):
            drill(ledger=self.kept)
        place = self.place(FILES)
        ids = []
        for turn in range(3):
            with open(self.path("place", "a.txt"), "wb") as file:
                file.write(b"turn %d" % turn)
            ids.append(self.kept.backup(place).id)
        before = snapshot(self.path("place"))
        history = self.kept.records()
        order = [drill(ledger=self.kept, scratch=self.path("scratch")) for _ in range(4)]
        self.assertEqual([done.entry.id for done in order], [ids[2], ids[1], ids[0], ids[2]])
        self.assertEqual([done.findings for done in order], [()] * 4)
        self.assertEqual([done.proven for done in order], [1, 2, 3, 3])
        self.assertEqual(
            [done.oldest and done.oldest.id for done in order], [*reversed(ids), ids[0]]
        )
        self.assertEqual([m.subject for m in self.kept.marks(PROVEN)], [d.entry.id for d in order])
        self.assertEqual(os.listdir(self.path("scratch")), [])
        self.assertEqual(snapshot(self.path("place")), before)
        self.assertEqual((self.kept.records(), len(self.kept.entries())), (history, 3))

    def test_what_is_damaged_is_not_proven(self) -> None:
        """It says what did not come back, leaves no mark, and nothing lies about."""
        self.kept.backup(self.place(FILES))
        folder = self.path("ledger", "packs")
        path = os.path.join(folder, os.listdir(folder)[0])
        with open(path, "r+b") as file:
            file.seek(20)
            file.write(b"damage")
        done = drill(ledger=self.kept, scratch=self.path("scratch"))
        self.assertTrue(any("damaged" in fault for fault in texts(done.findings)), done.findings)
        self.assertEqual((done.mark, done.proven, self.kept.marks(PROVEN)), (None, 0, []))
        self.assertEqual(os.listdir(self.path("scratch")), [])

    def test_a_scratch_folder_without_room(self) -> None:
        """Nothing is proven, and it says how much is needed."""
        self.kept.backup(self.place(FILES))
        small_disk(self, self.path("scratch"), "2m")
        with self.assertRaisesRegex(PlaceError, "MB are needed"):
            drill(ledger=self.kept, scratch=self.path("scratch"))
        self.assertEqual(self.kept.marks(PROVEN), [])

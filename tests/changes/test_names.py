"""Names that not every system holds: they come back where they were, and are told where they cannot."""

from __future__ import annotations

import os

from kindred_ledger.changes import drill, restore, undo
from kindred_ledger.demo.handheld import simulated_card
from kindred_ledger.errors import DecisionNeeded, UnsafeName
from kindred_ledger.ledger import export, verify
from kindred_ledger.places import MemoryPlace, TarPlace, ZipPlace
from tests.support import Case, change_to, files_in, snapshot, write

# By case, by Unicode form, and folders that are one with what lies in them.
TWINS = {
    "Save.sav": b"large", "save.sav": b"small", "SAVE.SAV": b"all large", "u\u0308": b"two letters",
    "\u00fc": b"one letter", "Data/a": b"1", "data/b": b"2", "data/A": b"3",
}  # fmt: skip


class Twins(Case):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        self.at = self.place({"first": b"1"})
        if not _apart(self.folder):
            self.skipTest("this disk takes them for one")

    def test_they_come_back(self) -> None:
        """Restored in place and elsewhere, taken back, done again, drilled, exported and taken in."""
        write(self.at.root, TWINS)
        entry, before = self.kept.backup(self.at), snapshot(self.at.root)
        restore(entry, self.kept, self.place({}, "else")).apply(self.kept)
        self.assertEqual(files_in(self.path("else")), {**TWINS, "first": b"1"})
        for name in ("save.sav", "\u00fc", "data/A"):
            os.remove(self.at.path(name))
        done = restore(entry, self.kept).apply(self.kept)
        self.assertEqual(snapshot(self.at.root), before)
        back = undo(self.kept, done.record.id).apply(self.kept, allow_loss=True)
        self.assertNotIn("save.sav", os.listdir(self.at.root))
        undo(self.kept, back.record.id).apply(self.kept)
        self.assertEqual(snapshot(self.at.root), before)
        self.assertEqual(drill(self.kept, entry).faults, ())
        for name, kind in (("out.zip", ZipPlace), ("out.tar.zst", TarPlace)):
            export(entry, self.kept, self.path(name))
            again = self.kept.backup(kind(self.path(name)))
            self.assertEqual(self.kept.tree(again).files, self.kept.tree(entry).files)
        self.assertEqual(verify(self.kept).faults, ())

    def test_what_was_never_together_stays_apart(self) -> None:
        """A change that would put one beside the other is refused: most games take both for one."""
        for new in ({"FIRST": b"2"}, {"First/x": b"2"}):
            with self.assertRaisesRegex(UnsafeName, "ignore case"):
                change_to(self.at, {"first": b"1", **new})
        entry = self.kept.backup(MemoryPlace({"First": b"2"}))
        with self.assertRaisesRegex(UnsafeName, "First and first are one file"):
            restore(entry, self.kept, self.at)
        self.assertEqual(files_in(self.at.root), {"first": b"1"})


class OnACard(Case):
    """A card takes them for one."""

    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        self.entry = self.kept.backup(MemoryPlace({**TWINS, "other": b"1"}))
        self.card = self.place({"save (2).sav": b"here before", "there": b"1"}, "card")

    def test_told_beforehand(self) -> None:
        """All but the first of each are conflicts; one alone can be chosen."""
        with simulated_card(self.card.root):
            change = restore(self.entry, self.kept, self.card)
            self.assertEqual(len(change.conflicts), 5)
            with self.assertRaisesRegex(DecisionNeeded, "--second-names"):
                change.apply(self.kept, allow_loss=True)
            self.assertEqual(sorted(os.listdir(self.card.root)), ["save (2).sav", "there"])
            change = restore(self.entry, self.kept, self.card, only=lambda path: path == "save.sav")
            change.apply(self.kept)
            self.assertEqual(files_in(self.card.root)["save.sav"], b"small")

    def test_under_second_names(self) -> None:
        """Every content arrives, none over what was there; undone it is as before."""
        before = files_in(self.card.root)
        with simulated_card(self.card.root):
            change = restore(self.entry, self.kept, self.card, second_names=True)
            done = change.apply(self.kept)
            found = files_in(self.card.root)
            self.assertEqual(
                sorted(found.values()), sorted([*TWINS.values(), b"1", *before.values()])
            )
            self.assertEqual(found["save (2).sav"], b"here before")
            self.assertEqual((found["Data/a"], found["data (2)/b"]), (b"1", b"2"))
            books = done.statements[1]
            self.assertEqual((books.counted_in, books.counted_out), (9, 9))
            reasons = {line.item: line.reason for line in books.lines}
            self.assertIn("where it is called save.sav", reasons["save (4).sav"])
            undo(self.kept, done.record.id).apply(self.kept)
        self.assertEqual(files_in(self.card.root), before)


def _apart(folder: str) -> bool:
    write(folder, {"probe": b""})
    return not os.path.exists(os.path.join(folder, "PROBE"))

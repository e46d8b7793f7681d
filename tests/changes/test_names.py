"""Names that not every system holds: they come back where they were, and are told where they cannot."""

from __future__ import annotations

import contextlib
import json
import os
import sys
import unittest
import zipfile
from typing import Any
from unittest import mock

from kindred_ledger.changes import drill, recover, redo, restore, undo, unfinished_in
from kindred_ledger.demo.handheld import simulated_card
from kindred_ledger.errors import DecisionNeeded, LedgerDamaged, UnsafeName
from kindred_ledger.ledger import Ledger, export, verify
from kindred_ledger.ledger.manifest import SUFFIX, decode, encode, read
from kindred_ledger.os_names import as_name, as_text, is_canonical
from kindred_ledger.places import FolderPlace, MemoryPlace, TarPlace, ZipPlace
from kindred_ledger.statement import Outcome
from tests.support import Case, change_to, files_in, kindred, snapshot, write

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
        restore(entry, self.place({}, "else"), ledger=self.kept).apply(self.kept)
        self.assertEqual(files_in(self.path("else")), {**TWINS, "first": b"1"})
        for name in ("save.sav", "\u00fc", "data/A"):
            os.remove(self.at.path(name))
        done = restore(entry, ledger=self.kept).apply(self.kept)
        self.assertEqual(snapshot(self.at.root), before)
        back = undo(done.record.id, ledger=self.kept).apply(self.kept, allow_loss=True)
        self.assertNotIn("save.sav", os.listdir(self.at.root))
        undo(back.record.id, ledger=self.kept).apply(self.kept)
        self.assertEqual(snapshot(self.at.root), before)
        self.assertEqual(drill(entry, ledger=self.kept).findings, ())
        for name, kind in (("out.zip", ZipPlace), ("out.tar.zst", TarPlace)):
            export(entry, self.path(name), ledger=self.kept)
            again = self.kept.backup(kind(self.path(name)))
            self.assertEqual(self.kept.tree(again).files, self.kept.tree(entry).files)
        self.assertEqual(verify(self.kept).findings, ())

    def test_what_was_never_together_stays_apart(self) -> None:
        """A change that would put one beside the other is refused: most games take both for one."""
        for new in ({"FIRST": b"2"}, {"First/x": b"2"}):
            with self.assertRaisesRegex(UnsafeName, "ignore case"):
                change_to(self.at, {"first": b"1", **new})
        entry = self.kept.backup(MemoryPlace({"First": b"2"}))
        with self.assertRaisesRegex(UnsafeName, "First and first are one file"):
            restore(entry, self.at, ledger=self.kept)
        self.assertEqual(files_in(self.at.root), {"first": b"1"})


@unittest.skipUnless(os.name == "posix" and sys.platform != "darwin", "names are text there")
class Bytes(Case):
    """Names that are no UTF-8: of files, folders and links, and of the place itself."""

    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        top = os.fsencode(self.folder) + b"/pl\xe9ce"
        os.makedirs(top + b"/d\xff/\x80")
        for name in (b"caf\xe9.sav", b"d\xff/x", b"plain", "caf\u00e9.sav".encode()):
            with open(top + b"/" + name, "wb") as file:
                file.write(name)
        os.symlink(b"t\xe9", top + b"/link")
        self.at = FolderPlace(os.fsdecode(top))

    def test_they_come_back(self) -> None:
        """Restored in place and elsewhere, taken back and done again, drilled, exported and taken in."""
        entry, before = self.kept.backup(self.at), snapshot(self.at.root)
        self.assertEqual(self.kept.entry(entry.id).roots, {"": self.at.root})
        restore(entry, self.place({}, "else"), ledger=self.kept).apply(self.kept)
        self.assertEqual(snapshot(self.path("else")), before)
        os.remove(os.fsencode(self.at.root) + b"/caf\xe9.sav")
        os.remove(os.fsencode(self.at.root) + b"/link")
        again = Ledger.open(self.path("ledger"))
        self.addCleanup(again.index.close)
        done = restore(again.entry(entry.id), ledger=again).apply(again)
        self.assertEqual(snapshot(self.at.root), before)
        undo(done.record.id, ledger=again).apply(again)
        self.assertEqual(len(os.listdir(self.at.root)), len(before) - 4)
        redo(ledger=again).apply(again)
        self.assertEqual(snapshot(self.at.root), before)
        self.assertEqual(drill(entry, ledger=self.kept).findings, ())
        export(entry, self.path("out.tar.zst"), ledger=self.kept)
        taken = again.backup(TarPlace(self.path("out.tar.zst")))
        self.assertEqual([*again.tree(taken)], [*again.tree(entry)])
        self.assertEqual(
            export(entry, self.path("out.zip"), ledger=again).files, ("caf\u00e9.sav", "plain")
        )
        self.assertEqual(verify(again).findings, ())

    def test_a_change_that_is_cut_off(self) -> None:
        """Its journal leads back to the place."""
        entry, before = self.kept.backup(self.at), snapshot(self.at.root)
        for name in os.listdir(os.fsencode(self.at.root)):
            if name.startswith(b"caf"):
                os.remove(os.fsencode(self.at.root) + b"/" + name)
        seen: list[str] = []
        with (
            mock.patch("kindred_ledger.changes.engine.unwind", side_effect=KeyboardInterrupt),
            mock.patch("kindred_ledger.changes.engine.balance", side_effect=KeyboardInterrupt),
            contextlib.suppress(KeyboardInterrupt),
        ):
            restore(entry, ledger=self.kept).apply(self.kept)
        self.assertTrue(unfinished_in(self.at))
        seen += [one.outcome for one in recover(self.kept)]
        self.assertEqual(seen, ["finished"])
        self.assertEqual(snapshot(self.at.root), before)

    def test_on_the_command_line(self) -> None:
        """Shown as bytes in hex; taken as they are typed; in JSON as they stand in the tree."""
        self.assertEqual(kindred("backup", self.at.root, folder=self.folder).returncode, 0)
        shown = kindred("show", "latest", "--files", folder=self.folder).stdout
        self.assertIn("caf\\xe9.sav", shown)
        self.assertIn("pl\\xe9ce", shown)
        told = kindred("show", "latest", "--files", "--json", folder=self.folder).stdout
        self.assertIn("caf\\u0000dce9.sav", told)
        json.loads(told)
        only = ("--only", "caf\udce9.sav", "--into", "some", "--yes")
        self.assertEqual(kindred("restore", "latest", *only, folder=self.folder).returncode, 0)
        self.assertEqual(os.listdir(os.fsencode(self.path("some"))), [b"caf\xe9.sav"])

    def test_where_they_cannot_be(self) -> None:
        """A card holds them back, and says so."""
        entry = self.kept.backup(self.at)
        card = self.place({"here": b"1"}, "card")
        with simulated_card(card.root):
            change = restore(entry, card, ledger=self.kept)
            held = {line.item for line in change.statements[0].of(Outcome.LEFT_ALONE)}
            self.assertEqual(held, {"caf\0dce9.sav", "d\0dcff/x", "link"})
            change.apply(self.kept)
        self.assertEqual(sorted(os.listdir(card.root)), ["caf\u00e9.sav", "here", "plain"])

    def test_a_zip_holds_none(self) -> None:
        """There a name ends at the first NUL: they are held back, and the others arrive."""
        entry = self.kept.backup(self.at)
        with zipfile.ZipFile(self.path("pack.zip"), "w") as archive:
            archive.writestr("here", b"1")
        names = {"caf\0dce9.sav", "d\0dcff/x"}
        change = restore(
            entry,
            ZipPlace(self.path("pack.zip")),
            ledger=self.kept,
            only=lambda path: path != "link",
        )
        held = {line.item for line in change.statements[0].of(Outcome.LEFT_ALONE)}
        self.assertEqual(held - {"link"}, names)
        change.apply(self.kept)
        with zipfile.ZipFile(self.path("pack.zip")) as archive:
            files = [name for name in archive.namelist() if not name.endswith("/")]
        self.assertEqual(sorted(files), ["caf\u00e9.sav", "here", "plain"])

    def test_one_name_is_written_one_way(self) -> None:
        """Any bytes there and back; what would mean the same as another text is no name of a tree."""
        for raw in (
            b"caf\xe9",
            b"\xc3\xa9",
            b"\xc3",
            b"\xff\xfe",
            b"a\xed\xa0\x80",
            b"\xf0\x9f\x98",
        ):
            text = as_text(os.fsdecode(raw))
            text.encode()
            self.assertEqual(os.fsencode(as_name(text)), raw)
            self.assertTrue(is_canonical(text))
        for text in ("\0dcc3\0dca9", "a\0", "\0dce", "\0d83d\0de00", "\0DCE9", "\0e000"):
            self.assertFalse(is_canonical(text), ascii(text))
            header, body = read(*self.stored())
            body["tree"]["paths"][-1] = text
            with self.assertRaises(LedgerDamaged):
                decode(encode(header, body), where="here")

    def stored(self) -> tuple[str, Any]:
        entry = self.kept.backup(MemoryPlace({"a": b"1", "b": b"2"}))
        return os.path.join(
            self.kept.folder("entries"), entry.id + SUFFIX
        ), self.kept.storage.encryption


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
            change = restore(self.entry, self.card, ledger=self.kept)
            self.assertEqual(len(change.conflicts), 5)
            with self.assertRaisesRegex(DecisionNeeded, "second_names=True"):
                change.apply(self.kept, allow_loss=True)
            self.assertEqual(sorted(os.listdir(self.card.root)), ["save (2).sav", "there"])
            change = restore(
                self.entry, self.card, ledger=self.kept, only=lambda path: path == "save.sav"
            )
            change.apply(self.kept)
            self.assertEqual(files_in(self.card.root)["save.sav"], b"small")

    def test_under_second_names(self) -> None:
        """Every content arrives, none over what was there; undone it is as before."""
        before = files_in(self.card.root)
        with simulated_card(self.card.root):
            change = restore(self.entry, self.card, ledger=self.kept, second_names=True)
            done = change.apply(self.kept)
            found = files_in(self.card.root)
            self.assertEqual(
                sorted(found.values()), sorted([*TWINS.values(), b"1", *before.values()])
            )
            self.assertEqual(found["save (2).sav"], b"here before")
            self.assertEqual((found["Data/a"], found["data (2)/b"]), (b"1", b"2"))
            books = done.statements[1]
            self.assertEqual((books.counted_before, books.counted_after), (9, 9))
            reasons = {line.item: line.reason for line in books.lines}
            self.assertIn("where it is called save.sav", reasons["save (4).sav"])
            undo(done.record.id, ledger=self.kept).apply(self.kept)
        self.assertEqual(files_in(self.card.root), before)


def _apart(folder: str) -> bool:
    write(folder, {"probe": b""})
    return not os.path.exists(os.path.join(folder, "PROBE"))

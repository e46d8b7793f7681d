"""Laws of changing: apply then undo gives the same bytes; undoing the undo does it again."""

from __future__ import annotations

import os
import tempfile
import unittest
import zipfile
from typing import Any

from hypothesis import given

from kindred_ledger.changes import Changeset, actions_between, undo
from kindred_ledger.ledger import Ledger
from kindred_ledger.places import FolderPlace, MemoryPlace, ZipPlace, scan
from tests.support import change_to, contents, law, side_law, snapshot, write


class Laws(unittest.TestCase):
    @law
    @given(contents, contents)
    def test_apply_undo_redo(self, old: dict[str, Any], new: dict[str, Any]) -> None:
        """Any folder into any other, back, and forth again: kinds, bytes, modes and times hold."""
        with tempfile.TemporaryDirectory() as folder:
            root = f"{folder}/place"
            write(root, old)
            place = FolderPlace(root)
            ledger = Ledger.open(f"{folder}/ledger")
            before = snapshot(root, folder_times=True)
            change = change_to(place, new)
            done = change.apply(ledger)
            after = snapshot(root, folder_times=True)
            self.assertTrue(scan(place).same_content(change.after))
            self.assertEqual(
                {p: n for p, n in new.items() if n is not None}, _bytes_and_links(root)
            )
            books = done.statements[0]
            self.assertEqual(
                books.counted_before, len([n for n in before.values() if n[0] != "dir"])
            )
            self.assertEqual(books.counted_after, len([n for n in after.values() if n[0] != "dir"]))

            back = undo(done.record.id, ledger=ledger).apply(ledger, allow_loss=True)
            self.assertEqual(snapshot(root, folder_times=True), before)
            again = undo(back.record.id, ledger=ledger).apply(ledger, allow_loss=True)
            self.assertEqual(
                _without_times(snapshot(root, folder_times=True)), _without_times(after)
            )
            undo(again.record.id, ledger=ledger).apply(ledger, allow_loss=True)
            self.assertEqual(snapshot(root, folder_times=True), before)
            self.assertEqual(len(ledger.records()), 4)
            self.assertEqual([f for e in ledger.entries() for f in ledger.check(e)], [])
            self.assertEqual(os.listdir(f"{folder}/ledger/work"), [])
            ledger.index.close()

    @side_law
    @given(contents, contents)
    def test_an_archive_is_changed_and_brought_back(
        self, old: dict[str, Any], new: dict[str, Any]
    ) -> None:
        """A change inside a zip: its members are as planned; undoing gives the very same file."""
        with tempfile.TemporaryDirectory() as folder:
            path = f"{folder}/pack.zip"
            with zipfile.ZipFile(path, "w") as archive:
                for name, data in old.items():
                    if isinstance(data, bytes):
                        archive.writestr(zipfile.ZipInfo(name), data)
            with open(path, "rb") as file:
                before = file.read()
            files = MemoryPlace({p: d for p, d in new.items() if isinstance(d, bytes)})
            place = ZipPlace(path)
            now = scan(place)
            actions = tuple(actions_between(now, files.survey(), files, reason="x", metadata=False))
            ledger = Ledger.open(f"{folder}/ledger")
            done = Changeset(place, "test", "a test", now, actions).apply(ledger)
            with zipfile.ZipFile(path) as archive:
                found = {n: archive.read(n) for n in archive.namelist() if not n.endswith("/")}
            self.assertEqual(found, files.contents)
            undo(done.record.id, ledger=ledger).apply(ledger, allow_loss=True)
            with open(path, "rb") as file:
                self.assertEqual(file.read(), before)
            ledger.index.close()


def _bytes_and_links(root: str) -> dict[str, bytes | str]:
    found = snapshot(root)
    return {path: node[1] for path, node in found.items() if node[0] != "dir"}


def _without_times(found: dict[str, Any]) -> dict[str, Any]:
    return {path: node[:3] for path, node in found.items()}

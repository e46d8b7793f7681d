"""Times of folders: back with undo and restore where the folder holds what it held, else as they came."""

from __future__ import annotations

import os
from functools import partial
from typing import Any

from kindred_ledger.changes import restore, undo
from kindred_ledger.errors import PlaceChanged
from kindred_ledger.places import FolderPlace
from tests.support import Case, change_to, kindred, snapshot

OLD = {"saves/one.sav": b"1", "saves/deep/two.sav": b"2", "maps/bog.map": b"bog", "read.me": b"?"}
NEW = {"saves/one.sav": b"one", "saves/three.sav": b"3", "maps/bog.map": b"bog", "new/it": b"new"}
times = partial(snapshot, folder_times=True)
EARLY = 1_600_000_000 * 10**9 + 123_456_700


class FolderTimes(Case):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        self.at = self.place(OLD)
        for number, folder in enumerate(("saves/deep", "saves", "maps")):
            self.set_time(folder, EARLY + number * 10**9)

    def set_time(self, folder: str, when_ns: int) -> None:
        os.utime(self.at.path(folder), ns=(when_ns, when_ns))

    def time(self, folder: str) -> int:
        return os.stat(self.at.path(folder)).st_mtime_ns

    def change(self, contents: dict[str, Any] = NEW) -> Any:
        return change_to(self.at, contents).apply(self.kept)

    def test_a_change_and_its_undo(self) -> None:
        """A change leaves its own time in what it stirs, and only there; undo and redo bring all back."""
        before = times(self.at.root)
        done = self.change()
        after = times(self.at.root)
        self.assertGreater(self.time("saves"), EARLY + 10**12)
        self.assertEqual(after["maps"], before["maps"])
        back = undo(done.record.id, ledger=self.kept).apply(self.kept)
        self.assertEqual(times(self.at.root), before)
        undo(back.record.id, ledger=self.kept).apply(self.kept)
        self.assertEqual(self.time("saves"), after["saves"][3])

    def test_what_happened_since_is_told_by_the_time(self) -> None:
        """A folder in which something was made after the change keeps the time of that."""
        done = self.change()
        with open(self.at.path("saves/own.sav"), "wb") as file:
            file.write(b"mine")
        since = self.time("saves")
        undo(done.record.id, ledger=self.kept).apply(self.kept)
        self.assertNotEqual(self.time("saves"), EARLY + 10**9)
        self.assertGreaterEqual(self.time("saves") + 10**7, since)
        self.assertEqual(self.time("saves/deep"), EARLY)  # it had gone, and came back whole

    def test_a_change_that_fails_leaves_them_as_they_were(self) -> None:
        before = times(self.at.root)

        def refuse() -> None:
            raise PlaceChanged("not what was meant")

        with self.assertRaises(PlaceChanged):
            change_to(self.at, NEW, proof=refuse).apply(self.kept)
        self.assertEqual(times(self.at.root), before)

    def test_restore(self) -> None:
        """Back in place, into a new folder, and where only the times differ; and undone again."""
        before = times(self.at.root)
        entry = self.kept.backup(self.at)
        self.change()
        after = times(self.at.root)
        done = restore(entry, ledger=self.kept, exact=True).apply(self.kept, allow_loss=True)
        self.assertEqual(times(self.at.root), before)
        undo(done.record.id, ledger=self.kept).apply(self.kept)
        self.assertEqual(times(self.at.root), after)
        restore(entry, ledger=self.kept, exact=True).apply(self.kept, allow_loss=True)
        self.set_time("maps", EARLY * 2 - 10**18)
        moved = self.time("maps")
        alone = restore(entry, ledger=self.kept)
        self.assertEqual([action.path for action in alone.actions], ["maps"])
        done = alone.apply(self.kept)
        self.assertEqual(times(self.at.root), before)
        self.assertEqual(done.record.paths, ())
        undo(done.record.id, ledger=self.kept).apply(self.kept)
        self.assertEqual(self.time("maps"), moved)
        os.mkdir(self.path("new"))
        restore(entry, FolderPlace(self.path("new")), ledger=self.kept).apply(self.kept)
        self.assertEqual(times(self.path("new")), before)

    def test_a_part_restored_is_no_earlier_state(self) -> None:
        """A folder that holds something else than it did then keeps the time of this change."""
        entry = self.kept.backup(self.at)
        self.change()
        restore(entry, ledger=self.kept, only=lambda path: path == "saves/one.sav").apply(self.kept)
        self.assertGreater(self.time("saves"), EARLY + 10**12)

    def test_they_are_no_differences(self) -> None:
        """Between places, times of folders are not told, and an entry is not of another content for them."""
        kindred("backup", self.at.root, "--title", "x", folder=self.folder)
        self.set_time("maps", EARLY - 10**12)
        result = kindred("compare", "latest", self.at.root, folder=self.folder)
        self.assertEqual(result.returncode, 0, result.stdout + result.stderr)
        shown = kindred("restore", "latest", "--yes", folder=self.folder)
        self.assertIn(
            "only times and permissions differ, of 1 file or folder", shown.stdout, shown.stderr
        )
        self.assertEqual(self.time("maps"), EARLY + 2 * 10**9)

"""A handheld's card: what such a disk cannot hold, and what happens when it is pulled out."""

from __future__ import annotations

import os
import tempfile
import unittest
from collections import Counter
from typing import Any

from hypothesis import given

from kindred_ledger.changes import recover, restore, undo
from kindred_ledger.demo.handheld import simulated_card
from kindred_ledger.errors import Cancelled, KindredError, UnsafeName
from kindred_ledger.ledger import Ledger
from kindred_ledger.places import FolderPlace, check_portable, collisions, scan
from kindred_ledger.progress import Progress, Task
from kindred_ledger.statement import Outcome
from kindred_ledger.transfers import CarryChoices, carry_files
from tests.support import Case, change_to, contents, files_in, kindred, side_law, write

OLD = {"SAVES/EVENING.POCKET": b"old" * 4000, "SAVES/EVENING.BAK": b"older", "CONFIG": b"x"}
NEW = {"saves/evening.pocket": b"new" * 9000, "saves/night.pocket": b"night", "maps/bog": b"b"}


class Laws(unittest.TestCase):
    @side_law
    @given(contents, contents)
    def test_there_and_back(self, old: dict[str, Any], new: dict[str, Any]) -> None:
        """Any files onto a card that has any: bytes as planned, and undone as they were."""
        old, new = ({p: d for p, d in side.items() if isinstance(d, bytes)} for side in (old, new))
        if collisions({**old, **new}) or any(not _fits(path) for path in (*old, *new)):
            return
        with tempfile.TemporaryDirectory() as folder:
            write(f"{folder}/card", old)
            ledger = Ledger.open(f"{folder}/ledger")
            place = FolderPlace(f"{folder}/card")
            with simulated_card(place.root):
                before = files_in(place.root)
                done = change_to(place, new).apply(ledger)
                self.assertEqual(files_in(place.root), new)
                books = done.statements[0]
                self.assertEqual((books.counted_before, books.counted_after), (len(old), len(new)))
                undo(done.record.id, ledger=ledger).apply(ledger, allow_loss=True)
                self.assertEqual(files_in(place.root), before)
            ledger.index.close()


class OnACard(Case):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        self.card = self.place(OLD, "card")
        self.here = self.place(NEW, "here")
        self.choices = CarryChoices(overwrite=lambda path: True)

    def carry(self) -> Any:
        return carry_files(self.here, self.card, ledger=self.kept, choices=self.choices)

    def test_pulled_out_at_each_write(self) -> None:
        """Put back and recovered, it is as before or as intended; the next run goes on."""
        with simulated_card(self.card.root) as card:
            done = self.carry().apply(self.kept, allow_loss=True)
            undo(done.record.id, ledger=self.kept).apply(self.kept)
        total, after = card.changes, {**OLD, **_as_on_card(NEW)}
        self.assertEqual(files_in(self.card.root), OLD)
        outcomes: Counter[str] = Counter()
        for at in range(1, total):
            with simulated_card(self.card.root, pulled_at=at, unmounts=at % 3 == 0):
                try:
                    self.carry().apply(self.kept, allow_loss=True)
                    outcomes["done"] += 1
                except KindredError as error:
                    outcomes["refused"] += 1
                    self.assertTrue(error.remedy, at)
            with simulated_card(self.card.root):
                outcomes += Counter(one.outcome for one in recover(self.kept, back=at % 2 == 0))
                now = {p: d for p, d in files_in(self.card.root).items() if "kindred-work" not in p}
                self.assertTrue(
                    now in (OLD, after), (at, sorted((p, len(d), d[:3]) for p, d in now.items()))
                )
                change = self.carry()
                if change.actions:
                    change.apply(self.kept, allow_loss=True)
                self.assertEqual(files_in(self.card.root), after, at)
                self.assertEqual(os.listdir(self.path("ledger", "work")), [])
                undo(ledger=self.kept).apply(self.kept)
        self.assertTrue({"finished", "taken back", "refused"} <= outcomes.keys(), outcomes)

    def test_a_slow_one(self) -> None:
        """It is told how far it is, in bytes; and can be stopped in the middle, with nothing changed."""
        total = sum(map(len, NEW.values()))
        told = _Watching()
        with simulated_card(self.card.root, bytes_per_second=500_000):
            change = self.carry()
            change.apply(self.kept, allow_loss=True, progress=told)
            self.assertEqual(
                [done for done in told.writing if done], sorted(set(told.writing) - {0})
            )
            self.assertEqual((told.writing[-1], told.total), (total, total))
            undo(ledger=self.kept).apply(self.kept)
            with self.assertRaises(Cancelled):
                self.carry().apply(
                    self.kept, allow_loss=True, progress=_Watching(stop_at=total // 2)
                )
        self.assertEqual(files_in(self.card.root), OLD)
        self.assertEqual(os.listdir(self.path("ledger", "work")), [])

    def test_what_it_cannot_hold(self) -> None:
        """Links and names are held back and told; what insists on them is refused before anything."""
        write(self.here.root, {"link": "saves", "what?.cfg": b"odd", "logs/10:04": b"odd"})
        with simulated_card(self.card.root):
            change = self.carry()
            held = {
                x.item: x.reason
                for x in change.statements[0].lines
                if x.outcome is Outcome.LEFT_ALONE
            }
            self.assertEqual(sorted(held), ["link", "logs/10:04", "what?.cfg"])
            self.assertEqual(held["link"], "a link, and a FAT disk holds none")
            change.apply(self.kept, allow_loss=True)
            with self.assertRaisesRegex(UnsafeName, "link is a link, and a FAT disk holds none"):
                change_to(self.card, {"link": "saves"})
            entry = self.kept.backup(self.here)
            os.mkdir(self.path("card", "BACK"))
            back = restore(entry, FolderPlace(self.path("card", "BACK")), ledger=self.kept)
            kinds = Counter(line.outcome for line in back.statements[0].lines)
            self.assertEqual(kinds[Outcome.LEFT_ALONE], 3)

    def test_times_and_permissions_are_no_differences(self) -> None:
        """Times in steps of two seconds, an hour off as clocks go, no permissions: nothing to be done."""
        with simulated_card(self.card.root):
            self.carry().apply(self.kept, allow_loss=True)
            entry = self.kept.backup(self.card)
            for path in self.kept.tree(entry).files:
                stat = os.stat(self.card.path(path))
                self.assertEqual(
                    stat.st_mtime_ns % 2_000_000_000 if path in _as_on_card(NEW) else 0, 0
                )
                os.utime(
                    self.card.path(path), ns=(stat.st_atime_ns, stat.st_mtime_ns + 1_000_000_000)
                )
            self.assertEqual(restore(entry, self.card, ledger=self.kept).actions, ())
            self.assertEqual(self.carry().actions, ())
            for path in self.kept.tree(entry).files:
                os.utime(self.card.path(path), (0, os.stat(self.card.path(path)).st_mtime + 3600))
            self.assertEqual(self.carry().actions, ())
            self.assertTrue(scan(self.card).same_content(self.kept.tree(entry)))

    def test_live_data_only(self) -> None:
        """By pattern: the live files, not the device's own backup copies; either way."""
        with simulated_card(self.card.root):
            done = kindred(
                "carry", "card", "back", "--only", "*.POCKET", "--yes", folder=self._ready("back")
            )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(
            files_in(self.path("back")), {k: v for k, v in OLD.items() if "POCKET" in k}
        )

    def _ready(self, name: str) -> str:
        os.mkdir(self.path(name))
        return self.folder


class _Watching(Progress):
    """Notes how far writing is, and may stop it there."""

    def __init__(self, stop_at: int = 0) -> None:
        super().__init__()
        self.writing: list[int] = []
        self.total = 0
        self._stop_at = stop_at

    def moved(self, task: Task) -> None:
        if task.label == "writing":
            self.writing.append(task.done)
            self.total = task.total
            if self._stop_at and task.done >= self._stop_at:
                self.cancel()


def _fits(path: str) -> bool:
    try:
        return bool(check_portable(path))
    except UnsafeName:
        return False


def _as_on_card(files: dict[str, bytes]) -> dict[str, bytes]:
    """Return files under the names the card has for them."""
    known = {path.casefold(): path for path in OLD}
    return {
        known.get(path.casefold(), path.replace("saves/", "SAVES/")): data
        for path, data in files.items()
    }


if __name__ == "__main__":
    unittest.main()

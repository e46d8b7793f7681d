"""Learning from a move by hand: what the drafted runbook does again is what was done."""

from __future__ import annotations

import os
import shutil
import unittest
import zipfile

from kindred_ledger.cards import Card
from kindred_ledger.changes import restore
from kindred_ledger.errors import UsageError
from kindred_ledger.ledger import EntryPlace
from kindred_ledger.migrate import (
    LearnedMove,
    Migration,
    MigrationConsents,
    StepResult,
    choose_migration,
    learn_move,
    run_migration,
)
from kindred_ledger.places import open_place
from tests.migrate.support import context_of, person
from tests.support import PlayCase, files_in


class ByHand(PlayCase):
    """1.4 to 2.0 as people do it: copied over the top, own tides put back, converted."""

    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        self.entry = self.kept.backup(self.install())
        self.top = self.path("mossferry")
        self.tides = os.path.join(self.top, "data", "tides.ini")

    def by_hand(self, *, keep_tides: bool) -> None:
        with open(self.tides, "rb") as file:
            tides = file.read()
        with zipfile.ZipFile(self.new_zip) as archive:
            archive.extractall(self.path("unpacked"))
        inner = self.path("unpacked", *os.listdir(self.path("unpacked")))
        shutil.copytree(inner, self.top, dirs_exist_ok=True)
        shutil.copy(self.tides, self.path("tides of the release"))
        if keep_tides:
            with open(self.tides, "wb") as file:
                file.write(tides)
        self.kindred("convert", "mossferry", "--yes", "--allow-loss")

    def learned(self, *, releases: bool = True) -> LearnedMove:
        place = self.kept.place(self.entry)
        assert isinstance(place, EntryPlace)
        return learn_move(
            place,
            self.install(),
            ledger=self.kept,
            old=open_place(self.old_zip) if releases else None,
            release=open_place(self.new_zip) if releases else None,
        )

    def again(self, learned: LearnedMove) -> dict[str, bytes]:
        """Put all back, do it by the draft in a card, and return what came out."""
        back = restore(self.entry, ledger=self.kept, exact=True)
        back.apply(self.kept, allow_loss=True)
        with open(self.path("mossferry.card.toml"), "a", encoding="utf-8") as file:
            file.write("\n" + learned.to_toml())
        Card.load(self.path("mossferry.card.toml"))
        with context_of(self.folder, "mossferry") as context:
            choice = choose_migration(context, self.top, self.new_zip)
            self.assertEqual(choice.runbook.name, "1.4 to 2.0")
            migration = Migration.begin(
                choice.install, choice.release, choice.to, choice.runbook, context=context,
                old=self.old_zip, consents=MigrationConsents(allow_loss=True),
            )  # fmt: skip

            def act(result: StepResult) -> bool:
                if result.step == "take back by hand":
                    shutil.copy(self.path("tides of the release"), self.tides)
                    by_hand.append(result.step)
                    return False
                return person(migration)(result)

            by_hand: list[str] = []
            done = run_migration(migration, context, person=act)
            if by_hand:
                said = MigrationConsents(done=("take back by hand",))
                done = run_migration(migration, context, said, person=act)
            self.assertEqual(done.status.ended, "done", done)
        return files_in(self.top)

    def test_the_draft_does_it_again(self) -> None:
        """Whether an edit of both sides was kept or given up; but what was only left over goes."""
        for keep in (True, False):
            with self.subTest(keep_tides=keep):
                self.tearDown()
                self.setUp()
                self.by_hand(keep_tides=keep)
                wanted = files_in(self.top)
                learned = self.learned()
                self.assertEqual(learned.untold, ())
                self.assertEqual("program/data/tides.ini" in learned.kept, keep)
                self.assertEqual("program/data/tides.ini" in learned.reverted, not keep)
                left = {path.removeprefix("program/") for path in learned.left_over}
                self.assertTrue(left and all(path.startswith("data/old_charts/") for path in left))
                converted = sum(map(len, learned.converted.values()))
                self.assertEqual(converted, 6)
                found = self.again(learned)
                self.assertEqual(
                    {p: d for p, d in found.items() if not p.startswith("ledger")},
                    {path: data for path, data in wanted.items() if path not in left},
                )

    def test_files_of_one_content_that_have_other_names_now(self) -> None:
        """Which became which, nobody can tell; one alone is told."""
        saves = self.path("mossferry", "userdata", "saves")
        for names in (("a", "b"), ("lone",)):
            for name in names:
                with open(os.path.join(saves, f"{name}.note"), "wb") as file:
                    file.write(names[0].encode())
        self.entry = self.kept.backup(self.install())
        self.by_hand(keep_tides=True)
        for name in ("a", "b", "lone"):
            old = os.path.join(saves, f"{name}.note")
            os.rename(old, os.path.join(saves, f"{name}.kept"))
        learned = self.learned()
        self.assertEqual(learned.moved, {"user/saves/lone.note": "user/saves/lone.kept"})
        self.assertEqual(learned.untold, ("user/saves/a.note", "user/saves/b.note"))
        self.assertEqual(learned.removed, ())

    def test_without_the_releases_nothing_is_guessed(self) -> None:
        """Of program files it is not said whose they are."""
        self.by_hand(keep_tides=True)
        learned = self.learned(releases=False)
        told = (
            *learned.kept,
            *learned.overwritten,
            *learned.own,
            *learned.removed,
            *learned.untold,
        )
        self.assertFalse([path for path in told if path.startswith("program/data/")])

    def test_what_nobody_can_tell_is_named(self) -> None:
        """A program file that is neither as it was nor as any release has it; one removed; one moved."""
        self.by_hand(keep_tides=True)
        with open(os.path.join(self.top, "data", "harbours.json"), "ab") as file:
            file.write(b"\n")
        user = os.path.join(self.top, "userdata")
        os.remove(os.path.join(user, "pictures", "evening-0.ppm"))
        os.makedirs(os.path.join(user, "gallery"))
        os.rename(
            os.path.join(user, "pictures", "evening-1.ppm"),
            os.path.join(user, "gallery", "one.ppm"),
        )
        learned = self.learned()
        self.assertEqual(learned.untold, ("program/data/harbours.json",))
        self.assertEqual(learned.removed, ("user/pictures/evening-0.ppm",))
        self.assertEqual(learned.moved, {"user/pictures/evening-1.ppm": "user/gallery/one.ppm"})
        self.assertIn("nobody can tell", learned.to_toml())
        self.assertIn("evening-0.ppm", str(learned.runbook().step("remove by hand")))

    def test_no_move(self) -> None:
        with self.assertRaisesRegex(UsageError, "nothing was moved"):
            self.learned()


if __name__ == "__main__":
    unittest.main()

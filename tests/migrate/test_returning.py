"""Returning to an older build: its program and its data together, or what is missing, and where it is."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import unittest

from kindred_ledger.errors import UsageError
from kindred_ledger.migrate import (
    Migration,
    MigrationChoice,
    MigrationConsents,
    choose_return,
    plan_migration,
    run_migration,
)
from kindred_ledger.planning.context import Context
from tests.migrate.support import context_of, person
from tests.support import PlayCase, files_in

_ALL = MigrationConsents(("as-stored",), allow_loss=True)


class Returning(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.context: Context = context_of(self.folder, "mossferry")
        self.addCleanup(self.context.close)
        self.ledger_ = self.context.ledger
        self.before = files_in(self.path("mossferry"))

    def updated(self) -> None:
        """Bring the install to 2.0, as anybody may, and play."""
        for args in (
            ("update", "mossferry", "downloads/mossferry-2.0.zip", "--yes"),
            ("convert", "mossferry", "--yes", "--allow-loss"),
        ):
            self.kindred(*args)
        save = self.path("mossferry", "userdata", "saves", "midwinter.voyage")
        shutil.copy(save, save.replace("midwinter", "played-in-2.0"))

    def returned(self) -> Migration:
        choice = choose_return(self.context, self.path("mossferry"), "1.4")
        migration = self.begin(choice)
        done = run_migration(migration, self.context, person=person(migration))
        self.assertEqual(done.status.ended, "done", done)
        return migration

    def begin(self, choice: MigrationChoice) -> Migration:
        return Migration.begin(
            choice.install, choice.release, choice.to, choice.runbook, context=self.context,
            consents=_ALL,
        )  # fmt: skip

    def judged(self) -> int:
        game = [sys.executable, self.path("mossferry", "mossferry.py")]
        return subprocess.run(game, capture_output=True, check=False).returncode

    def test_from_a_whole_entry(self) -> None:
        """Byte for byte as it was stored; and forward again as one."""
        self.kindred("backup", "mossferry")
        self.updated()
        newer = files_in(self.path("mossferry"))
        migration = self.returned()
        self.assertEqual(files_in(self.path("mossferry")), self.before)
        migration.go_back(self.context, allow_loss=True)
        self.assertEqual(files_in(self.path("mossferry")), newer)

    def test_from_data_and_the_shelf(self) -> None:
        """Where only the data were stored the program comes from its release."""
        self.kindred("backup", "mossferry", "--category", "saves", "--category", "settings")
        self.kindred("shelf", "add", "downloads/mossferry-1.4.zip")
        self.updated()
        self.returned()
        now = files_in(self.path("mossferry"))
        for path, data in self.before.items():
            if path.startswith(("userdata/saves/", "userdata/settings")):
                self.assertEqual(now[path], data, path)
        self.assertIn(b"1.4", now["version.txt"])
        self.assertEqual(
            self.judged(), 1
        )  # what was played in 2.0 is still there, and told by the game
        os.remove(self.path("mossferry", "userdata", "saves", "played-in-2.0.voyage"))
        self.assertEqual(self.judged(), 0)

    def test_it_asks_for_what_was_played_since(self) -> None:
        """That the data are older is agreed to by name, whatever else is allowed."""
        self.kindred("backup", "mossferry")
        self.updated()
        choice = choose_return(self.context, self.path("mossferry"), "1.4")
        plan = plan_migration(
            choice.install, choice.release, choice.to, choice.runbook, context=self.context
        )
        left = plan.unallowed(MigrationConsents(allow_loss=True))
        self.assertEqual([each.code for each in left], ["as-stored"])
        self.assertIn("what was played since", left[0].what)

    def test_what_is_missing_is_named(self) -> None:
        """The program, the data, or both, with where each is to be had."""
        self.updated()
        for args, what, where in (
            ((), "neither its program nor its data", "shelf fetch 1.4"),
            (
                ("shelf", "add", "downloads/mossferry-1.4.zip"),
                "no data of this install",
                "release:",
            ),
        ):
            if args:
                self.kindred(*args)
            with self.assertRaisesRegex(UsageError, f"(?s){what}.*{where}"):
                choose_return(self.context, self.path("mossferry"), "1.4")
        with self.assertRaisesRegex(UsageError, "is 2.0 already"):
            choose_return(self.context, self.path("mossferry"), "2.0")

    def test_the_program_alone_is_missing(self) -> None:
        self.kindred("backup", "mossferry", "--category", "saves")
        self.updated()
        with self.assertRaisesRegex(UsageError, "(?s)its program is not.*shelf"):
            choose_return(self.context, self.path("mossferry"), "1.4")


if __name__ == "__main__":
    unittest.main()

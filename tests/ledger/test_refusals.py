"""A disk that refuses: whichever write of a backup, an import or an export fails, nothing is harmed."""

from __future__ import annotations

import errno
import os
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor

from kindred_ledger.ledger import Ledger
from kindred_ledger.places import FolderPlace
from tests.support import ROOT, Case, snapshot, write

_FAILING = os.path.join(ROOT, "tests", "changes", "failing.py")
_CODES = (errno.ENOSPC, errno.EACCES, errno.EIO)
_POINTS = 16  # more than any of these commands makes changes to the disk


class Refused(Case):
    def run_failing(self, folder: str, point: int, *args: str) -> tuple[int, str]:
        done = subprocess.run(
            [sys.executable, _FAILING, str(point), str(_CODES[point % 3]), *args, "--json"],
            cwd=folder,
            env={**os.environ, "KINDRED_LEDGER": "ledger", "PYTHONPATH": ROOT},
            capture_output=True,
            text=True,
            check=False,
        )
        return done.returncode, done.stdout + done.stderr

    def judge(self, point: int, *args: str) -> str:
        """Run a command in a folder of its own and say how it ended."""
        folder = self.folder_of(point, args[-1])
        write(os.path.join(folder, "place"), {"a": b"new", "large": os.urandom(5 << 20)})
        ledger = Ledger.open(os.path.join(folder, "ledger"))
        write(os.path.join(folder, "first"), {"a": b"old", "b": b"b" * 1000})
        first = ledger.backup(FolderPlace(os.path.join(folder, "first")))
        before = snapshot(os.path.join(folder, "place"))
        status, out = self.run_failing(folder, point, *args)
        self.assertNotIn("Traceback", out)
        self.assertEqual(snapshot(os.path.join(folder, "place")), before)
        again = Ledger.open(os.path.join(folder, "ledger"))
        for entry in again.entries():
            self.assertEqual(again.check(entry), [], out)
        self.assertIn(first.id, [entry.id for entry in again.entries()])
        outcome = f"{status} {len(again.entries())}"
        if status:
            self.assertIn('"error"', out)
            self.assertEqual(self.run_failing(folder, 0, *args)[0], 0)
            left = os.listdir(os.path.join(folder, "ledger", "work"))
            self.assertEqual([name for name in left if not name.endswith(".lock")], [], out)
        return outcome

    def folder_of(self, point: int, name: str) -> str:
        return self.path(f"{name} {point}")

    def judge_all(self, *args: str) -> list[str]:
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            return list(pool.map(lambda point: self.judge(point, *args), range(1, _POINTS)))

    def test_a_backup(self) -> None:
        """Either there is one entry more, whole, or it says why not; and then it can be run again."""
        outcomes = self.judge_all("backup", "place")
        self.assertLessEqual(set(outcomes), {"0 2", "4 1", "4 2", "5 1"})
        self.assertGreater(outcomes.count("4 1"), 3, outcomes)
        self.assertEqual(outcomes[-1], "0 2", "not every change to the disk was tried")

    def test_an_export(self) -> None:
        """The archive is there whole, or not at all."""
        for args in (("export", "latest", "out.zip"), ("export", "latest", "out.tar.zst")):
            outcomes = self.judge_all(*args)
            self.assertLessEqual(set(outcomes), {"0 1", "4 1"})
            self.assertIn("4 1", outcomes)
            self.assertEqual(outcomes[-1], "0 1")
            for point in range(1, _POINTS):
                there = os.listdir(self.folder_of(point, args[-1]))
                self.assertEqual(sorted(there), ["first", "ledger", args[-1], "place"])

"""A disk that refuses, a process that dies: at whichever write of a command, nothing is harmed."""

from __future__ import annotations

import errno
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

from kindred_ledger.ledger import Ledger, verify
from kindred_ledger.places import FolderPlace
from tests.support import ROOT, Case, snapshot, write

_FAILING = os.path.join(ROOT, "tests", "changes", "failing.py")
_KILLED = os.path.join(ROOT, "tests", "changes", "killed.py")
_CODES = (errno.ENOSPC, errno.EACCES, errno.EIO)
_MOST_POINTS = 60  # more changes than a mirror, healing or retiring makes
_AT_ONCE = 4
_POINTS = 16  # more than any of these commands makes changes to the disk


class Harmed(Case):
    """Runs commands that are harmed at one change to the disk: it is refused, or they die there."""

    die = False

    def run_failing(self, folder: str, point: int, *args: str) -> tuple[int, str]:
        refused = [_FAILING, str(point), str(_CODES[point % 3])]
        harm = [_KILLED, str(point)] if self.die and point else refused
        done = subprocess.run(
            [sys.executable, *harm, *args, "--json"],
            cwd=folder,
            env={
                **os.environ,
                "KINDRED_LEDGER": "ledger",
                "PYTHONPATH": ROOT,
                "PYTHONDONTWRITEBYTECODE": "1",  # that would be a change to the disk, too
            },
            capture_output=True,
            text=True,
            check=False,
        )
        return done.returncode, done.stdout + done.stderr


class Refused(Harmed):
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
        for name in ("out.zip", "out.tar.zst"):
            args = ("ledger", "export", "latest", name)
            outcomes = self.judge_all(*args)
            self.assertLessEqual(set(outcomes), {"0 1", "4 1"})
            self.assertIn("4 1", outcomes)
            self.assertEqual(outcomes[-1], "0 1")
            for point in range(1, _POINTS):
                there = os.listdir(self.folder_of(point, args[-1]))
                self.assertEqual(sorted(there), ["first", "ledger", args[-1], "place"])


class Copies(Harmed):
    def test_a_mirror(self) -> None:
        """What was copied so far is whole, the source as it was; and then it can be run again."""

        def judge(point: int) -> int:
            folder = self.two_ledgers(point)
            before = snapshot(os.path.join(folder, "ledger", "packs"))
            status, out = self.run_failing(folder, point, "ledger", "mirror", "other")
            self.assertNotIn("Traceback", out)
            self.assertEqual(snapshot(os.path.join(folder, "ledger", "packs")), before)
            if os.path.exists(os.path.join(folder, "other", "ledger.toml")):
                self.assert_whole(os.path.join(folder, "other"))
            self.assertEqual(self.run_failing(folder, 0, "ledger", "mirror", "other")[0], 0, out)
            self.assert_whole(os.path.join(folder, "other"), entries=2)
            return status

        self.assert_each_step(judge)

    def test_healing(self) -> None:
        """Whichever step is refused, nothing that was whole is lost, and the next run mends it."""

        def judge(point: int) -> int:
            folder = self.two_ledgers(point)
            self.assertEqual(self.run_failing(folder, 0, "ledger", "mirror", "other")[0], 0)
            packs = os.path.join(folder, "ledger", "packs")
            with open(os.path.join(packs, min(os.listdir(packs))), "r+b") as file:
                file.seek(30)
                file.write(b"damage")
            source = ["--mirror", "other"] if point % 2 else ["--look", "place"]
            status, out = self.run_failing(folder, point, "ledger", "heal", *source)
            self.assertNotIn("Traceback", out)
            again, out = self.run_failing(folder, 0, "ledger", "heal", "--mirror", "other")
            self.assertEqual(again, 0, out)
            self.assert_whole(os.path.join(folder, "ledger"), entries=2)
            return status

        self.assert_each_step(judge)

    def test_putting_names_right(self) -> None:
        """However far it came, no file is lost: the next run, without a mirror, goes on."""

        def judge(point: int) -> int:
            folder = self.two_ledgers(point)
            for kind in ("packs", "entries"):
                where = os.path.join(folder, "ledger", kind)
                first, last = (os.path.join(where, name) for name in sorted(os.listdir(where)))
                os.rename(first, os.path.join(folder, "between"))
                os.rename(last, first)
                os.rename(os.path.join(folder, "between"), last)
            shutil.rmtree(os.path.join(folder, "place"))  # nothing can be kept again from there
            status, out = self.run_failing(folder, point, "ledger", "heal")
            self.assertNotIn("Traceback", out)
            self.assertEqual(self.run_failing(folder, 0, "ledger", "heal")[0], 0, out)
            self.assert_whole(os.path.join(folder, "ledger"), entries=2)
            self.assertFalse(os.path.exists(os.path.join(folder, "ledger", "damaged")))
            return status

        self.assert_each_step(judge)

    def test_retiring(self) -> None:
        """Whichever step is refused, what stays is whole; the next run gives back what is left."""

        def judge(point: int) -> int:
            folder = self.two_ledgers(point)
            os.remove(
                os.path.join(folder, "place", "b1")
            )  # most of its pack is then needed no more
            self.assertEqual(self.run_failing(folder, 0, "backup", "place")[0], 0)
            status, out = self.run_failing(
                folder, point, "ledger", "retire", "--last", "1", "--yes"
            )
            self.assertNotIn("Traceback", out)
            self.assert_whole(os.path.join(folder, "ledger"))
            again, out = self.run_failing(folder, 0, "ledger", "retire", "--last", "1", "--yes")
            self.assertEqual(again, 0, out)
            self.assert_whole(os.path.join(folder, "ledger"), entries=1)
            kept = sum(
                e.stat().st_size for e in os.scandir(os.path.join(folder, "ledger", "packs"))
            )
            self.assertLess(kept, 15_000, "the space of what is gone is not")
            return status

        self.assert_each_step(judge)

    def assert_each_step(self, judge: Callable[[int], int]) -> None:
        """Refuse each change to the disk in turn, until there are no more."""
        harmed: list[int] = []
        harmless = 0  # batches: what the cache is refused, at the begin, harms nothing
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            for first in range(1, _MOST_POINTS, _AT_ONCE):
                points = range(first, first + _AT_ONCE)
                statuses = zip(points, pool.map(judge, points), strict=True)
                found = [point for point, status in statuses if status in (4, -signal.SIGKILL)]
                harmed += found
                harmless = 0 if found else harmless + 1
                if harmless == 3:
                    break
        self.assertGreater(len(harmed), 4)
        self.assertLess(harmed[-1], _MOST_POINTS - _AT_ONCE, "not every change was tried")

    def two_ledgers(self, point: int) -> str:
        """Return a folder with a place and a ledger of two entries of it."""
        folder = self.path(f"{self.id()} {point}")
        ledger = Ledger.open(os.path.join(folder, "ledger"))
        for turn in range(2):
            write(os.path.join(folder, "place"), {"a": b"%d" % turn, f"b{turn}": os.urandom(9000)})
            ledger.backup(FolderPlace(os.path.join(folder, "place")))
        ledger.index.close()
        return folder

    def assert_whole(self, root: str, *, entries: int | None = None) -> None:
        ledger = Ledger.open(root)
        found = verify(ledger)
        ledger.index.close()
        self.assertEqual((found.findings, found.costs), ((), ()))
        if entries is not None:
            self.assertEqual(found.entries, entries)


class CopiesByTheDying(Copies):
    """The same, by processes that are killed at each step."""

    die = True

"""Places in use: databases that are open elsewhere, programs that run from them."""

from __future__ import annotations

import os
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from kindred_ledger.changes import restore
from kindred_ledger.errors import DecisionNeeded, PlaceChanged
from kindred_ledger.places import FolderPlace, running_in
from kindred_ledger.places.databases import capture
from kindred_ledger.places.running import _from_proc, _from_psutil
from tests.support import Case

# Writes rows into a database, says so, and does as told: keeps it open, or dies in the middle.
_WRITER = """
import os, sqlite3, sys
path, mode, end = sys.argv[1:]
db = sqlite3.connect(path)
db.execute("PRAGMA journal_mode=" + mode)
db.execute("CREATE TABLE crates (weight)")
db.executemany("INSERT INTO crates VALUES (?)", [(n,) for n in range(500)])
db.commit()
if end != "idle":
    db.execute("PRAGMA cache_size = 1")  # so that what is not committed reaches the disk
    db.executemany("INSERT INTO crates VALUES (?)", [("x" * 1000,) for n in range(500)])
print("written", flush=True)
if end == "dies":
    os._exit(1)
sys.stdin.read()
"""


@contextmanager
def process(*command: str) -> Iterator[subprocess.Popen[str]]:
    with subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    ) as running:
        try:
            assert running.stdout is not None
            running.stdout.readline()
            yield running
        finally:
            running.kill()


_AT_COPIES: list[Callable[[], None]] = []
_HOOKED: list[bool] = []


@contextmanager
def at_each_copy(act: Callable[[], None]) -> Iterator[None]:
    """Do something whenever a file is about to be copied within the block."""

    def hook(event: str, args: tuple[object, ...]) -> None:
        if event == "shutil.copyfile":
            for one in _AT_COPIES:
                one()

    if not _HOOKED:
        _HOOKED.append(True)
        sys.addaudithook(hook)
    _AT_COPIES.append(act)
    try:
        yield
    finally:
        _AT_COPIES.clear()


class Databases(Case):
    def rows(self, path: str) -> int:
        with closing(sqlite3.connect(path)) as db:
            self.assertEqual(db.execute("PRAGMA integrity_check").fetchone(), ("ok",))
            return int(db.execute("SELECT count(*) FROM crates").fetchone()[0])

    def look(self, folder: str) -> dict[str, tuple[bytes, int]]:
        return {
            path.name: (path.read_bytes(), path.stat().st_mtime_ns)
            for path in Path(folder).iterdir()
        }

    def test_one_moment_of_it_is_kept(self) -> None:
        """Open, in the middle of a transaction or left by a crash, in either mode: what was committed.

        The place is not touched, not even the files beside the database.
        """
        ledger = self.ledger()
        for mode in ("wal", "delete"):
            for end in ("idle", "writes", "dies", "lost"):
                folder = self.path(f"{mode} {end}")
                os.mkdir(folder)
                save = os.path.join(folder, "crates?.save")  # a name that needs quoting in a URI
                with process(
                    sys.executable, "-c", _WRITER, save, mode, end.replace("lost", "dies")
                ):
                    if end == "lost" and mode == "wal":
                        os.remove(save + "-shm")
                    before = self.look(folder)
                    entry = ledger.backup(FolderPlace(folder))
                    self.assertEqual(self.look(folder), before)
                    self.assertEqual(entry.unsettled, ())
                beside = len(before) > 1
                self.assertEqual(beside, mode == "wal" or end != "idle")
                self.assertEqual(entry.captured, ("crates?.save",) if beside else ())
                self.assertEqual(ledger.tree(entry).files, ("crates?.save",))
                back = self.path(f"{mode} {end} back")
                os.mkdir(back)
                restore(entry, FolderPlace(back), ledger=ledger).apply(ledger)
                self.assertEqual(self.rows(os.path.join(back, "crates?.save")), 500)
        self.assertEqual(os.listdir(self.path("ledger", "work")), [])

    def test_what_lies_beside_goes_with_its_database(self) -> None:
        """An older state is brought back over a newer one: its log must not be applied to it."""
        ledger = self.ledger()
        place = self.place({})
        save = place.path("crates.save")
        with process(sys.executable, "-c", _WRITER, save, "wal", "idle"):
            entry = ledger.backup(place)
        with closing(sqlite3.connect(save)) as db:
            db.execute("DELETE FROM crates")
            db.commit()
            newer = {name: Path(save + name).read_bytes() for name in ("", "-wal", "-shm")}
        for name, data in newer.items():
            Path(save + name).write_bytes(data)
        self.assertEqual(self.rows_of_copy(place.root), 0)
        for name, data in newer.items():
            Path(save + name).write_bytes(data)
        change = restore(entry, place, ledger=ledger)
        change.apply(ledger)
        self.assertEqual(sorted(os.listdir(place.root)), ["crates.save"])
        self.assertEqual(self.rows(save), 500)

    def test_files_that_change_while_they_are_copied_are_no_moment(self) -> None:
        """Where SQLite is not let in, a copy counts only if all of it held still meanwhile."""
        save = self.path("crates.save")
        os.mkdir(self.path("room"))
        with process(sys.executable, "-c", _WRITER, save, "delete", "writes"):
            capture(save, self.path("captured"), self.path("room"))
            self.assertEqual(self.rows(self.path("captured")), 500)
            told = self.assertRaisesRegex(PlaceChanged, "changed while it was read")
            with at_each_copy(lambda: os.utime(save)), told:
                capture(save, self.path("captured"), self.path("room"))

    def rows_of_copy(self, folder: str) -> int:
        copy = self.path("copy")
        shutil.copytree(folder, copy)
        return self.rows(os.path.join(copy, "crates.save"))

    def test_what_only_looks_like_a_database_is_kept_as_it_is(self) -> None:
        """A damaged one, and files that are named like what lies beside one."""
        files = {
            "map.save": b"SQLite format 3\0" + bytes(range(256)) * 8,
            "map.save-wal": b"log",
            "notes": b"n",
            "notes-journal": b"of the voyage",
        }
        ledger = self.ledger()
        entry = ledger.backup(self.place(files))
        self.assertEqual(ledger.tree(entry).files, tuple(sorted(files)))
        self.assertEqual((entry.captured, entry.unsettled), ((), ()))


class Programs(Case):
    def test_a_program_that_runs_from_a_place_is_named(self) -> None:
        """By where it lies, by what it was started with, by what it has open; ours is left out."""
        place = self.place({"data/chart": b"x", "ferry.py": b"print(1, flush=True); input()"})
        program = place.path("ferry")
        shutil.copy(shutil.which("sleep") or "", program)
        started = [sys.executable, place.path("ferry.py")]
        holds = "import sys; f = open(sys.argv[1][::-1]); print(1, flush=True); input()"
        opened = [sys.executable, "-c", holds, place.path("data/chart")[::-1]]
        self.assertEqual(running_in([place.root]), [])
        with open(place.path("data/chart")):
            self.assertEqual(running_in([place.root]), [])
        for command, tie in (
            ([*started], "started with ferry.py"),
            ([*opened], "which has chart open"),
        ):
            with process(*command) as running:
                (found,) = running_in([self.path("nowhere"), place.root])
                self.assertEqual((found.process, found.tie), (running.pid, tie))
            self.assertEqual(running_in([place.root]), [])
        with subprocess.Popen([program, "60"]) as sleeper:
            (found,) = running_in([place.root])
            self.assertEqual(str(found), f"ferry (process {sleeper.pid}), whose program lies here")
            for source in (_from_proc, _from_psutil):
                self.assertIn(program, [one.program for one in source()])
            entry = self.ledger().backup(place)
            self.assertEqual(entry.running, (str(found),))
            sleeper.kill()

    def test_nothing_is_changed_under_a_running_program(self) -> None:
        """A restore is refused, names it, and goes ahead when told to."""
        ledger = self.ledger()
        place = self.place({"chart": b"old"})
        entry = ledger.backup(place)
        Path(place.path("chart")).write_bytes(b"newer")
        shutil.copy(shutil.which("sleep") or "", place.path("ferry"))
        with subprocess.Popen([place.path("ferry"), "60"]) as sleeper:
            change = restore(entry, place, ledger=ledger)
            with self.assertRaises(DecisionNeeded) as caught:
                change.apply(ledger)
            self.assertIn("ferry (process", str(caught.exception))
            self.assertEqual(Path(place.path("chart")).read_bytes(), b"newer")
            change.apply(ledger, while_running=True)
            self.assertEqual(Path(place.path("chart")).read_bytes(), b"old")
            sleeper.kill()

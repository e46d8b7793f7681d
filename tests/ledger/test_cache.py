"""The cache is only a cache: damaged, unwritable or gone, nothing changes but time."""

from __future__ import annotations

import contextlib
import os
import shutil
import unittest
from collections.abc import Callable
from unittest import mock

from kindred_ledger.changes import restore
from kindred_ledger.errors import PlaceError
from kindred_ledger.ledger import Ledger
from kindred_ledger.ledger.cache_sum import write_sum
from kindred_ledger.places import FolderPlace
from tests.support import (
    Case,
    files_in,
    kindred,
    small_disk,
    texts,
    unprivileged,
    write,
)

_INDEX = "index.sqlite"
# What is said of the same ledger must be the same, whatever its cache is like.
_COMMANDS = (
    ("entries", "--json"),
    ("show", "latest", "--files", "--json"),
    ("history", "--json"),
    ("ledger", "verify", "--json"),
    ("compare", "first", "place", "--json"),
    ("restore", "latest", "--into", "back", "--dry-run", "--json"),
    ("shelf", "list", "--json"),
    ("backup", "place"),
    ("restore", "first", "--into", "there", "--yes"),
    ("ledger", "export", "latest", "out.zip"),
    ("ledger", "drill"),
    ("ledger", "mirror", "other"),
    ("ledger", "heal", "--mirror", "other"),
    ("ledger", "retire", "--last", "1", "--dry-run"),
    ("ledger", "confirm", "latest"),
    ("recover",),
    ("undo", "--yes"),
)


def _noise(path: str) -> None:
    with open(path, "wb") as file:
        file.write(os.urandom(70_000))


def _bad_page(path: str, page: int = 2) -> None:
    with open(path, "r+b") as file:
        file.seek(4096 * page)
        file.write(os.urandom(4096))


def _flipped_bit(path: str) -> None:
    """Change a digest within a row, at the old time, as a disk does that forgets."""
    os.utime(path, (os.stat(path).st_atime - 3600, os.stat(path).st_mtime - 3600))
    write_sum(path)
    status = os.stat(path)
    with open(path, "r+b") as file:
        data = bytearray(file.read())
        data[len(data) // 2] ^= 1
        file.seek(0)
        file.write(data)
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


def _folder(path: str) -> None:
    os.remove(path)
    os.mkdir(path)


_HARM: dict[str, Callable[[str], None]] = {
    "noise": _noise,
    "a bad page": _bad_page,
    "another bad page": lambda path: _bad_page(path, 5),
    "a flipped bit": _flipped_bit,
    "empty": lambda path: open(path, "wb").close(),
    "a folder": _folder,
    "gone": os.remove,
    "cut": lambda path: os.truncate(path, os.path.getsize(path) // 2),
}


class Harmed(Case):
    def setUp(self) -> None:
        super().setUp()
        write(
            self.path("place"),
            {f"d{n}/f{m}": os.urandom(2000) for n in range(5) for m in range(40)},
        )
        self.run_it("backup", "place")
        write(self.path("place"), {"d0/f0": b"new", "more": b"more"})
        self.run_it("backup", "place")
        self.first = self.entries()[0]
        self.run_it("restore", self.first, "--yes")

    def run_it(self, *args: str, status: int = 0) -> str:
        done = kindred(*args, folder=self.folder)
        self.assertNotIn("Traceback", done.stderr, args)
        self.assertEqual(done.returncode, status, (args, done.stdout, done.stderr))
        return done.stdout

    def entries(self) -> list[str]:
        ledger = Ledger.open(self.path("ledger"))
        found = [entry.id for entry in ledger.entries()]
        ledger.index.close()
        return found

    def tell(self, folder: str) -> list[tuple[int, str]]:
        """Run all commands in a copy of the world and return what they said, but for new ids."""
        told = []
        for words in _COMMANDS:
            args = [self.first if word == "first" else word for word in words]
            done = kindred(*args, folder=folder)
            self.assertNotIn("Traceback", done.stderr, args)
            shown = done.stdout if "--json" in args and "verify" not in args else ""
            told.append((done.returncode, shown.replace(folder, "")))
            if args[0] == "recover":
                self.assertEqual(len(files_in(os.path.join(folder, "there"))), 200)
        return told

    def test_nothing_changes_but_time(self) -> None:
        """Each command, with the cache as it should be and harmed in each way."""

        def world(name: str) -> str:
            folder = self.path("..", f"{os.path.basename(self.folder)} {name}")
            shutil.copytree(self.folder, folder)
            self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
            return os.path.realpath(folder)

        told = self.tell(world("whole"))
        self.assertLessEqual({status for status, _ in told}, {0, 1})
        for name, harm in _HARM.items():
            folder = world(name)
            harm(os.path.join(folder, "ledger", _INDEX))
            found = self.tell(folder)
            for args, (status, shown), expected in zip(_COMMANDS, found, told, strict=True):
                if "verify" in args:  # it may say that the cache was made anew, once
                    self.assertIn(status, (0, 5), name)
                    continue
                self.assertEqual((status, shown), expected, (name, args))

    @unittest.skipIf(os.name == "nt", "Windows has other permissions")
    def test_a_ledger_that_can_only_be_read(self) -> None:
        """Entries, what is in them, verifying and bringing back need no writing."""
        inside = self.path("ledger")
        os.makedirs(self.path("new", "state"))
        state = mock.patch.dict(os.environ, XDG_STATE_HOME=self.path("new", "state"))
        os.mkdir(self.path("new", "place"))
        with unprivileged(self.folder), state:
            for top, folders, files in os.walk(inside):
                for name in (*folders, *files):
                    path = os.path.join(top, name)
                    os.chmod(path, 0o555 if os.path.isdir(path) else 0o444)
            os.chmod(inside, 0o555)
            try:
                ledger = Ledger.open(inside, create=False)
                entry = ledger.entry(self.first)
                place = ledger.place(entry)
                read = {path: b"".join(blocks) for path, blocks in place.read(place.tree.files)}
                self.assertEqual(len(read), 200)
                self.assertEqual(ledger.check(entry), [])
                done = restore(entry, FolderPlace(self.path("new", "place")), ledger=ledger).apply(
                    ledger
                )
                self.assertEqual(files_in(self.path("new", "place")), read)
                self.assertIn("not in its history", " ".join(texts(done.findings)))
                with self.assertRaisesRegex(
                    PlaceError, "Permission denied"
                ):  # something to be kept
                    write(self.path("new", "place"), {next(iter(read)): b"edited"})
                    restore(entry, FolderPlace(self.path("new", "place")), ledger=ledger).apply(
                        ledger
                    )
                ledger.index.close()
            finally:
                for top, folders, _ in os.walk(inside):
                    os.chmod(top, 0o755)
                    for name in folders:
                        os.chmod(os.path.join(top, name), 0o755)

    def test_a_ledger_on_a_full_disk(self) -> None:
        """What is in it can be looked at, and brought back to where nothing is."""
        os.rename(self.path("ledger"), self.path("old"))
        os.mkdir(self.path("ledger"))
        small_disk(self, self.path("ledger"), "2m")
        shutil.copytree(self.path("old"), self.path("ledger"), dirs_exist_ok=True)
        with contextlib.suppress(OSError), open(self.path("ledger", "filler"), "wb", 0) as file:
            while file.write(bytes(4096)):
                pass
        self.assertNotEqual(kindred("backup", "place", folder=self.folder).returncode, 0)
        for command in (("entries",), ("show", self.first, "--files"), ("ledger", "verify")):
            done = kindred(*command, folder=self.folder)
            self.assertIn(
                done.returncode, (0, 5), (command, done.stderr)
            )  # the filler is no file of ours
        done = kindred("restore", self.first, "--into", "new", "--yes", folder=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(len(files_in(self.path("new"))), 200)

    def test_a_disk_that_gives_errors(self) -> None:
        """Each read and write of the cache refused from some moment on: memory takes its place."""
        from kindred_ledger.ledger import cache

        real = cache._connected

        class Failing:
            def __init__(self, path: str, *args: object, **more: object) -> None:
                self.db, self.left = (
                    real(path, *args, **more),
                    limit if path != ":memory:" else 10**9,
                )  # type: ignore[arg-type]

            def __getattr__(self, name: str) -> object:
                if name in ("execute", "executemany", "commit"):
                    self.left -= 1
                    if self.left < 0:
                        raise cache.sqlite3.OperationalError("disk I/O error")
                return getattr(self.db, name)

        cache._connected = Failing  # type: ignore[assignment]
        try:
            for limit in (0, 1, 2, 3, 5, 8, 13, 21, 34):
                ledger = Ledger.open(self.path("ledger"))
                kept = ledger.backup(FolderPlace(self.path("place")), note=f"{limit}")
                self.assertEqual(ledger.check(kept), [], limit)
                ledger.index.close()
        finally:
            cache._connected = real

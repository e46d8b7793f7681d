"""Folders: what is seen, what is left alone, and what a refusing system looks like."""

from __future__ import annotations

import errno
import os
import shutil
import socket
import threading
import unittest
from collections.abc import Iterator
from contextlib import closing, contextmanager
from typing import Any
from unittest import mock

from blake3 import blake3

from kindred_ledger.errors import PlaceBusy, PlaceChanged, PlaceError, UsageError, Vanished
from kindred_ledger.places import (
    BLOCK,
    WORK_FOLDER,
    FolderPlace,
    JoinedPlace,
    OpenFolder,
    Seen,
    hold,
    hold_place,
    join_folders,
    open_place,
    read_bytes,
    remove_tree,
    roots_of,
    scan,
    write_atomic,
)
from tests.support import Case, Restless, opened_files, unprivileged, write


class Looking(Case):
    def test_a_scan_tells_kind_size_digest_time_and_mode(self) -> None:
        """Files, empty folders and links stand in the tree; the work folder does not."""
        place = self.place({"a/b.txt": b"peat", "empty": None, "link": "a/b.txt", "dangling": "no"})
        write(place.path(WORK_FOLDER), {"x/owner.json": b"{}", "x/new/1": b"1"})
        os.utime(place.path("a/b.txt"), ns=(1, 1_700_000_000_123_456_789))
        os.chmod(place.path("a/b.txt"), 0o640)
        tree = scan(place)
        self.assertEqual(list(tree), ["a", "a/b.txt", "dangling", "empty", "link"])
        kind, size, digest, mtime_ns, mode, _ = tree["a/b.txt"]
        self.assertEqual((kind, size, digest), ("file", 4, blake3(b"peat").digest()))
        self.assertEqual((mtime_ns, mode), (1_700_000_000_123_456_789, 0o640))
        self.assertEqual((tree["link"].kind, tree["dangling"].target), ("link", "no"))

    def test_links_are_never_followed(self) -> None:
        """A link to a folder is a link: what lies behind it is neither listed nor read."""
        write(self.path("outside"), {"secret.txt": b"theirs"})
        place = self.place({"in.txt": b"mine"})
        os.symlink(self.path("outside"), place.path("door"))
        os.symlink(self.path("outside", "secret.txt"), place.path("key"))
        self.assertEqual(list(scan(place)), ["door", "in.txt", "key"])
        with self.assertRaises(Vanished):
            read_bytes(place, "key")

    def test_what_goes_away_while_it_is_listed(self) -> None:
        """A file between its name and its size, a folder between its own listing and its parent's."""
        place = self.place({"a": b"1", "gone": b"2", "going/in": b"3", "stays/in": b"4"})

        class Hasty(frozenset[str]):
            def __contains__(self, name: object) -> bool:
                if name == "gone":
                    os.remove(place.path("gone"))
                return super().__contains__(name)

        class Going(FolderPlace):
            def _listed(self, folder: str, opened: OpenFolder) -> Any:
                if folder == "going":
                    shutil.rmtree(self.path("going"))
                return super()._listed(folder, opened)

        hasty = Going(place.root)
        hasty.without = Hasty({"elsewhere"})
        self.assertEqual(list(hasty.survey()), ["a", "stays", "stays/in"])
        scan_folder = OpenFolder.scan

        @contextmanager
        def all_at_once(opened: OpenFolder, path: str) -> Iterator[Any]:
            with scan_folder(opened, path) as entries:
                found = list(entries)
                if not path:
                    os.remove(place.path("a"))
                yield iter(found)

        with mock.patch.object(OpenFolder, "scan", all_at_once):
            self.assertEqual(list(FolderPlace(place.root).survey()), ["stays", "stays/in"])

    @unittest.skipIf(os.name == "nt", "no such sockets there")
    def test_what_is_no_file_is_listed_and_not_read(self) -> None:
        """A socket does not stop a scan."""
        place = self.place({"a": b"1"})
        with closing(socket.socket(socket.AF_UNIX)) as end:
            end.bind(place.path("door"))
            self.assertEqual(scan(place)["door"].kind, "other")

    def test_what_has_no_path_here_is_not_taken_for_gone(self) -> None:
        """A system that knows no long paths says that nothing is there: then nothing is kept as complete."""
        place = self.place({"a": b"1", "deep/er/file": b"2"})
        at = OpenFolder.at

        true = OpenFolder._step

        def refuse(longest: int) -> None:
            def short(opened: OpenFolder, path: str) -> Any:
                if len(path) >= longest and "deep" in path:
                    raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), path)
                return at(opened, path)

            def step(opened: OpenFolder, folder: str, name: str, fd: Any) -> Any:
                if len(f"{folder}/{name}") >= longest and "deep" in folder:
                    raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), name)
                return true(opened, folder, name, fd)

            with (
                mock.patch.object(OpenFolder, "at", short),
                mock.patch.object(OpenFolder, "_step", step),
                self.assertRaisesRegex(PlaceError, "longer than this system takes"),
            ):
                scan(place)

        refuse(len("deep/er"))
        refuse(len("deep/er/file"))

    def test_joined_folders_are_one_place(self) -> None:
        """A folder within another belongs to one part only; contents are found under both names."""
        write(self.path("game"), {"run.py": b"run", "userdata/a.sav": b"save"})
        place = join_folders({"program": self.path("game"), "user": self.path("game", "userdata")})
        self.assertEqual(scan(place).leaves, ("program/run.py", "user/a.sav"))
        self.assertEqual(read_bytes(place, "user/a.sav"), b"save")
        self.assertEqual(roots_of(place)["user"], self.path("game", "userdata"))
        with self.assertRaises(UsageError):
            read_bytes(JoinedPlace({}), "user/a.sav")

    def test_opening_what_is_no_place(self) -> None:
        """Nothing there, and a file that is no archive, are told apart."""
        write(self.folder, {"notes.txt": b"hello"})
        with self.assertRaisesRegex(UsageError, "no such file or folder"):
            open_place(self.path("missing"))
        with self.assertRaisesRegex(UsageError, "neither a folder nor a zip or tar"):
            open_place(self.path("notes.txt"))


class Reading(Case):
    def test_an_unchanged_folder_is_not_read_again(self) -> None:
        """The second scan opens no file; a changed one is the only one read; renamed ones too."""
        place = self.place({f"{n}.txt": b"%d" % n for n in range(50)})
        for name in os.listdir(place.root):
            os.utime(place.path(name), ns=(10**18, 10**18))
        seen = Seen()
        first = scan(place, seen=seen)
        self._age(place)
        again = Seen()
        scan(place, seen=again)
        known = again.worth_saving()
        with opened_files(place.root) as opened:
            self.assertEqual(scan(place, seen=known), first)
        self.assertEqual(opened, [])
        with open(place.path("7.txt"), "wb") as file:
            file.write(b"8")
        os.utime(place.path("7.txt"), ns=(10**18, 10**18))  # size and time as before
        with opened_files(place.root) as opened:
            self.assertNotEqual(scan(place, seen=known)["7.txt"], first["7.txt"])
        self.assertEqual(opened, [place.path("7.txt")])

    def _age(self, place: FolderPlace) -> None:
        """Wait until what was written is older than the clock's grain."""
        event = threading.Event()
        event.wait(0.1)

    def test_a_file_just_written_is_not_believed(self) -> None:
        """A file as young as the clock's grain is read again: it may have changed unseen."""
        place = self.place({"a": b"1"})
        seen = Seen()
        scan(place, seen=seen)
        self.assertEqual(seen.worth_saving().columns()["paths"], [])

    def test_a_file_that_will_not_hold_still(self) -> None:
        """One that changes during each reading ends the scan with its name."""
        for size in (3, 5 << 20):
            place = self.place({"calm": b"1", "log": b"x" * size})
            with self.assertRaisesRegex(PlaceChanged, "log"):
                scan(Restless(place.root))
            self.assertEqual(len(scan(place)), 2)

    def test_a_large_file_that_changes_under_the_reader(self) -> None:
        """Grown, shrunk or overwritten between two blocks: all that was read is given, then it is told."""
        size = BLOCK + 5
        for harm in (b"longer" * 9, None, b"in place"):
            place = self.place({"world": bytes(size)})
            os.utime(place.path("world"), (1e9, 1e9))
            read = 0
            with self.assertRaisesRegex(PlaceChanged, "changed while it was read"):
                for _, blocks in place.read(["world"]):
                    for block in blocks:
                        if not read:
                            with open(place.path("world"), "r+b") as file:
                                if harm is None:
                                    file.truncate(BLOCK + 1)
                                else:
                                    file.seek(size if b"longer" in harm else 9)
                                    file.write(harm)
                        read += len(block)
            self.assertGreater(read, BLOCK)

    def test_permission_refused(self) -> None:
        """A file one may not read is named, with what to do."""
        place = self.place({"a": b"1", "locked": b"2"})
        os.chmod(place.path("locked"), 0)
        with unprivileged(self.folder), self.assertRaisesRegex(PlaceError, "permissions") as caught:
            scan(place)
        self.assertIn("locked", caught.exception.where)

    def test_a_missing_folder_is_named(self) -> None:
        """As an error of ours, with the path."""
        with self.assertRaisesRegex(PlaceError, "gone"):
            scan(FolderPlace(self.path("gone")))


class StorageLimits(Case):
    def test_one_writer_at_a_time(self) -> None:
        """A held place refuses a second holder and is free at once afterwards."""
        with hold_place(self.folder), self.assertRaises(PlaceBusy), hold_place(self.folder):
            pass
        with hold_place(self.folder):
            pass

    def test_a_lock_is_free_when_its_holder_dies(self) -> None:
        """A killed process holds nothing."""
        lock = self.path("lock")
        reader, writer = os.pipe()
        child = os.fork() if hasattr(os, "fork") else -1
        if child < 0:
            self.skipTest("no fork here")
        if not child:
            with hold(lock, busy=""):
                os.write(writer, b"1")
                threading.Event().wait(60)
            os._exit(0)
        os.read(reader, 1)
        with self.assertRaises(PlaceBusy), hold(lock, busy="held"):
            pass
        os.kill(child, 9)
        os.waitpid(child, 0)
        with hold(lock, busy="held"):
            pass
        os.close(reader)
        os.close(writer)

    @unittest.skipUnless(hasattr(os, "geteuid"), "needs users")
    def test_what_may_not_be_written_to_is_removed(self) -> None:
        """A folder of ours in which nothing may be removed; a link is not followed for it."""
        write(self.folder, {"ours/deep/file": b"x", "theirs/file": b"y"})
        os.symlink(self.path("theirs"), self.path("ours", "link"))
        with unprivileged(self.folder):
            os.chmod(self.path("theirs"), 0o555)
            os.chmod(self.path("ours", "deep"), 0o555)
            remove_tree(self.path("ours"))
            self.assertEqual(os.stat(self.path("theirs")).st_mode & 0o777, 0o555)
        self.assertEqual(os.listdir(self.folder), ["theirs"])
        os.symlink(self.path("theirs"), self.path("link"))
        with self.assertRaises(OSError):
            remove_tree(self.path("link"))
        self.assertEqual(os.listdir(self.path("theirs")), ["file"])

    def test_writing_is_old_or_new(self) -> None:
        """A write that fails leaves the old file and says why."""
        write(self.folder, {"a": b"old", "b/x": b"in the way"})
        with self.assertRaises(OSError):
            write_atomic(self.path("b"), b"new")
        self.assertEqual(sorted(os.listdir(self.folder)), ["a", "b"])
        self.assertEqual(os.listdir(self.path("b")), ["x"])
        write_atomic(self.path("a"), b"new")
        with open(self.path("a"), "rb") as file:
            self.assertEqual(file.read(), b"new")

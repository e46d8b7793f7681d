"""A folder that somebody swaps for a link while a change runs: nothing is done where that leads."""

from __future__ import annotations

import contextlib
import os
import shutil
import sys
import unittest
from collections.abc import Callable, Iterator
from typing import Any

from kindred_ledger.changes import drill, recover, restore, undo
from kindred_ledger.errors import KindredError
from kindred_ledger.ledger import Ledger
from kindred_ledger.places import WORK_FOLDER, scan
from tests.support import LONG, Case, change_to, files_in, nothing_followed, write

OLD = {"a.txt": b"old a", "saves/one": b"1", "saves/deep/two": b"2", "bare": None}
NEW = {"a.txt": b"new a", "saves/one": b"one", "saves/deep/three": b"33" * 200_000, "maps/m": b"m"}
# What a link would lead to: all that a change of the place looks for, moves, makes and clears.
OUTSIDE = {
    "one": b"theirs", "deep/two": b"theirs", "a.txt": b"theirs", "new/0": b"theirs",
    "old/0": b"theirs", "owner.json": b"{}", "saves/one": b"theirs", "saves/deep/two": b"theirs",
}  # fmt: skip
_CALLS = {
    *("open", "os.scandir", "os.listdir", "os.rename", "os.mkdir", "os.rmdir", "os.remove"),
    *("os.chmod", "os.utime", "os.symlink", "os.link", "os.truncate"),
}
_watch: list[Callable[[str, Any], None]] = []  # an audit hook stays for good


@sys.addaudithook
def _hook(event: str, args: Any) -> None:
    if _watch and event in _CALLS:
        watching = _watch.pop()  # its own calls are none of those
        try:
            watching(event, args)
        finally:
            _watch.append(watching)


@contextlib.contextmanager
def watched(watching: Callable[[str, Any], None]) -> Iterator[None]:
    _watch.append(watching)
    try:
        yield
    finally:
        _watch.clear()


class Swapper:
    """Counts the calls to the system, and at one of them swaps a folder for a link."""

    def __init__(self, at: int, folder: Callable[[], str | None], outside: str) -> None:
        self.calls = 0
        self.swapped = ""
        self._at, self._folder, self._outside = at, folder, outside

    def __call__(self, event: str, args: Any) -> None:
        self.calls += 1
        if self.calls >= self._at and not self.swapped:
            folder = self._folder()
            if folder is not None and os.path.isdir(folder) and not os.path.islink(folder):
                os.rename(folder, f"{self._outside}-swapped")
                os.symlink(self._outside, folder)
                self.swapped = folder


class Swapped(Case):
    def attempt(self, at: int, which: str, act: str) -> int:
        """Change, or change and undo, with one swap at a call; return the calls there were."""
        self.folder, outer = os.path.join(self.folder, "room"), self.folder
        try:
            kept = Ledger.open(self.path("ledger"))
            place = self.place(OLD)
            write(self.path("outside"), OUTSIDE)
            before, modes = files_in(self.path("outside")), self.modes()

            def folder() -> str | None:
                work = place.path(WORK_FOLDER)
                stages = os.listdir(work) if os.path.isdir(work) else []
                named = which.replace("STAGE", f"{WORK_FOLDER}/{stages[0] if stages else '-'}")
                return place.path(named)

            change = change_to(place, NEW)
            if act == "undo":
                done = change.apply(kept)
                change = undo(done.record.id, ledger=kept)
            swapper = Swapper(at, folder, self.path("outside"))
            with watched(swapper), contextlib.suppress(KindredError, OSError):
                change.apply(kept, allow_loss=True)
            with contextlib.suppress(KindredError, OSError):
                recover(kept)
            label = f"{act}, call {at}, {which or 'the place'}"
            self.assertEqual(files_in(self.path("outside")), before, label)
            self.assertEqual(self.modes(), modes, label)
            kept.index.close()
            if not swapper.swapped:
                whole = [{p: d for p, d in c.items() if d is not None} for c in (OLD, NEW)]
                self.assertIn(files_in(place.root), whole, label)
            return swapper.calls
        finally:
            shutil.rmtree(self.folder)
            self.folder = outer

    def modes(self) -> dict[str, tuple[int, int]]:
        found = {}
        for top, folders, files in os.walk(self.path("outside")):
            for name in (*folders, *files):
                stat = os.lstat(os.path.join(top, name))
                found[os.path.join(top, name)] = stat.st_mode, stat.st_mtime_ns
        return found

    @unittest.skipUnless(os.path.isdir("/proc/self/fd"), "what is open is not told here")
    def test_links_that_stand_there(self) -> None:
        """Whatever is done with a place, no link in it is followed, and what it leads to is as it was."""
        write(self.path("outside"), OUTSIDE)
        links = {"door": self.path("outside"), "key": self.path("outside", "one"), "loop": "loop"}
        place = self.place({**OLD, **links, "saves/up": "../../outside"})
        kept = self.ledger()
        before = files_in(self.path("outside"))
        with nothing_followed(self, place.root):
            entry = kept.backup(place)
            change_to(place, {**NEW, "door": b"a file", "key": "elsewhere"}).apply(kept)
            undo(ledger=kept).apply(kept)
            shutil.rmtree(place.path("maps"), ignore_errors=True)
            write(place.root, {"a.txt": b"edited"})
            restore(entry, ledger=kept).apply(kept)
            drill(entry, ledger=kept)
            scan(place)
            self.assertEqual(scan(place)["door"].kind, "link")
        self.assertEqual(files_in(self.path("outside")), before)

    @unittest.skipUnless(hasattr(os, "O_NOFOLLOW"), "folders have no descriptors here")
    def test_at_every_call(self) -> None:
        """Any folder of the place or the stage, at any call of a change or of an undo."""
        for act in ("change", "undo"):
            for which in (
                "",
                "saves",
                "saves/deep",
                WORK_FOLDER,
                "STAGE",
                "STAGE/new",
                "STAGE/old",
            ):
                calls = self.attempt(10**9, which, act)
                self.assertGreater(calls, 100)
                for at in range(1, calls + 1, 1 if LONG else 11):
                    self.attempt(at, which, act)

"""The ledger's folders: durable before anything relies on them, named when they are missing, and mended."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Callable
from typing import Any
from unittest import mock

from kindred_ledger.changes import undo
from kindred_ledger.ledger import Ledger, heal, mirror, verify
from kindred_ledger.places import FolderPlace
from tests.support import Case, KeptCase, change_to, files_in, write

_NEEDED = ("packs", "entries", "history")
_noting: list[Callable[[str], None]] = []  # an audit hook stays for good


@sys.addaudithook
def _hook(event: str, args: Any) -> None:
    if event == "os.mkdir" and _noting:
        path, _, fd = args
        whole = path if fd < 0 else os.path.join(os.readlink(f"/proc/self/fd/{fd}"), path)
        _noting[0](whole)


class Missing(KeptCase):
    def test_each_in_turn(self) -> None:
        """Named if there is anything to be missed; brought back from a mirror; and a backup works."""
        ledger, other = self.ledger(), self.ledger("other")
        mirror(ledger, other)
        ledger.index.close()
        before = files_in(self.path("ledger"))
        for folder in sorted(os.listdir(self.path("ledger"))):
            if not os.path.isdir(self.path("ledger", folder)):
                continue
            with self.subTest(folder):
                root = self.copied()
                shutil.rmtree(os.path.join(root, folder))
                found = Ledger.open(root)
                named = {fault.where for fault in verify(found).findings}
                self.assertEqual(folder in named, folder in _NEEDED, named)
                after = heal(found, mirrors=[other]).after
                self.assertEqual((after.findings, after.costs), ((), ()))
                mine = {p: data for p, data in before.items() if p.startswith(f"{folder}/")}
                self.assertLessEqual(mine.items(), files_in(root).items())
                entry = found.backup(self.place({"new": b"x"}, "new"))
                self.assertEqual(found.check(entry), [])
                found.index.close()


class Durable(Case):
    def test_new_folders_are_synced(self) -> None:
        """Of a ledger, of an unfinished change, of its stage, of a place: the folder each is in, after it."""
        write(self.path("place"), {"a": b"1"})
        steps: list[tuple[str, Any]] = []
        true = os.fsync

        def fsync(fd: int) -> None:
            steps.append(("synced", os.path.realpath(f"/proc/self/fd/{fd}")))
            true(fd)

        _noting.append(lambda path: steps.append(("made", path)))
        try:
            with mock.patch("os.fsync", fsync):
                kept, place = (
                    Ledger.open(self.path("far", "off", "ledger")),
                    FolderPlace(self.path("place")),
                )
                kept.backup(place)
                change_to(place, {"a": b"2", "deep/er/b": b"3"}).apply(kept)
                undo(ledger=kept).apply(kept, allow_loss=True)
                kept.index.close()
        finally:
            _noting.clear()
        made = [(n, path) for n, (what, path) in enumerate(steps) if what == "made"]
        self.assertGreater(len(made), 12)
        for number, path in made:
            later = {p for what, p in steps[number:] if what == "synced"}
            if path.startswith(self.folder):
                self.assertIn(os.path.dirname(path), later, path)

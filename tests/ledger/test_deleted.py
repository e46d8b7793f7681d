"""Every deletion of a stored file is named by verify, and mended by heal from a mirror."""

from __future__ import annotations

import json
import os
import shutil
from typing import Any

from kindred_ledger.changes import confirm, undo
from kindred_ledger.ledger import Ledger, ReleaseTag, Tag, heal, mirror, verify
from kindred_ledger.places import MemoryPlace
from kindred_ledger.places.remotes import Login, connect
from tests.support import Case, change_to, files_in, kindred, write

_CACHE = "index.sqlite"
_COST = 1 << 10  # KiB


class DeletedElsewhere(Case):
    """A ledger on a remote, which another machine looks at: it has no cache, and no copies."""

    def opened(self, folder: str) -> Ledger:
        remote = connect(f"file://{self.path(folder)}", Login())
        ledger = Ledger.open(
            remote, local_cache=self.path(f"near {folder}"), passphrase=lambda: "secret"
        )
        self.addCleanup(ledger.index.close)
        return ledger

    def test_each_file(self) -> None:
        """One after the other: named, and mended from a mirror; plain and encrypted."""
        Ledger.create_encrypted(self.path("sealed"), "secret", cost=_COST)
        for kind in ("plain", "sealed"):
            with self.subTest(kind):
                self.each_of(kind)

    def each_of(self, kind: str) -> None:
        ledger, other = self.opened(kind), self.ledger(f"{kind} other")
        self.assertEqual(bool(ledger.storage.encryption.key), kind == "sealed")
        place = self.place({"a": b"a", "b": b"b" * 9000}, f"{kind} place")
        ledger.backup(place)
        confirm(change_to(place, {"a": b"c"}).apply(ledger).record.id, ledger=ledger)
        undo(ledger=ledger).apply(ledger)
        ledger.shelf.add(place, Tag(title="x", version="1.0"), ReleaseTag())
        ledger.backup(self.place({"c": b"d"}, f"{kind} another"))
        mirror(ledger, other)
        for path in files_in(self.path(kind)):
            copy = f"{kind} copy"
            for name in (copy, f"near {copy}"):
                shutil.rmtree(self.path(name), ignore_errors=True)
            shutil.copytree(self.path(kind), self.path(copy))
            os.remove(self.path(copy, *path.split("/")))
            with self.subTest(path=path):
                found = self.opened(copy)
                named = {fault.where for fault in verify(found).findings}
                # What a pack had is missing in all of them; a key says that its copy is.
                kinds = {"packs": "packs" in named, "keys": len(named) == 1}
                self.assertTrue(path in named or kinds.get(path.partition("/")[0]), named)
                after = heal(found, mirrors=[other]).after
                self.assertEqual((after.findings, after.costs), ((), ()))
                for entry in found.all_entries():
                    self.assertEqual(found.check(entry), [])
                settings = self.path(copy, "ledger.toml")
                with open(settings, "rb") as new, open(self.path(kind, "ledger.toml"), "rb") as old:
                    self.assertEqual(new.read(), old.read())


class Deleted(Case):
    def setUp(self) -> None:
        super().setUp()
        write(self.path("place"), {"a": b"a", "b": b"b" * 9000})
        for command in (
            "backup place",
            "restore latest --into back --yes",
            "undo --yes",
            "shelf add place --title x --build 1.0",
            "shelf add back --title x --build 1.0 --replace",
            "ledger confirm latest",
            "backup back",
            "ledger drill",
            "ledger mirror other",
        ):
            done = kindred(*command.split(), folder=self.folder)
            self.assertIn(done.returncode, (0, 2), (command, done.stderr))

    def test_each_file(self) -> None:
        """One after the other: named, and back byte for byte; with the cache there, and without."""
        before = self.stored()
        for path in before:
            for cache in (True, False):
                shutil.rmtree(self.path("copy"), ignore_errors=True)
                shutil.copytree(self.path("ledger"), self.path("copy"))
                if not cache:
                    os.remove(self.path("copy", _CACHE))
                os.remove(self.path("copy", *path.split("/")))
                ledger, other = Ledger.open(self.path("copy")), Ledger.open(self.path("other"))
                found = verify(ledger)
                named = [fault.where for fault in found.findings]
                self.assertTrue(
                    path in named or (path.startswith("packs/") and "packs" in named),
                    (path, cache, named),
                )
                self.assertEqual(heal(ledger, mirrors=[other]).after.findings, (), path)
                self.assertEqual(self.stored("copy").get(path), before[path], (path, cache))
                ledger.index.close()
                other.index.close()

    def test_the_newest_though_more_is_written(self) -> None:
        """What was deleted stays known when other entries come after it, and nobody has the cache."""
        name = max(os.listdir(self.path("ledger", "entries")))
        os.remove(self.path("ledger", "entries", name))
        os.remove(self.path("ledger", _CACHE))
        for _ in range(20):  # more than one names
            self.ledger().backup(MemoryPlace({"c": b"c"}))
        os.remove(self.path("ledger", _CACHE))
        self.assertEqual([f.where for f in verify(self.ledger()).findings], [f"entries/{name}"])

    def test_what_no_copy_has_is_lost_once(self) -> None:
        """Without a mirror it is noted as lost, and that is the end of it."""
        name = sorted(os.listdir(self.path("ledger", "entries")))[0]
        os.remove(self.path("ledger", "entries", name))
        ledger = self.ledger()
        healed = heal(ledger, places=[])
        self.assertTrue(any("lost; no copy was found" in line for line in healed.mended))
        self.assertEqual(healed.after.findings, ())
        self.assertEqual(verify(ledger).findings, ())

    def test_what_was_taken_away_stays_away(self) -> None:
        """A release that was taken from the shelf is not damage, and no mirror brings it back."""
        ledger, other = self.ledger(), self.ledger("other")
        release = ledger.shelf.find("x@1.0")
        ledger.shelf.remove(release)
        self.assertEqual(verify(ledger).findings, ())
        mirror(other, ledger)
        self.assertEqual(ledger.shelf.releases(), [])
        self.assertEqual(verify(ledger).findings, ())
        shown = kindred("entries", "--retired", folder=self.folder)
        self.assertNotIn("x@1.0", shown.stdout)

    def test_what_commands_left_behind(self) -> None:
        """Old parts and rooms go and are told; what is young, or not ours, stays."""
        ours = ("entries/x.json.zst.0123456789abcdef.part", "ledger.toml.01234567.part")
        rooms = ("work/archive-ab_cd12x/new.zip", "work/kept-0123456789ab/p")
        stays = ("entries/my notes.part", "work/other/thing")
        write(self.path("ledger"), dict.fromkeys((*ours, *rooms, *stays), b"x"))
        self.assertEqual(self.recovered(), {"command": "recover", "status": 0, "recovered": []})
        for name in (*ours, *stays, *(room.rpartition("/")[0] for room in rooms)):
            os.utime(self.path("ledger", *name.split("/")), (0, 0))
        told = self.recovered()["left_overs"]
        self.assertEqual(told, sorted((*ours, *(room.rpartition("/")[0] for room in rooms))))
        left = files_in(self.path("ledger"))
        self.assertEqual({*left} & {*ours, *rooms, *stays}, {*stays})

    def test_folders_made_for_what_never_came(self) -> None:
        """A restore that was cut off had made them: empty ones go, others and what lies outside stay."""
        for name, inside in (("made", {}), ("used", {"d/mine": b"x"})):
            write(self.path(name), {"d/e": None, **inside})
            note = self.path("ledger", "work", f"made-{'0' * 11}{len(inside)}.json")
            text = {"top": self.path(name), "folder": self.path(name, "d", "e")}
            with open(note, "w", encoding="utf-8") as file:
                json.dump(text, file)
            os.utime(note, (0, 0))
        told = self.recovered()["left_overs"]
        self.assertEqual(len(told), 4)
        self.assertFalse(os.path.exists(self.path("made")))
        self.assertEqual(files_in(self.path("used")), {"d/mine": b"x"})
        done = kindred(
            "restore", "latest", "--into", "a/b/c", "--only", "none*", "--yes", folder=self.folder
        )
        self.assertEqual((done.returncode, os.path.exists(self.path("a"))), (2, False))
        self.assertFalse(
            [n for n in os.listdir(self.path("ledger", "work")) if n.startswith("made")]
        )

    def test_the_next_command_tells(self) -> None:
        """A backup clears what is old, and says so."""
        write(self.path("ledger"), {"packs/x.0123456789abcdef.part": b"x"})
        os.utime(self.path("ledger", "packs", "x.0123456789abcdef.part"), (0, 0))
        done = kindred("backup", "place", folder=self.folder)
        self.assertIn("packs/x.0123456789abcdef.part", done.stderr)

    def recovered(self) -> dict[str, Any]:
        done = kindred("recover", "--json", folder=self.folder)
        found: dict[str, Any] = json.loads(done.stdout)
        return found

    def test_a_mirror_is_judged_by_itself(self) -> None:
        """A copy made while some of it was damaged names nothing that it never had."""
        entry = self.ledger().backup(MemoryPlace({"c": b"c"}))
        path = self.path("ledger", "entries", f"{entry.id}.json.zst")
        with open(path, "r+b") as file:
            file.seek(20)
            file.write(b"damage")
        ledger = self.ledger()
        ledger.backup(MemoryPlace({"d": b"d"}))
        target = self.ledger("third")
        self.assertTrue(mirror(ledger, target).not_copied)
        self.assertEqual(verify(target).findings, ())

    def stored(self, name: str = "ledger") -> dict[str, bytes]:
        return {
            path: data
            for path, data in files_in(self.path(name)).items()
            if not path.startswith(("index", "work/"))
        }

"""Installs: updating over the top and carrying across, with the simulated game as judge."""

from __future__ import annotations

import io
import os
import shutil
import zipfile
from typing import Any

from kindred_ledger.cards import Card
from kindred_ledger.changes import undo
from kindred_ledger.convert import convert_install
from kindred_ledger.demo.releases import build_release
from kindred_ledger.errors import (
    CardError,
    DecisionNeeded,
    KindredError,
    LossNotAllowed,
    PlaceChanged,
    UnsafeArchive,
    UnsafeName,
    UsageError,
)
from kindred_ledger.places import read_bytes, scan
from kindred_ledger.planning import compare
from kindred_ledger.transfers import CarryChoices, carry
from kindred_ledger.updates import UpdateChoices, update
from tests.support import PlayCase, snapshot, write

ALL_GIVE_WAY = CarryChoices(overwrite=lambda _: True)


class InstallCase(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        self.old = self.card.open_release(self.old_zip)
        self.new = self.card.open_release(self.new_zip)

    def change(self, **options: Any) -> Any:
        return update(self.install(), self.new, ledger=self.kept, **options)

    def release(self, build: str, extra: dict[str, bytes], name: str = "made.zip") -> Any:
        """Return a release with some files more, in an archive of its own."""
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for path, data in {**build_release(build), **extra}.items():
                archive.writestr(zipfile.ZipInfo(path), data, zipfile.ZIP_DEFLATED)
        write(self.folder, {name: out.getvalue()})
        return self.card.open_release(self.path(name))


class Update(InstallCase):
    def test_what_is_mine_stays_and_what_was_theirs_goes(self) -> None:
        """Three-way: edits, protected files, new files, left-overs, each with its line."""
        change = self.change(old=self.old)
        outcomes = {line.item: (line.outcome.value, line.reason) for line in change.preview().lines}
        self.assertEqual(outcomes["program/version.txt"][0], "changed")
        self.assertEqual(outcomes["program/data/tides.ini"][0], "unchanged")
        self.assertEqual(outcomes["program/mods/reedlight/mod.json"][0], "unchanged")
        self.assertEqual(outcomes["user/settings.ini"][0], "unchanged")
        self.assertEqual(outcomes["program/data/lanterns/0.lamp"], ("added", "new in the release"))
        self.assertEqual(outcomes["program/data/old_charts/0.chart"][0], "removed")
        self.assertIn("you had changed: program/data/tides.ini", map(str, change.notes))
        self.assertTrue(any("does not read 6 files" in str(note) for note in change.notes))
        before = snapshot(self.path("mossferry"))
        done = change.apply(self.kept)
        self.assertEqual([s.counted_before is not None for s in done.statements], [True, True])
        self.assertEqual(str(self.install().sure_version), "2.0")
        convert_install(self.install(), ledger=self.kept).apply(self.kept, allow_loss=True)
        status, said = self.judge()
        self.assertEqual((status, "Everything loads" in said), (0, True), said)
        undo(ledger=self.kept).apply(self.kept)
        undo(done.record.id, ledger=self.kept).apply(self.kept)
        self.assertEqual(snapshot(self.path("mossferry")), before)
        self.assertEqual(self.judge()[0], 0)

    def test_without_the_old_release(self) -> None:
        """Nothing is known to be left over: it stays and is listed; the user's files still stay."""
        change = self.change()
        dropped = [x for x in change.preview().lines if x.outcome.value == "removed"]
        self.assertEqual(dropped, [])
        self.assertTrue(
            any("left alone" in n and "old_charts" in n for n in map(str, change.notes))
        )
        change.apply(self.kept)
        self.assertEqual(len(scan(self.install().place).under("program/mods").files), 3)

    def test_both_changed_a_file(self) -> None:
        """A conflict is never decided for the person; either answer is carried out."""
        write(self.path("mossferry"), {"data/harbours.json": b"{}"})
        torn = self.change(old=self.old)
        with self.assertRaisesRegex(DecisionNeeded, "(?s)harbours.json.*mine=PATTERN"):
            torn.apply(self.kept)

        def harbours(path: str) -> bool:
            return path.endswith("harbours.json")

        mine = self.change(old=self.old, choices=UpdateChoices(mine=harbours))
        self.assertEqual((mine.conflicts, mine.losses), ((), ()))
        theirs = self.change(old=self.old, choices=UpdateChoices(theirs=harbours))
        with self.assertRaisesRegex(LossNotAllowed, "give way"):
            theirs.apply(self.kept)
        done = theirs.apply(self.kept, allow_loss=True)
        kept = self.kept.place(self.kept.entry(done.record.entry))
        self.assertEqual(read_bytes(kept, "program/data/harbours.json"), b"{}")

    def test_releases_that_are_not_taken(self) -> None:
        """Another build as the old one, an older build unasked, hostile and damaged archives."""
        with self.assertRaisesRegex(UsageError, "the old release is 2.0"):
            self.change(old=self.new)
        down = update(self.install("second/mossferry"), self.old, ledger=self.kept)
        with self.assertRaisesRegex(LossNotAllowed, "1.4 is older than 2.0"):
            down.apply(self.kept)
        for extra, expected in (
            ({"../../up.txt": b"x"}, UnsafeName),
            ({"data/NUL": b"x"}, UnsafeName),
            ({"DATA/tides.ini": b"x"}, UnsafeName),
            ({"data/zeros": bytes(250_000_000)}, UnsafeArchive),
        ):
            with self.assertRaises(expected):
                update(self.install(), self.release("2.0", extra), ledger=self.kept)
        self.assertFalse(os.path.exists(self.path("up.txt")))
        with open(self.new_zip, "r+b") as file:
            file.seek(20_000)
            file.write(bytes(2000))
        with self.assertRaises(KindredError):
            self.change().apply(self.kept)
        self.assertEqual(str(self.install().sure_version), "1.4")

    def test_a_version_that_is_in_doubt(self) -> None:
        """A half-done copy of another build: the evidence disagrees, so nothing is guessed."""
        write(self.path("mossferry"), {"version.txt": b"Mossferry build 2.0\n"})
        with self.assertRaisesRegex(DecisionNeeded, "(?s)version.txt: 2.0.*build.json: 1.4"):
            self.change()

    def test_a_release_that_changes_under_way(self) -> None:
        """What was shown is what arrives, or nothing does."""
        change = self.change(old=self.old)
        before = snapshot(self.path("mossferry"))
        self.release("2.0", {"data/tides.ini": b"other"}, "downloads/mossferry-2.0.zip")
        with self.assertRaises((PlaceChanged, UnsafeArchive)):
            change.apply(self.kept)
        self.assertEqual(snapshot(self.path("mossferry")), before)


class Compare(InstallCase):
    def test_a_field_of_a_save_and_a_line_of_the_settings(self) -> None:
        """What differs is told down to the field, old and new; equal size is no equality."""
        entry = self.kept.backup(self.install())
        save = "userdata/saves/midwinter.voyage"
        for name, old, new in (
            (save, b'"weather": "clear"', b'"weather": "drear"'),
            ("userdata/settings.ini", b"Width = 2560", b"Width = 1920"),
        ):
            path = self.path("mossferry", *name.split("/"))
            with open(path, "rb") as file:
                data = file.read()
            stat = os.stat(path)
            with open(path, "wb") as file:
                file.write(data.replace(old, new))
            os.utime(path, ns=(stat.st_atime_ns, stat.st_mtime_ns))
        found = compare(self.kept.place(entry), self.install(), ledger=self.kept, card=self.card)
        self.assertEqual(
            {
                path: [(f.name, f.before, f.after) for f in told]
                for path, told in found.fields.items()
            },
            {
                "user/saves/midwinter.voyage": [("weather", '"clear"', '"drear"')],
                "user/settings.ini": [("Display.Width", "2560", "1920")],
            },
        )
        self.assertEqual((found.same, set(found.categories.values())), (204, {"saves", "settings"}))

    def test_what_cannot_be_read_inside(self) -> None:
        """A damaged file differs all the same, and it is said why its fields are not told."""
        entry = self.kept.backup(self.install())
        write(self.path("mossferry"), {"userdata/saves/midwinter.voyage": b'{"format": 4'})
        found = compare(self.kept.place(entry), self.install(), ledger=self.kept, card=self.card)
        self.assertIn("expected", found.unread["user/saves/midwinter.voyage"])
        self.assertEqual(len(found.differences), 1)
        plain = compare(self.kept.place(entry), self.install(), ledger=self.kept)
        self.assertEqual((plain.fields, plain.unread), ({}, {}))


class Carry(InstallCase):
    def test_saves_are_carried_and_converted(self) -> None:
        """1.4 to 2.0: every voyage arrives in a form that 2.0 loads; the source stays as it is."""
        before = snapshot(self.path("mossferry"))
        target = self.install("second/mossferry")
        change = carry(self.install(), target, ["saves"], ledger=self.kept)
        self.assertEqual({loss.what.split(": ")[-1] for loss in change.losses},
                         {"lanterns have no glow of their own since 2.0"})  # fmt: skip
        done = change.apply(self.kept, allow_loss=True)
        self.assertEqual(done.statements[1].counted_after, 4)
        status, said = self.judge("second/mossferry")
        self.assertEqual((status, said.count("loaded   saves/")), (0, 4), said)
        self.assertEqual(snapshot(self.path("mossferry")), before)

    def test_what_stands_there_is_not_overwritten(self) -> None:
        """Settings of the target differ: a conflict, until the person lets them give way."""
        target = self.install("second/mossferry")
        torn = carry(self.install(), target, ["settings"], ledger=self.kept)
        with self.assertRaisesRegex(DecisionNeeded, "(?s)controls.json.*overwrite=PATTERN"):
            torn.apply(self.kept, allow_loss=True)
        change = carry(self.install(), target, ["settings"], ledger=self.kept, choices=ALL_GIVE_WAY)
        self.assertIn("the target's own gives way", {loss.what for loss in change.losses})
        change.apply(self.kept, allow_loss=True)
        self.assertIn("2560 wide, detail 3", self.judge("second/mossferry")[1])

    def test_settings_are_merged_key_by_key(self) -> None:
        """My values, the target's own keys, retired ones in the statement; the game takes the result."""
        old, target = self.install(), self.install("second/mossferry")
        merge = CarryChoices(merge=lambda _: True)
        change = carry(old, target, ["settings"], ledger=self.kept, choices=merge)
        done = change.apply(self.kept, allow_loss=True)
        books = {
            s.subject: {x.item: (x.outcome.value, x.reason) for x in s.lines}
            for s in done.statements
        }
        settings = books["user/settings.ini"]
        self.assertEqual(settings["Video.Width"], ("unchanged", "your value"))
        self.assertEqual(settings["Sound.Volume"], ("unchanged", "only you have it"))
        with open(self.path("second", "mossferry", "userdata", "settings.ini"), "rb") as file:
            self.assertEqual(file.read(), _MERGED)
        self.assertEqual(books["user/controls.json"]["bindings.signal"][0], "unchanged")
        status, said = self.judge("second/mossferry")
        self.assertEqual((status, "2560 wide, detail 3" in said), (0, True), said)
        undo(done.record.id, ledger=self.kept).apply(self.kept)
        self.assertIn("1280 wide", self.judge("second/mossferry")[1])

    def test_the_targets_own_stays_or_stands_beside(self) -> None:
        """Kept: what would arrive is held. Both: what arrives is named for its build, twice if need be."""
        target = self.install("second/mossferry")
        before = scan(target.place)
        keep = CarryChoices(keep=lambda path: path.endswith(".ini"), both=lambda _: True)
        change = carry(self.install(), target, ["settings"], ledger=self.kept, choices=keep)
        lines = {x.item: x.outcome.value for x in change.statements[0].lines}
        self.assertEqual(
            lines, {"user/settings.ini": "left alone", "user/controls (1.4).json": "changed"}
        )
        self.assertEqual(change.losses, ())  # of what is held nothing is lost
        change.apply(self.kept)
        after = scan(target.place)
        self.assertEqual(set(after) - set(before), {"user/controls (1.4).json"})
        again = carry(self.install(), target, ["settings"], ledger=self.kept, choices=keep)
        self.assertIn("user/controls (1.4 2).json", again.after)

    def test_newer_data_goes_to_an_older_build_only_by_a_route(self) -> None:
        """2.0 to 1.4 leads back through the card; a damaged voyage is held, with the reason."""
        newer, older = self.install("second/mossferry"), self.install()
        carry(older, newer, ["saves"], ledger=self.kept).apply(self.kept, allow_loss=True)
        shutil.rmtree(self.path("mossferry", "userdata", "saves"))
        saves = self.path("second", "mossferry", "userdata", "saves")
        write(saves, {"broken.voyage": b'{"format": 5', "new.voyage": b'{"format": 7}'})
        change = carry(
            self.install("second/mossferry"), self.install(), ["saves"], ledger=self.kept
        )
        held = {
            x.item: x.reason for x in change.statements[0].lines if x.outcome.value == "left alone"
        }
        self.assertIn("cut short", held["user/saves/broken.voyage"])
        self.assertIn("the card does not know", held["user/saves/new.voyage"])
        change.apply(self.kept, allow_loss=True)
        status, said = self.judge()
        self.assertEqual((status, said.count("loaded   saves/")), (0, 4), said)

    def test_a_variant_gets_what_it_says_it_reads(self) -> None:
        """Voyages of 1.2 to 1.4 become what Longnight loads; mods and 7 are held; nothing leads back."""
        card = Card.load(self.path("longnight.card.toml"))
        variant = card.open(self.path("longnight"))
        newest = {"seven.voyage": b'{"format": 7, "ship": {}}'}
        write(self.path("mossferry", "userdata", "saves"), newest)
        change = carry(self.install(), variant, ["saves", "mods"], ledger=self.kept)
        held = {
            x.item: x.reason for x in change.statements[0].lines if x.outcome.value == "left alone"
        }
        self.assertEqual(len(held), 4)
        told = held["program/mods/reedlight/reeds.dat"]
        self.assertEqual(told, "Longnight reads no such files of Mossferry")
        change.apply(self.kept, allow_loss=True)
        status, said = self.judge("longnight")
        self.assertEqual((status, said.count("loaded   saves/")), (0, 4), said)
        with self.assertRaisesRegex(UsageError, "different titles"):
            carry(variant, self.install(), ["saves"], ledger=self.kept)
        with open(self.path("longnight.card.toml"), encoding="utf-8") as file:
            text = file.read()
        write(self.folder, {"odd.card.toml": text.replace("{ voyage", "{ canoe").encode()})
        odd = Card.load(self.path("odd.card.toml")).open(self.path("longnight"))
        with self.assertRaisesRegex(CardError, "no format 'canoe'"):
            carry(self.install(), odd, ["saves"], ledger=self.kept)

    def test_what_cannot_be_carried(self) -> None:
        """Unknown categories, a target without its folders, links."""
        with self.assertRaisesRegex(UsageError, "no category 'photos'"):
            carry(self.install(), self.install("second/mossferry"), ["photos"], ledger=self.kept)
        shutil.rmtree(self.path("second", "mossferry", "userdata"))
        with self.assertRaisesRegex(UsageError, "no user folder yet"):
            carry(self.install(), self.install("second/mossferry"), ["saves"], ledger=self.kept)
        os.mkdir(self.path("second", "mossferry", "userdata"))
        os.symlink("/etc/hosts", self.path("mossferry", "userdata", "saves", "link"))
        change = carry(
            self.install(), self.install("second/mossferry"), ["saves"], ledger=self.kept
        )
        held = [x.item for x in change.statements[0].lines if x.outcome.value == "left alone"]
        self.assertEqual(held, ["user/saves/link"])


_MERGED = (
    b"[General]\r\nSettingsFormat = 2\r\nLanguage = en\r\n\r\n"
    b"[Video]\r\nWidth = 2560\r\nDetail = 3\r\nHeight = 1080\r\n\r\n"
    b"[Sound]\r\nVolume = 80\r\nAmbience = 70\r\n"
)

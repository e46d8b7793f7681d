"""The styles of updating: what comes out, told apart and counted without our code, and taken back."""

from __future__ import annotations

import os
import signal
import sys
import tempfile
import time
import traceback
import unittest
import zipfile
from collections.abc import Callable
from typing import Any, NoReturn

from hypothesis import given, settings
from hypothesis import strategies as st

from kindred_ledger.cards import Card
from kindred_ledger.changes import Changeset, recover, undo
from kindred_ledger.errors import (
    CardError,
    DecisionNeeded,
    LossNotAllowed,
    PlaceChanged,
    UsageError,
)
from kindred_ledger.ledger import (
    Ledger,
    ReleaseTag,
    RetentionPolicy,
    mirror,
    plan_retirement,
    verify,
)
from kindred_ledger.places import FolderPlace, ItemPlace, ZipPlace, open_place, read_bytes
from kindred_ledger.planning import match_releases
from kindred_ledger.releases import shelve
from kindred_ledger.updates import (
    Assembly,
    UpdateChoices,
    assemble,
    install_beside,
    reinstall,
    update,
)
from tests.changes.killed import is_change
from tests.small import MINE, NEW, OLD, SmallCase, size_of
from tests.support import (
    files_in,
    opened_files,
    side_law,
    small_disk,
    snapshot,
    texts,
    unprivileged,
    write,
)

GAMES = "games"


class StyleCase(SmallCase):
    def old(self) -> FolderPlace:
        return FolderPlace(self.path("old"))

    def new(self) -> FolderPlace:
        return FolderPlace(self.path("new"))

    def carry_out(self, change: Changeset, expected: dict[str, bytes]) -> None:
        """Apply it: what is there is as expected, the books count it, and undo gives the same bytes."""
        before, had = snapshot(self.path(GAMES)), files_in(self.path(GAMES))
        done = change.apply(self.kept, allow_loss=True)
        self.assertEqual(files_in(self.path(GAMES)), expected)
        books = done.statements[0]
        touched = change.before.leaves or change.after.leaves  # of a new folder, only that
        inside = (
            expected
            if len(touched) == len(expected) or change.before
            else {path: data for path, data in expected.items() if path not in had}
        )
        self.assertEqual(books.counted_after, len(inside))
        self.assertEqual(change.after.size_bytes, size_of(inside))
        undo(done.record.id, ledger=self.kept).apply(self.kept)
        self.assertEqual(snapshot(self.path(GAMES)), before)


class Styles(StyleCase):
    def test_over_the_top(self) -> None:
        """Edits, the user's own, left-overs and what a release may overwrite, each in its way."""
        mine = UpdateChoices(mine=lambda path: path.endswith("both.ini"))
        change = update(self.install, self.new(), ledger=self.kept, old=self.old(), choices=mine)
        expected = {
            **{f"quill/{p}": d for p, d in NEW.items() if not p.startswith("bells/")},
            **{f"quill/{p}": d for p, d in MINE.items() if p in _KEPT_OVER_THE_TOP},
        }
        self.carry_out(change, expected)
        told = " ".join(map(str, change.notes))
        self.assertIn("left alone, as they may be yours or left over from the old one: "
                      "program/data/gone-edited.dat", told)  # fmt: skip
        self.assertIn("optional and not used, so left out: bells (Quill Bells)", told)
        self.assertTrue(str(change.notes[0]).startswith("over the top; risk:"))

    def test_clean(self) -> None:
        """The release and the keep-list, nothing else; all that was the user's is named first."""
        change = reinstall(self.install, self.new(), ledger=self.kept, old=self.old(),
                           keep=lambda path: path.endswith("notes.txt"))  # fmt: skip
        lost = {loss.where.removeprefix("program/") for loss in change.losses}
        edits = {"data/edited.ini", "data/gone-edited.dat", "data/draw.cache", "data/own.dat"}
        self.assertEqual(lost, edits)
        with self.assertRaises(LossNotAllowed):
            change.apply(self.kept)
        stay = ("mods/reeds/mod.json", "data/both.ini", "notes.txt")
        expected = {f"quill/{p}": d for p, d in {**NEW, **{p: MINE[p] for p in stay}}.items()}
        self.carry_out(change, expected)

    def test_clean_without_the_old_release(self) -> None:
        """What may be the user's, for all that is known, is a loss, too."""
        change = reinstall(self.install, self.new(), ledger=self.kept)
        lost = {loss.where.removeprefix("program/") for loss in change.losses}
        self.assertEqual(
            lost, {"data/gone.dat", "data/gone-edited.dat", "data/own.dat", "notes.txt"}
        )

    def test_beside(self) -> None:
        """A new folder named for the version, with the marker; the old install is not touched."""
        change = install_beside(self.install, self.new(), ledger=self.kept)
        old = {f"quill/{path}": data for path, data in MINE.items()}
        new = {f"quill-2.0/{path}": data for path, data in {**NEW, "alone.txt": b"yes"}.items()}
        self.carry_out(change, {**old, **new})
        self.assertNotIn("quill-2.0", os.listdir(self.path(GAMES)))
        write(self.path("other"), {"drive.txt": b""})
        elsewhere = install_beside(
            self.install, self.new(), ledger=self.kept, target=self.path("other")
        )
        elsewhere.apply(self.kept)
        self.assertEqual(len(files_in(self.path("other", "quill-2.0"))), len(NEW) + 1)
        misnamed = self.path(
            "quill-1.0"
        )  # what a folder is called tells nothing about what is in it
        named = install_beside(self.install, self.new(), ledger=self.kept, target=misnamed)
        named.apply(self.kept)
        self.assertEqual(len(files_in(misnamed)), len(NEW) + 1)
        with self.assertRaisesRegex(UsageError, "something is there already"):
            install_beside(
                self.install, self.new(), ledger=self.kept, target=self.path("other", "quill-2.0")
            )

    def test_components(self) -> None:
        """Only some of a release, by the name players see; one goes back alone; an unknown one lists all."""
        tunes = UpdateChoices(components=("the airs",))
        change = update(self.install, self.new(), ledger=self.kept, old=self.old(), choices=tunes)
        expected = {f"quill/{path}": data for path, data in MINE.items()}
        self.carry_out(change, {**expected, "quill/tunes/air.tone": NEW["tunes/air.tone"]})
        update(self.install, self.new(), ledger=self.kept, choices=tunes).apply(self.kept)
        back = update(self.install, self.old(), ledger=self.kept, choices=tunes)
        self.assertEqual((back.losses, back.version_after), ((), ""))
        back.apply(self.kept)
        self.assertEqual(files_in(self.path(GAMES)), expected)
        with self.assertRaisesRegex(
            UsageError, r"(?s)no component 'flutes'.*tunes \(The Airs\); bells"
        ):
            update(
                self.install,
                self.new(),
                ledger=self.kept,
                choices=UpdateChoices(components=("flutes",)),
            )

    def test_optional_parts(self) -> None:
        """Brought where they are used or asked for; promised ones that are missing are named."""
        asked = UpdateChoices(mine=lambda _: True, also=("Quill Bells",))
        for choices, used, comes in (
            (None, False, False),
            (None, True, True),
            (asked, False, True),
        ):
            if used:
                write(self.path(GAMES, "quill"), {"bells/mine.tone": b""})
            change = update(self.install, self.new(), ledger=self.kept, choices=choices)
            self.assertEqual("program/bells/one.tone" in change.after, comes)
            if used:
                os.remove(self.path(GAMES, "quill", "bells", "mine.tone"))
        os.remove(self.path("new", "tunes", "air.tone"))
        change = update(self.install, self.new(), ledger=self.kept)
        self.assertIn("does not hold: tunes (The Airs)", " ".join(map(str, change.warnings)))

    def test_assemble(self) -> None:
        """Parts that agree merge, with a file in two of them counted once; the rest is a question."""
        parts = self.parts({"program": _PROGRAM, "data": {*NEW} - _PROGRAM | {"quill.bin"}})
        target = ItemPlace(self.path(GAMES, "made"))
        change = assemble(parts, target, ledger=self.kept, how=Assembly(self.card))
        made = {f"made/{path}": data for path, data in NEW.items()}
        mine = {f"quill/{path}": data for path, data in MINE.items()}
        self.carry_out(change, {**mine, **made})
        write(self.path("part-data"), {"wrapped/quill.bin": b"another"})
        torn = assemble(self.again, target, ledger=self.kept, how=Assembly(self.card))
        with self.assertRaisesRegex(DecisionNeeded, r"(?s)quill.bin.*first=PATTERN"):
            torn.apply(self.kept)
        first = Assembly(self.card, first=lambda path: path == "quill.bin")
        change = assemble(self.again, target, ledger=self.kept, how=first)
        self.carry_out(change, {**mine, **made})
        alone = assemble(self.again[1:], target, ledger=self.kept, how=Assembly(self.card))
        missing = "missing, by the card: a part with version.txt"
        self.assertIn(missing, " ".join(map(str, alone.warnings)))

    def parts(self, of: dict[str, set[str]]) -> list[Any]:
        for name, paths in of.items():
            write(self.path(f"part-{name}"), {f"wrapped/{path}": NEW[path] for path in paths})
        self.again = [open_place(self.path(f"part-{name}")) for name in of]
        return self.again


_PROGRAM = {"quill.bin", "version.txt"}
_KEPT_OVER_THE_TOP = {
    "data/both.ini", "data/edited.ini", "data/gone-edited.dat", "data/own.dat",
    "mods/reeds/mod.json", "notes.txt",
}  # fmt: skip


class WithoutACard(StyleCase):
    def test_two_shelved_releases_tell_edits_from_leftovers(self) -> None:
        """No card, no version anywhere: what was shelved, even as digests only, tells all apart."""
        plain = Card.plain("quill")
        shelve([self.old()], plain, ledger=self.kept, version="1.0", digests_only=True)
        new = shelve([self.new()], plain, ledger=self.kept, version="2.0")
        install = plain.open(self.path(GAMES, "quill"))
        release = self.kept.shelf.place(new.release)
        choices = UpdateChoices(mine=lambda path: path.endswith("both.ini"))
        change = update(install, release, ledger=self.kept, choices=choices)
        self.assertIn("from 1.0 to 2.0", change.summary)
        self.assertIn(
            "compared with the shelf: quill@1.0 with 4 files edited, 3 unknown",
            texts(change.notes),
        )
        kept = {path: MINE[path] for path in _KEPT_OVER_THE_TOP}
        torn = update(install, release, ledger=self.kept)
        items = {conflict.where for conflict in torn.conflicts}
        self.assertEqual(items, {"program/data/both.ini", "program/data/draw.cache"})
        theirs = UpdateChoices(choices.mine, lambda path: path.endswith(".cache"))
        change = update(install, release, ledger=self.kept, choices=theirs)
        self.carry_out(change, {f"quill/{path}": data for path, data in {**NEW, **kept}.items()})

    _sides = st.dictionaries(
        st.sampled_from(("a", "b", "c/d", "c/e", "f/g/h", "i")),
        st.sampled_from((b"1", b"2", b"3")),
        max_size=6,
    )

    @settings(side_law, max_examples=side_law.max_examples // 2)
    @given(_sides, _sides, _sides)
    def test_every_file_has_the_fate_that_three_sides_give_it(
        self, old: dict[str, bytes], mine: dict[str, bytes], new: dict[str, bytes]
    ) -> None:
        """Any three trees: as a table of the three contents says, and nothing of the user's ever goes."""
        with tempfile.TemporaryDirectory() as folder:
            for name, contents in (("old", old), ("mine", mine), ("new", new)):
                write(f"{folder}/{name}", contents)
            ledger = Ledger.open(f"{folder}/ledger")
            plain = Card.plain("thing")
            for name, version in (("old", "1"), ("new", "2")):
                shelve([FolderPlace(f"{folder}/{name}")], plain, ledger=ledger, version=version)
            install = plain.open(f"{folder}/mine", version="1")
            release = ledger.shelf.place(ledger.shelf.find("thing@2"))
            change = update(install, release, ledger=ledger)
            torn = {conflict.where.removeprefix("program/") for conflict in change.conflicts}
            choices = UpdateChoices(mine=lambda _: True)
            change = update(install, release, ledger=ledger, choices=choices)
            self.assertEqual(torn, {p for p in {*mine} & {*new} if _both(p, old, mine, new)})
            before = snapshot(f"{folder}/mine")
            done = change.apply(ledger, allow_loss=True)
            expected = {p: _fate(p, old, mine, new) for p in {*old, *mine, *new}}
            self.assertEqual(
                files_in(f"{folder}/mine"), {p: data for p, data in expected.items() if data}
            )
            if change.actions:
                undo(done.record.id, ledger=ledger).apply(ledger)
            self.assertEqual(snapshot(f"{folder}/mine"), before)
            ledger.index.close()


def _both(path: str, old: dict[str, bytes], mine: dict[str, bytes], new: dict[str, bytes]) -> bool:
    return len({old.get(path), mine[path], new[path]}) == 3 or (
        path not in old and mine[path] != new[path]
    )


def _fate(path: str, old: dict[str, bytes], mine: dict[str, bytes], new: dict[str, bytes]) -> bytes:
    was, here, there = old.get(path, b""), mine.get(path, b""), new.get(path, b"")
    if there:
        return there if here in (b"", was) else here
    return b"" if here == was else here


class Killed(StyleCase):
    """Each style, killed at 50 points of its changes to the disk: before or after, never between."""

    def ways(self) -> dict[str, Callable[[Ledger], Changeset]]:
        old, new, install = self.old(), self.new(), self.install
        mine = UpdateChoices(mine=lambda _: True)
        tunes = UpdateChoices(components=("tunes",))
        pack = ZipPlace(self.path(GAMES, "pack.jar"))
        return {
            "over": lambda led: update(install, new, ledger=led, old=old, choices=mine),
            "clean": lambda led: reinstall(install, new, ledger=led, old=old),
            "beside": lambda led: install_beside(install, new, ledger=led),
            "component": lambda led: update(install, new, ledger=led, old=old, choices=tunes),
            "assemble": lambda led: assemble(
                [old], ItemPlace(self.path(GAMES, "made")), ledger=led
            ),
            "archive": lambda led: assemble([old], pack, ledger=led),
        }

    @unittest.skipIf(os.name == "nt", "there is no SIGKILL on Windows")
    def test_every_style_killed_at_fifty_points(self) -> None:
        """Recovered forward or back by turns; the ledger is whole, and nothing is left behind."""
        with zipfile.ZipFile(self.path(GAMES, "pack.jar"), "w") as archive:
            archive.writestr("META-INF/QUILL.SF", "signed")
            archive.writestr("quill.bin", "0.9")
        start = _contents(self.path(GAMES))
        for name, way in self.ways().items():
            changes, after = self.run_whole(name, way, start)
            points = sorted({1 + n * (changes - 1) // 49 for n in range(50)})
            fates = []
            for point in points:
                ledger = self.kill(f"{name}-{point}", way, point)
                recover(ledger, back=point % 2 == 0)
                here = _contents(self.path(GAMES))
                found = verify(ledger)
                whole = not (found.findings or found.costs)
                left = [one for one in os.listdir(ledger.folder("work")) if "change-" in one]
                fate = "before" if here == start else "after" if here == after else "mixed"
                fates.append((point, fate if whole and not left else f"{found} {left}"))
                if here == after:
                    undo(ledger.records()[-1].id, ledger=ledger).apply(ledger, allow_loss=True)
                self.assertEqual(_contents(self.path(GAMES)), start, (name, point, fate))
                ledger.index.close()
            with self.subTest(name):
                self.assertEqual([f for f in fates if f[1] not in ("before", "after")], [])
                self.assertGreaterEqual({fate for _, fate in fates}, {"before"})

    def run_whole(
        self, name: str, way: Callable[[Ledger], Changeset], start: dict[str, Any]
    ) -> tuple[int, dict[str, Any]]:
        """Return how many changes to the disk a style makes, and what it leads to; take it back."""
        reader, writer = os.pipe()
        ledger = self.ledger(f"whole-{name}")
        if not (pid := os.fork()):
            count = 0

            def hook(event: str, args: tuple[object, ...]) -> None:
                nonlocal count
                count += is_change(event, args)

            sys.addaudithook(hook)
            _apply_and_exit(way, ledger.root, lambda: os.write(writer, str(count).encode()))
        self.assertEqual(os.waitpid(pid, 0)[1], 0)
        os.close(writer)
        changes = int(os.read(reader, 20))
        os.close(reader)
        after = _contents(self.path(GAMES))
        self.assertNotEqual(after, start)
        undo(ledger=ledger).apply(ledger)
        return changes, after

    def kill(self, name: str, way: Callable[[Ledger], Changeset], point: int) -> Ledger:
        """Begin a style in another process, and have that die at a change to the disk."""
        ledger = self.ledger(name)
        if not (pid := os.fork()):
            left = point

            def hook(event: str, args: tuple[object, ...]) -> None:
                nonlocal left
                if is_change(event, args):
                    left -= 1
                    if not left:
                        os.kill(os.getpid(), signal.SIGKILL)

            sys.addaudithook(hook)
            _apply_and_exit(way, ledger.root)
        os.waitpid(pid, 0)
        return Ledger.open(ledger.root)


def _apply_and_exit(
    way: Callable[[Ledger], Changeset], root: str, told: Callable[[], object] = int
) -> NoReturn:
    """Apply, in a process that was forked for it."""
    try:
        ledger = Ledger.open(root)
        way(ledger).apply(ledger, allow_loss=True)
        told()
        os._exit(0)
    except BaseException:  # noqa: BLE001  # or the test would go on in two processes
        traceback.print_exc()
    finally:
        os._exit(1)


def _contents(folder: str) -> dict[str, Any]:
    """Return kind and bytes of all below a folder: times of new files are as they are."""
    return {
        path: node[:2] if node[0] != "dir" else node[:1] for path, node in snapshot(folder).items()
    }


class Rules(StyleCase):
    """What the card says of updates, and what is looked at before and after."""

    def over(self, **options: Any) -> Changeset:
        mine = UpdateChoices(mine=lambda _: True)
        options = {"ledger": self.kept, "old": self.old(), "choices": mine, **options}
        return update(self.install, self.new(), **options)

    def test_what_lives_elsewhere(self) -> None:
        """The user's files move where the new build looks for them, into folders made for it; once."""
        self.set_card(
            "moves = ["
            '{ since = "2.0", from = "/program/mods/*", to = "/program/packs/{name}" },'
            '{ since = "2.0", from = "/program/notes.txt", to = "/program/papers/old/notes.txt" }]'
        )
        change = self.over()
        expected = {
            **{f"quill/{p}": d for p, d in NEW.items() if not p.startswith("bells/")},
            **{f"quill/{p}": MINE[p] for p in _KEPT_OVER_THE_TOP},
        }
        for was, now in (
            ("mods/reeds/mod.json", "packs/reeds/mod.json"),
            ("notes.txt", "papers/old/notes.txt"),
        ):
            expected[f"quill/{now}"] = expected.pop(f"quill/{was}")
        self.carry_out(change, expected)
        write(self.path(GAMES, "quill"), {"packs/reeds/mod.json": b"another"})
        with self.assertRaisesRegex(
            DecisionNeeded, "it would move to program/packs/reeds/mod.json"
        ):
            self.over().apply(self.kept)

    def test_where_one_may_start(self) -> None:
        """A build that takes over from some builds only is not reached from others in one go."""
        self.set_card(
            'starts = [{ to = ">=2.0", from = ">=1.5", otherwise = "2.0 reads 1.5 at least" }]'
        )
        with self.assertRaisesRegex(
            DecisionNeeded, "(?s)it is 1.0: 2.0 reads 1.5 at least.*Bring it to >=1.5"
        ):
            self.over().apply(self.kept)

    def test_programs_that_are_needed(self) -> None:
        """The right one of several is found, the others stay; none, or too old, is told."""
        self.set_card(
            '[[requires]]\nname = "Inkwell"\nbuilds = ">=2.0"\nversions = ">=3"\n'
            'detect = [{ file = "about.txt", pattern = "ink {version}" }]\n'
            + "".join(
                f'{system} = ["{{program}}/../../run/ink-*"]\n'
                for system in ("linux", "macos", "windows")
            )
        )
        with self.assertRaisesRegex(DecisionNeeded, "Inkwell: >=3 is needed and none was found"):
            self.over().apply(self.kept)
        write(self.path("run"), {"ink-2/about.txt": b"ink 2.9", "ink-odd/about.txt": b"?"})
        with self.assertRaisesRegex(DecisionNeeded, "there is only 2.9 in .*unknown in"):
            self.over().apply(self.kept)
        write(self.path("run"), {"ink-3/about.txt": b"ink 3.1", "ink-4/about.txt": b"ink 3.0"})
        change = self.over()
        self.assertRegex(
            " ".join(map(str, change.notes)), r"3.1 in .*ink-3 is right \(not 2.9 in .*may stay"
        )
        self.assertEqual(change.conflicts, ())

    def test_the_version_is_read_back(self) -> None:
        """A file that tells the version is kept back: the change is taken back, and says so."""
        write(self.path(GAMES, "quill"), {"version.txt": b"build 1.0 \n"})
        before = snapshot(self.path(GAMES))
        change = self.over()
        with self.assertRaisesRegex(
            PlaceChanged, "(?s)not what was meant: version.txt: 1.0.*taken back"
        ):
            change.apply(self.kept)
        self.assertEqual(snapshot(self.path(GAMES)), before)
        self.assertEqual(self.kept.records(), [])

    def test_versions_that_do_not_belong_together(self) -> None:
        """Program 2.0 on data 1.0 is told; data 2.0.1 with program 2.0 is not."""
        self.set_card(
            "", without='[components.tunes]\nnames = ["The Airs"]\ninclude = ["/program/tunes/"]'
        )
        self.assertEqual(self.over().warnings, ())
        self.set_card(
            '[components.heart]\ninclude = ["/program/version.txt", "/program/quill.bin"]\n'
        )
        change = self.over(choices=UpdateChoices(components=("heart",)))
        self.assertEqual(
            texts(change.warnings), ["program 2.0 and data 1.0 do not belong together"]
        )

    def test_copies_that_hide_what_is_installed(self) -> None:
        """A copy placed by hand before an installed file is named; other files there are not."""
        self.set_card('hides = [{ folder = "/program/mods/over", over = "/program/data" }]')
        write(self.path(GAMES, "quill", "mods", "over"), {"plain.dat": b"old", "else.dat": b""})
        warned = " ".join(map(str, self.over().warnings))
        self.assertIn("program/mods/over/plain.dat hides program/data/plain.dat", warned)
        self.assertNotIn("else.dat", warned)

    def test_a_release_folder_that_changes_under_way(self) -> None:
        """A large file, which the system copies by itself, is another by then: all is taken back."""
        write(self.path("new"), {"data/large.dat": bytes(range(256)) * 4_000})
        change = self.over()
        before = snapshot(self.path(GAMES))
        write(self.path("new"), {"data/large.dat": bytes(reversed(range(256))) * 4_000})
        with self.assertRaisesRegex(
            PlaceChanged, "(?s)large.dat is not what was written.*came from"
        ):
            change.apply(self.kept)
        self.assertEqual(snapshot(self.path(GAMES)), before)
        self.assertEqual(self.kept.records(), [])

    def test_too_little_room(self) -> None:
        """It is told before anything is asked, as a decision; nothing was written."""
        small_disk(self, self.path(GAMES), "3m")
        write(self.path(GAMES, "quill"), MINE)
        write(self.path("new"), {"data/large.dat": bytes(range(256)) * 40_000})
        with self.assertRaisesRegex(DecisionNeeded, "MB free and .* are needed"):
            self.over().apply(self.kept)

    def test_folders_that_may_not_be_written(self) -> None:
        """It is told before anything is written; files that are read-only change all the same."""
        os.chmod(self.path(GAMES, "quill", "quill.bin"), 0o444)
        change = self.over()
        self.assertIn(
            "1 file is read-only and changes all the same", " ".join(map(str, change.notes))
        )
        with unprivileged(self.folder):
            os.chmod(self.path(GAMES, "quill", "data"), 0o555)
            try:
                with self.assertRaisesRegex(
                    DecisionNeeded, "data: you have no permission to write in this folder"
                ):
                    self.over().apply(self.kept)
            finally:
                os.chmod(self.path(GAMES, "quill", "data"), 0o755)

    def test_what_a_card_says_wrong(self) -> None:
        """Every fault of the new tables at once, each with its key."""
        with self.assertRaises(CardError) as caught:
            self.set_card(
                'moves = [{ since = "x", from = "/nowhere/*", to = "/program/a" }]\n'
                "starts = [{ to = '>=two', from = '>=1' }]\n"
                '[components.airs]\nnames = ["the airs"]\ninclude = ["x/"]\n'
                '[[together]]\nsame = ["program", "sound"]\nwhen = { data = ">=1" }\n'
                '[[requires]]\nname = "Ink"\ndetect = [{ file = "a" }]\n'
            )
        faults = "\n".join(texts(caught.exception.findings))
        for words in (
            "update.moves[1]: 'x' is not a version",
            "'/nowhere/*' begins with no part of an install",
            "`to` needs {name}",
            "update.starts[1]: 'two' is not a version",
            "'the airs' is a name of 'tunes' already",
            "expected either `same`",
            "there is no axis 'sound'",
            "requires[1].detect[1]: expected one of `pattern`",
            "expected folders to look in",
        ):
            self.assertIn(words, faults)


class Archives(StyleCase):
    def test_files_go_into_a_program_archive(self) -> None:
        """Whatever its name: signatures go, the rest stays byte for byte, undo gives the very archive."""
        path = self.path(GAMES, "quill", "quill.pak")
        with zipfile.ZipFile(path, "w") as archive:
            for name in (
                "META-INF/MANIFEST.MF",
                "META-INF/Q.SF",
                "META-INF/Q.RSA",
                "a.bin",
                "sub/b.bin",
            ):
                archive.writestr(name, name * 50)
        with open(path, "rb") as file:
            before = file.read()
        write(self.path("mod"), {"b.bin": b"mine", "c.bin": b"more"})
        place = open_place(path)
        self.assertIsInstance(place, ZipPlace)
        how = Assembly(at="sub")
        done = assemble([FolderPlace(self.path("mod"))], place, ledger=self.kept, how=how).apply(
            self.kept
        )
        with zipfile.ZipFile(path) as archive:
            names = {"META-INF/MANIFEST.MF", "a.bin", "sub/b.bin", "sub/c.bin"}
            self.assertEqual({n for n in archive.namelist() if not n.endswith("/")}, names)
            self.assertEqual(archive.read("sub/b.bin"), b"mine")
            self.assertEqual(archive.read("a.bin"), b"a.bin" * 50)
        counted = {"META-INF/Q.SF": "removed", "META-INF/Q.RSA": "removed", "sub/b.bin": "changed",
                   "sub/c.bin": "added"}  # fmt: skip
        lines = done.statements[1].lines
        told = {line.item: line.outcome.value for line in lines}
        self.assertEqual({n: o for n, o in told.items() if o != "unchanged"}, counted)
        undo(done.record.id, ledger=self.kept).apply(self.kept)
        with open(path, "rb") as file:
            self.assertEqual(file.read(), before)
        every = Assembly(at="sub", drop=lambda name: name.startswith("META-INF/"))
        change = assemble([FolderPlace(self.path("mod"))], place, ledger=self.kept, how=every)
        self.assertNotIn("META-INF/MANIFEST.MF", change.after)

    def test_a_program_that_unpacks_itself_and_wrong_names(self) -> None:
        """A zip behind a program, a tar called .zip: what something is its content says."""
        write(self.path("mod"), {"c.bin": b"more"})
        with zipfile.ZipFile(self.path("a.zip"), "w") as archive:
            archive.writestr("a.bin", "a")
        with open(self.path("a.zip"), "rb") as file:
            packed = file.read()
        write(self.folder, {"setup.run": b"#!/bin/sh\nexit\n" + packed})
        self.assertEqual(open_place(self.path("setup.run")).survey().files, ("a.bin",))
        import tarfile

        with tarfile.open(self.path("t.zip"), "w") as tar:
            tar.add(self.path("mod"), "mod")
        self.assertEqual(open_place(self.path("t.zip")).survey().files, ("mod/c.bin",))


class Recognizing(StyleCase):
    def test_an_install_is_known_by_its_content(self) -> None:
        """Edited, unknown and missing files are counted; the likest is first; nothing is read twice."""
        os.remove(self.path(GAMES, "quill", "data", "same.dat"))
        for place, version in ((self.old(), "1.0"), (self.new(), "2.0")):
            shelve([place], self.card, ledger=self.kept, version=version, digests_only=True)
        time.sleep(0.1)  # what was written just now may change again within a tick of its disk
        found = match_releases(self.install, self.kept)
        told = "quill@1.0 with 4 files edited, 2 unknown, 1 missing"
        self.assertEqual(str(found[0]), told)
        with opened_files(self.path(GAMES)) as opened:
            self.assertEqual(str(match_releases(self.install, self.kept)[0]), told)
        self.assertEqual([name for name in opened if "version.txt" not in name], [])

    def test_what_older_releases_left_behind(self) -> None:
        """Only what a release had there, just so, is left over; the user's files never are."""
        write(self.path("older"), {**OLD, "version.txt": b"build 0.9\n", "data/ancient.dat": b"0.9",
                                   "data/own.dat": b"not mine"})  # fmt: skip
        write(self.path(GAMES, "quill"), {"data/ancient.dat": b"0.9"})
        for place in (FolderPlace(self.path("older")), self.old()):
            shelve([place], self.card, ledger=self.kept, digests_only=True)
        choices = UpdateChoices(mine=lambda _: True)
        change = update(self.install, self.new(), ledger=self.kept, choices=choices)
        stale = "left over from older releases, which you can remove: program/data/ancient.dat (quill@0.9)"
        self.assertIn(stale, texts(change.notes))
        self.assertIn("program/data/own.dat", change.after)

    def test_the_shelf(self) -> None:
        """Labels that are wrong or taken are refused; releases are no entries; digests give no contents."""
        shelf = self.kept.shelf
        with self.assertRaisesRegex(UsageError, "this is not 2.0: version.txt: 1.0"):
            shelve([self.old()], self.card, ledger=self.kept, version="2.0")
        one = shelve([self.old()], self.card, ledger=self.kept, digests_only=True)
        self.assertEqual(shelve([self.old()], self.card, ledger=self.kept, digests_only=True), one)
        write(self.path("old"), {"data/plain.dat": b"a hotfix"})
        with self.assertRaisesRegex(UsageError, "another release is shelved as quill@1.0"):
            shelve([self.old()], self.card, ledger=self.kept)
        fixed = ReleaseTag(channel="hotfix")
        shelve([self.old()], self.card, ledger=self.kept, label=fixed)
        self.assertEqual(shelf.find("quill@1.0.0"), one.release)
        self.assertEqual(shelf.find("release:quill@1.0", channel="hotfix").label.channel, "hotfix")
        self.assertEqual(self.kept.entries(), [])
        place = shelf.place(one.release)
        self.assertEqual(b"".join(next(iter(place.read(["data/both.ini"])))[1]), b"a = 1\n")
        with self.assertRaisesRegex(UsageError, "of data/plain.dat only the digest is shelved"):
            next(iter(place.read(["data/plain.dat"])))
        with self.assertRaisesRegex(UsageError, "only digests are shelved"):
            update(self.card.open(self.path("new")), place, ledger=self.kept)
        self.assertFalse(verify(self.kept).findings)
        shelf.remove(one.release)
        with self.assertRaisesRegex(DecisionNeeded, "no release quill@1.0 is so"):
            shelf.find("quill@1.0", channel="stable")

    def test_a_shelved_release_stays_and_goes_with_the_ledger(self) -> None:
        """No policy retires it; a mirror has it, whole or by digests, and every byte is as it was."""
        shelve([self.old()], self.card, ledger=self.kept, digests_only=True)
        shelve([self.new()], self.card, ledger=self.kept)
        for number in range(2):
            write(self.path("old"), {"data/plain.dat": b"%d" % number})
            self.kept.backup(self.old())
        plan_retirement(self.kept, RetentionPolicy(last=1)).carry_out(self.kept)
        copy = self.ledger("copy")
        mirror(self.kept, copy)
        for ledger in (self.kept, copy):
            self.assertFalse(verify(ledger).costs)
            places = [ledger.shelf.place(one) for one in ledger.shelf.releases()]
            self.assertEqual([len(place.survey().files) for place in places], [len(OLD), len(NEW)])
            held = {path: read_bytes(places[1], path) for path in places[1].survey().files}
            self.assertEqual(held, NEW)

    def test_a_release_in_a_download(self) -> None:
        """Through wrappers and one name in another; two are a question, extras are named."""
        for wrapped in ("", "quill/", "a b/quill/quill/"):
            folder = self.path(f"down-{len(wrapped)}")
            extra = {"read me.txt": b"", "extras/wall.png": b""} if wrapped else {}
            write(folder, {**{wrapped + path: data for path, data in OLD.items()}, **extra})
            release = self.card.open_release(folder)
            self.assertEqual(len(release.place.survey().files), len(OLD))
            told = ("extras/", "read me.txt") if wrapped else ()
            self.assertEqual(release.extras, told)
        write(self.path("two"), {f"{n}/{p}": d for n in ("one", "two") for p, d in OLD.items()})
        with self.assertRaisesRegex(
            DecisionNeeded, r"(?s)2 folders in it could be meant.*one.*two"
        ):
            self.card.open_release(self.path("two"))

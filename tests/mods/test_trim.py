"""Trimming: what is as in the original goes, by content and by meaning; nothing else, and only once."""

from __future__ import annotations

import json
import random
import shutil
import unittest
import zipfile
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import kindred_ledger as kl
from kindred_ledger.demo.boathouse_files import cover
from kindred_ledger.mods.covering import Covering
from tests.mods.support import PACKED, WRAPPED, at, zipped
from tests.support import Case, PlayCase, files_in, side_law, write

ORIGINAL = {
    "data/tiles/1.tile": b"one", "data/tiles/2.tile": b"two", "data/a.json": b'{"x": 1, "y": 1.10}',
    "data/b.xml": b"<b><c n='1'/></b>", "data/c.ini": b"[A]\nx = 1\n", "data/d.txt": b"text",
    "data/cover.png": cover(4, 4), "version.txt": b"1.4",
}  # fmt: skip
DESCRIPTOR = json.dumps({"id": "p", "pack": 3, "builds": "1.4", "parts": ["tiles/1.tile"]}).encode()


class Trimmed(Case):
    def trim(self, pack: dict[str, bytes], **more: Any) -> kl.Changeset:
        shutil.rmtree(self.path("original"), ignore_errors=True)
        write(self.path("original"), more.pop("original", ORIGINAL))
        if "zip" in more:
            name = more.pop("zip")
            write(self.folder, {name: zipped(pack)})
        else:
            name = "pack"
            shutil.rmtree(self.path(name), ignore_errors=True)
            write(self.path(name), pack)
        write(self.folder, {"title.card.toml": more.pop("card", PACKED).encode()})
        card = kl.Card.load(self.path("title.card.toml"))
        return kl.trim_mod(
            self.path(name), self.path("original"), ledger=self.ledger(), card=card, **more
        )

    def left(self, change: kl.Changeset) -> list[str]:
        change.apply(self.ledger())
        return sorted(files_in(self.path("pack")))

    def test_by_content_and_by_meaning(self) -> None:
        """Order, spaces and quotes do not count; the text of a number does, and so does a value."""
        pack = {
            "mod.json": DESCRIPTOR, "tiles/1.tile": b"one", "tiles/2.tile": b"two",
            "a.json": b'{\r\n "y": 1.10,\r\n "x": 1}', "b.xml": b'<b>\n <c n="1"/>\n</b>',
            "c.ini": b"; mine\r\n[A]\r\nx=1\r\n", "d.txt": b"text ", "own.tile": b"own", "x.bak": b"x",
        }  # fmt: skip
        self.assertEqual(
            self.left(self.trim(pack)), ["d.txt", "mod.json", "own.tile", "tiles/1.tile"]
        )
        for name, data in (("a.json", b'{"x": 1, "y": 1.1}'), ("b.xml", b"<b><c n='2'/></b>")):
            with self.subTest(name):
                other = Trimmed("test_by_content_and_by_meaning")
                other.setUp()
                self.addCleanup(other.doCleanups)
                kept = other.left(
                    other.trim({"mod.json": DESCRIPTOR, "tiles/1.tile": b"1", name: data})
                )
                self.assertIn(name, kept)

    def test_what_is_named_stays(self) -> None:
        """A part of the descriptor, and what is to be kept, also where it looks like a file of the making."""
        told = {"id": "p", "pack": 3, "builds": "1.4", "parts": ["own.bak"]}
        pack = {
            "mod.json": json.dumps(told).encode(),
            "own.bak": b"1",
            "d.txt": b"x",
            "b.tmp": b"2",
        }
        pack["c.tmp"] = b"3"
        choices = kl.TrimChoices(keep=("b.tmp",))
        self.assertEqual(
            self.left(self.trim(pack, choices=choices)), ["b.tmp", "d.txt", "mod.json", "own.bak"]
        )

    def test_archives_have_the_right_root(self) -> None:
        """A pack that was zipped a folder too deep lies where it is looked for, at the top or in a folder."""
        pack = {"mod.json": DESCRIPTOR, "tiles/1.tile": b"1", "d.txt": b"text"}
        deep = at("some folder", pack)
        self.trim(deep, zip="deep.zip").apply(self.ledger())
        with zipfile.ZipFile(self.path("deep.zip")) as archive:
            self.assertEqual(
                sorted(n for n in archive.namelist() if not n.endswith("/")),
                ["mod.json", "tiles/1.tile"],
            )
        self.trim(pack, zip="flat.zip", card=WRAPPED).apply(self.ledger())
        with zipfile.ZipFile(self.path("flat.zip")) as archive:
            self.assertIn("flat/mod.json", archive.namelist())

    def test_what_the_target_has(self) -> None:
        """New files, changed originals, and names that are gone are told; labels are set; ranges are not."""
        target = {**ORIGINAL, "data/tiles/1.tile": b"redrawn", "data/lamps/1.lamp": b"new"}
        target["data/tiles/second.tile"] = target.pop("data/tiles/2.tile")
        write(self.path("target"), target)
        pack = {"mod.json": DESCRIPTOR, "tiles/1.tile": b"mine", "tiles/2.tile": b"mine, too"}
        change = self.trim(pack, target=self.path("target"), build="2.0")
        told = {(each.code, each.where): each.what for each in change.findings}
        self.assertIn("data/lamps (1)", told["not-covered", ""])
        self.assertIn(("original-changed", "tiles/1.tile"), told)
        gone = told["not-known-any-more", "tiles/2.tile"]
        self.assertIn("data/tiles/second.tile (the same content)", gone)
        self.assertIn(("mod-unfit", "mod.json"), told)
        change.apply(self.ledger())
        self.assertEqual(json.loads(files_in(self.path("pack"))["mod.json"])["pack"], 4)

    def test_pixels(self) -> None:
        """Pictures of the same pixels in other bytes go only if that was asked for."""
        try:
            import io

            from PIL import Image
        except ImportError:
            self.skipTest("Pillow is not installed")
        out = io.BytesIO()
        Image.open(io.BytesIO(cover(4, 4))).save(out, "PNG", compress_level=1)
        pack = {"mod.json": DESCRIPTOR, "tiles/1.tile": b"1", "cover2.png": b""}
        original = {**ORIGINAL, "data/shown.png": cover(4, 4)}
        pack = {"mod.json": DESCRIPTOR, "tiles/1.tile": b"1", "shown.png": out.getvalue() + b"\0"}
        plain = self.trim(pack, original=original)
        self.assertIn("shown.png", plain.after)
        asked = self.trim(pack, original=original, choices=kl.TrimChoices(pixels=True))
        self.assertNotIn("shown.png", asked.after)

    def test_nothing_is_guessed(self) -> None:
        """Folders that could both be meant are refused, and so is a pattern that fits nothing; no name in
        common is told."""
        both = {"a/x.tile": b"1", "b/x.tile": b"2"}
        with self.assertRaisesRegex(kl.UsageError, "not clear: a, b"):
            self.trim({"mod.json": DESCRIPTOR, "x.tile": b"1"}, original=both)
        change = self.trim({"mod.json": DESCRIPTOR, "zzz": b"1"}, original={"c/unlike": b"1"})
        self.assertEqual([each.code for each in change.warnings], ["not-compared"])
        with self.assertRaisesRegex(kl.UsageError, "fits"):
            self.trim(
                {"mod.json": DESCRIPTOR, "d.txt": b"1"}, choices=kl.TrimChoices(drop=("*.zz",))
            )

    def test_random_packs(self) -> None:
        """What the title would see is the same before and after, and a second trim changes nothing."""
        names = [path.removeprefix("data/") for path in ORIGINAL if path.startswith("data/")]

        @side_law
        @given(st.integers(0, 1 << 30))
        def holds(seed: int) -> None:
            rng = random.Random(seed)
            case = Trimmed("test_random_packs")
            case.setUp()
            try:
                pack = {"mod.json": DESCRIPTOR}
                for name in rng.sample(names, rng.randrange(1, len(names))):
                    same = rng.random() < 0.6
                    pack[name] = ORIGINAL[f"data/{name}"] if same else rng.randbytes(5)
                change = case.trim(pack)
                before = {**ORIGINAL, **{f"data/{p}": d for p, d in pack.items()}}
                done = change.apply(case.ledger())
                left = files_in(case.path("pack"))
                after = {**ORIGINAL, **{f"data/{p}": d for p, d in left.items()}}
                self.assertEqual(after, before)
                self.assertEqual(case.trim(left).actions, ())
                kl.undo(done, ledger=case.ledger()).apply(case.ledger())
                self.assertEqual(files_in(case.path("pack")), pack)
            finally:
                case.doCleanups()

        holds()


class Coverings(unittest.TestCase):
    def test_folders_of_a_pack(self) -> None:
        """Several folders of a pack may stand for several of the title."""
        found = Covering.guess(
            ["assets/1.tile", "assets/2.tile", "sound/a.tone", "mod.json"],
            ["data/tiles/1.tile", "data/tiles/2.tile", "data/chimes/a.tone", "x"],
        )
        self.assertEqual(found.original("assets/1.tile"), "data/tiles/1.tile")
        self.assertEqual(found.original("sound/a.tone"), "data/chimes/a.tone")
        self.assertEqual(found.original("mod.json"), "")


class Story(PlayCase):
    modding = True

    def test_two_hundred_files_become_six(self) -> None:
        """The pack of the demo, into an archive and in place; what was taken out is in the ledger."""
        args = ("mod", "trim", "packs/dusk", "../downloads/mossferry-1.4.zip")
        self.folder = self.path("modding")
        before = files_in(self.path("packs", "dusk"))
        self.assertEqual(len(before), 200)
        self.kindred(*args, "--into", "dusk.zip", "--yes")
        self.assertEqual(files_in(self.path("packs", "dusk")), before)
        with zipfile.ZipFile(self.path("dusk.zip")) as archive:
            packed = {n: archive.read(n) for n in archive.namelist() if not n.endswith("/")}
        told = self.kindred(*args, "--yes")
        left = files_in(self.path("packs", "dusk"))
        self.assertEqual(left, packed)
        self.assertEqual(len(left), 6)
        self.assertEqual(left, {path: before[path] for path in left})
        entry = told["applied"]["record"]["entry"] if "record" in told["applied"] else ""
        self.assertEqual(self.kindred(*args, "--yes")["applied"], None)
        self.kindred("undo", "--yes")
        self.assertEqual(files_in(self.path("packs", "dusk")), before)
        self.assertIsNotNone(entry)


if __name__ == "__main__":
    unittest.main()

"""Packs: folders and zips that are converted as one, their files moved, their numbers raised."""

from __future__ import annotations

import io
import os
import unittest
import zipfile
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.cards import Card
from kindred_ledger.changes import undo
from kindred_ledger.convert import Converter, check_card, convert_bytes, convert_install, prove
from kindred_ledger.errors import (
    BooksUnbalanced,
    CardError,
    KindredError,
    LossNotAllowed,
)
from kindred_ledger.versions import Version
from tests.convert.test_convert import made
from tests.convert.test_corrupted import program
from tests.support import Case, PlayCase, law, snapshot, texts, write

CARD = """card = 1
title = "reedworks"
[program]
markers = ["run"]
[[detect]]
file = "run"
pattern = "build {version}"
[formats.pack]
files = ["CODEC"]
codec = "KIND"
version = { key = '"pack.json".number' }
covers = { "assets/textures" = "/program/data" }
builds = [
  { builds = "<1.4", writes = "1", reads = ["1"] },
  { builds = ">=1.4,<2", writes = "2", reads = ["2"] },
  { builds = ">=2", writes = "3", reads = ["3"] },
]
[[formats.pack.steps]]
from = "1"
to = "2"
do = [{ rename = '"keys.ini".Display', to = "Video" }]
[[formats.pack.steps]]
from = "2"
to = "3"
do = [
  { move_files = "textures/**", to = "assets/textures/{rest}" },
  { drop_files = "*.cache", reason = "the game makes it anew", lossless = true },
  { drop_files = "old/**", reason = "2.0 has no such charts" },
  { set = '"pack.json".for', value = "2.0" },
]
[[formats.pack.steps]]
from = "3"
to = "2"
do = [
  { move_files = "assets/textures/**", to = "textures/{rest}" },
  { set = '"pack.json".for', value = "1.4" },
]
"""
PACK = {
    "pack.json": b'{ "number": 2, // mine\n  "for": "1.4" }\n',
    "keys.ini": b"[Video]\r\nw = 1\r\n",
    "textures/reed/1.tile": b"\x00reed one",
    "textures/peat.tile": b"\x00peat",
    "warm.cache": b"\x00\x01",
    "old/a.chart": b"\x02chart",
}


def zipped(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return out.getvalue()


def fits(pattern: str, name: str) -> bool:
    """Tell whether a path fits a pattern, letter by letter."""
    if not pattern:
        return not name
    if pattern.startswith("**/"):
        folders = [0, *(at + 1 for at, sign in enumerate(name) if sign == "/")]
        return any(fits(pattern[3:], name[at:]) for at in folders)
    if pattern.startswith("**"):
        return any(fits(pattern[2:], name[at:]) for at in range(len(name) + 1))
    if pattern[0] == "*":
        return any(fits(pattern[1:], name[at:]) for at in range(len(name.partition("/")[0]) + 1))
    return name[:1] == pattern[0] and fits(pattern[1:], name[1:])


_names = st.lists(
    st.sampled_from(("old", "tex", "peat.tile", "a.cache", "b")), min_size=1, max_size=3
).map("/".join)
_patterns = st.sampled_from(
    (
        "tex/**",
        "**/*.cache",
        "old/*",
        "*",
        "**/b",
        "tex/*/peat.tile",
        "**",
        "old/**/b",
        "b",
        "*/*.tile",
    )
)
_targets = st.sampled_from(
    ("new/{rest}", "{name}", "tex/{name}", "b", "old/tex/{rest}", "x/{name}.old")
)
_rows = st.one_of(
    st.builds(lambda p, to: {"move_files": p, "to": to}, _patterns, _targets),
    st.builds(lambda p: {"drop_files": p, "reason": "r"}, _patterns),
    st.builds(lambda p: {"drop_files": p, "reason": "r", "lossless": True}, _patterns),
)


def planned(
    files: dict[str, bytes], rows: list[dict[str, Any]]
) -> tuple[dict[str, bytes], int] | None:
    """Return what becomes of files, and how many are lost; None if it cannot be."""
    files, lost = dict(files), 0
    for row in rows:
        pattern = row.get("move_files") or row["drop_files"]
        head = pattern[: pattern.partition("*")[0].rfind("/") + 1]
        for name in [name for name in files if fits(pattern, name)]:
            if "to" not in row:
                del files[name]
                lost += "lossless" not in row
                continue
            to = row["to"].replace("{name}", name.split("/")[-1])
            to = to.replace("{rest}", name[len(head) :])
            if to != name and to in files:
                return None
            files = {to if one == name else one: data for one, data in files.items()}
    names = set(files)
    if "pack.json" not in names or any(
        other.startswith(f"{name}/") for name in names for other in names
    ):
        return None
    return files, lost


class Laws(unittest.TestCase):
    @law
    @given(
        st.dictionaries(_names, st.binary(max_size=9), max_size=5),
        st.lists(_rows, min_size=1, max_size=3),
    )
    def test_files_move_and_go_as_in_a_plain_mapping(
        self, files: dict[str, bytes], rows: list[dict[str, Any]]
    ) -> None:
        """The same files with the same bytes, the same number lost; or both refuse."""
        if any(other.startswith(f"{name}/") for name in files for other in files):
            return
        files = {"pack.json": b'{"number": 1}', **files}
        format = made("zip", rows, key='"pack.json".number')
        expected = planned(files, rows)
        data = zipped(files)
        try:
            done = convert_bytes(data, format, format.scheme.parse("2"), name="a.pack")
        except BooksUnbalanced:
            raise
        except KindredError:
            self.assertIsNone(expected)
            return
        self.assertIsNotNone(expected)
        assert expected is not None
        with zipfile.ZipFile(io.BytesIO(done.data)) as archive:
            found = {name: archive.read(name) for name in archive.namelist()}
        self.assertEqual(found, {**expected[0], "pack.json": b'{"number": 2}'})
        self.assertEqual(len(done.losses), expected[1])


class Packs(Case):
    def card(self, kind: str = "folder", files: str = "/program/mods/*", text: str = CARD) -> Card:
        write(
            self.folder,
            {"x.card.toml": text.replace("KIND", kind).replace("CODEC", files).encode()},
        )
        return Card.load(self.path("x.card.toml"))

    def installed(self, packs: dict[str, dict[str, bytes]]) -> Any:
        files = {
            f"mods/{name}/{path}": data
            for name, pack in packs.items()
            for path, data in pack.items()
        }
        program = {"run": b"build 2.0", "data/reed/1.tile": b"r", "data/moss.tile": b"m"}
        write(self.path("game"), {**program, **files})
        return self.card().open(self.path("game"))

    def test_a_folder_is_converted_as_one(self) -> None:
        """Files move and go, numbers rise, comments stay, empty folders go; undone, all is as it was."""
        newer = {**PACK, "pack.json": b'{"number": 3}'}
        install = self.installed({"mine": PACK, "newer": newer, "odd": {"readme.txt": b"no pack"}})
        before = snapshot(self.path("game"))
        ledger = self.ledger()
        change = convert_install(install, ledger=ledger, leave=lambda path: path.endswith("odd"))
        books = change.statements[0]
        told = {line.item: (line.outcome, line.became, line.reason) for line in books.lines}
        self.assertEqual(
            told['"textures/peat.tile"'],
            ("changed", '"assets/textures/peat.tile"', 'moved to "assets/textures/peat.tile"'),
        )
        self.assertEqual(told['"warm.cache"'], ("removed", "", "the game makes it anew"))
        self.assertEqual(
            [(loss.where, loss.field) for loss in change.losses],
            [("program/mods/mine", '"old/a.chart"')],
        )
        self.assertIn(
            "program/mods/mine has nothing for 1 of 2 in /program/data: moss", texts(change.notes)
        )
        self.assertIn(
            "program/mods/mine has 1 in assets/textures that the program does not have: peat",
            texts(change.notes),
        )
        self.assertTrue(any("odd: it stays as it is" in str(note) for note in change.notes))
        with self.assertRaises(LossNotAllowed):
            change.apply(ledger)
        done = change.apply(ledger, allow_loss=True)
        after = snapshot(self.path("game", "mods", "mine"))
        moved = {"textures", "textures/peat.tile", "textures/reed", "textures/reed/1.tile"}
        there = {"pack.json", "keys.ini", "assets", *(f"assets/{path}" for path in moved)}
        self.assertEqual(set(after), there)
        with open(self.path("game", "mods", "mine", "pack.json"), "rb") as file:
            self.assertEqual(file.read(), b'{ "number": 3, // mine\n  "for": "2.0" }\n')
        undo(done.record.id, ledger=ledger).apply(ledger, allow_loss=True)
        self.assertEqual({*snapshot(self.path("game"))}, {*before})

    def test_a_zip_is_the_same_in_one_file(self) -> None:
        """The same steps on the same members; up two versions, there and back; the card holds."""
        first = {**PACK, "pack.json": b'{"number": 1}', "keys.ini": b"[Display]\nw = 1\n"}
        format = self.card("zip", "*.pack").formats["pack"]
        done = convert_bytes(zipped(first), format, format.scheme.parse("3"), name="a.pack")
        with zipfile.ZipFile(io.BytesIO(done.data)) as archive:
            names = set(archive.namelist())
            self.assertEqual(archive.read("keys.ini"), b"[Video]\nw = 1\n")
        self.assertEqual(
            names,
            {"pack.json", "keys.ini", "assets/textures/reed/1.tile", "assets/textures/peat.tile"},
        )
        small = {name: PACK[name] for name in ("pack.json", "keys.ini", "textures/peat.tile")}
        proof = prove(Converter(format), zipped(small), format.scheme.parse("3"), name="b.pack")
        self.assertEqual((proof.unrecovered, proof.why), ((), ""))
        self.assertTrue(check_card(self.card("zip", "*.pack")).is_sound)

    def test_patterns_have_an_end(self) -> None:
        """Stars without end are refused, and a path that leads out of the pack is, too."""
        endless = CARD.replace('"textures/**"', '"' + "**/*" * 9 + '"')
        with self.assertRaisesRegex(CardError, "at most 5 stars"):
            self.card("zip", "*.pack", endless)
        odd = made("zip", [{"drop_files": "*a*a*a*a*ab", "reason": "r"}], key='"pack.json".number')
        files = {"pack.json": b'{"number": 1}', "a" * 250: b"x"}
        convert_bytes(zipped(files), odd, odd.scheme.parse("2"), name="a")  # comes to an end
        format = self.card(
            "zip", "*.pack", CARD.replace('"assets/textures/{rest}"', '"../{rest}"')
        ).formats["pack"]
        with self.assertRaisesRegex(Exception, "no safe name"):
            convert_bytes(zipped(PACK), format, format.scheme.parse("3"), name="a")


class DemoMods(PlayCase):
    def test_the_mods_of_the_demo_go_up_and_down(self) -> None:
        """2.1 loads the mod where its things have moved, 2.0 after the way back; an older number stays."""
        with open(self.path("mossferry", "mossferry.py"), "rb") as file:
            source = file.read()
        ledger = self.ledger()
        folder = self.path("mossferry", "mods", "reedlight")
        for build, words in (("2.1", "assets"), ("2.0", "mod.json")):
            change = convert_install(self.install(), Version.parse(build), ledger=ledger,
                                     only=lambda path: "/mods/" in path)  # fmt: skip
            self.assertEqual(change.conflicts, ())
            change.apply(ledger, allow_loss=True)
            self.assertIn(words, os.listdir(folder))
            game = program(
                f"game {build}", source.replace(b'BUILD = "1.4"', f'BUILD = "{build}"'.encode())
            )
            self.assertEqual(game.load_mod(folder), "Reedlight")
        self.assertEqual(convert_install(self.install(), Version.parse("1.4"), ledger=ledger,
                                         only=lambda path: "/mods/" in path).actions, ())  # fmt: skip

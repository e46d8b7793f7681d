"""Each finding of a check has a broken and a sound example; mended and checked again, nothing is left."""

from __future__ import annotations

import json
import os
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.changes import undo
from kindred_ledger.demo.boathouse_files import cover
from kindred_ledger.errors import UsageError
from kindred_ledger.mods import check_mods
from kindred_ledger.mods.explanations import EXPLANATIONS
from tests.mods.support import (
    CARD,
    FROM_SOURCES,
    PACKED,
    WRAPPED,
    ModsCase,
    at,
    codes,
    mod,
    zipped,
)
from tests.support import files_in, side_law, write

MODS = "mods/reeds"
Example = tuple[dict[str, Any], dict[str, Any], dict[str, Any]]  # broken, sound, how to check


def on(*ids: str) -> dict[str, bytes]:
    return {"on.json": json.dumps({"on": ids}).encode()}


def two(first: dict[str, Any], second: dict[str, Any]) -> dict[str, Any]:
    """Return two mods, a and b, with more in their descriptors."""
    return {
        **at("mods/a", mod("a", **first)),
        **at("mods/b", mod("b", **second)),
        **on("a", "b"),
    }


SOUND = at(MODS, mod())
PLAIN: dict[str, Any] = {}
JSON = mod()["mod.json"]


def without(files: dict[str, Any], *names: str) -> dict[str, Any]:
    return {path: data for path, data in files.items() if path not in names}


EXAMPLES: dict[str, Example] = {
    "archive-damaged": (
        {"mods/reeds.zip": zipped(mod())[:-40]}, {"mods/reeds.zip": zipped(mod())}, {"card": PACKED},
    ),
    "archive-in-archive": (
        {"mods/reeds.zip": zipped({"mod.json": JSON, "inner.zip": zipped(mod())})},
        {"mods/reeds.zip": zipped(mod())}, {"card": PACKED},
    ),
    "archive-type": ({"mods/reeds.zip": zipped(mod())}, SOUND, PLAIN),
    "built-output": (
        at(MODS, {**mod(), "reeds.draft": b"x"}),
        at(MODS, {**without(mod(), "reeds.dat"), "reeds.draft": b"x"}), {"card": FROM_SOURCES},
    ),
    "copy-hides": (
        {**at("mods/reeds", mod()), **at("shared/reeds", mod())},
        {**at("mods/reeds", mod()), **at("shared/eels", mod("eels"))}, PLAIN,
    ),
    "core-missing": ({}, SOUND, {"core": ["reeds"]}),
    "core-off": ({**SOUND, **on()}, {**SOUND, **on("reeds")}, {"core": ["reeds"]}),
    "dependency-cycle": (
        two({"needs": ["b"]}, {"needs": ["a"]}), two({"needs": ["b"]}, {}), PLAIN,
    ),
    "descriptor-broken": (at(MODS, {**mod(), "mod.json": JSON[:-1]}), SOUND, PLAIN),
    "descriptor-missing": (at(MODS, without(mod(), "mod.json")), SOUND, PLAIN),
    "descriptor-named": (
        at(MODS, {**without(mod(), "mod.json"), "Mod.JSON": JSON}), SOUND, PLAIN,
    ),
    "descriptor-twice": (at(MODS, {**mod(), "about.json": JSON}), SOUND, PLAIN),
    "file-hides": (
        {"override/tides.ini": b"mine", "data/tides.ini": b"theirs"},
        {"override/other.ini": b"mine", "data/tides.ini": b"theirs"}, PLAIN,
    ),
    "folder-in-folder": (at(f"{MODS}/reeds", mod()), SOUND, PLAIN),
    "id-clash": (
        {**at("mods/reeds", mod()), **at("mods/eels", mod(name="Other"))},
        {**at("mods/reeds", mod()), **at("mods/eels", mod("eels"))}, PLAIN,
    ),
    "id-of-original": (
        {**SOUND, "data/own.json": b'{"ids": ["Reeds", "peat"]}'},
        {**SOUND, "data/own.json": b'{"ids": ["peat"]}'}, PLAIN,
    ),
    "ids-alike": (
        {**at("mods/reeds", mod()), **at("mods/Reeds2", mod("Reeds"))},
        {**at("mods/reeds", mod()), **at("mods/Reeds2", mod("Reeds2"))}, PLAIN,
    ),
    "links-inside": (
        {**SOUND, f"{MODS}/loop": "."}, SOUND, PLAIN,
    ),
    "load-order": (
        {**two({}, {"needs": ["a"]}), **on("b", "a")}, two({}, {"needs": ["a"]}), PLAIN,
    ),
    "mod-empty": ({MODS: None}, SOUND, PLAIN),
    "mod-in-mod": ({**SOUND, **at(f"{MODS}/inner", mod("inner"))}, SOUND, PLAIN),
    "mod-is-link": ({**SOUND, "mods/eels": "reeds"}, SOUND, PLAIN),
    "mod-loose": (at("mods", mod()), SOUND, PLAIN),
    "mod-unfit": (
        {**at(MODS, mod(builds="1.2 - 1.3")), **on("reeds")}, {**SOUND, **on("reeds")}, PLAIN,
    ),
    "mod-unknown": (
        {**at(MODS, mod(builds=None)), **on("reeds")}, {**SOUND, **on("reeds")}, PLAIN,
    ),
    "mods-conflict": (two({"conflicts": ["b"]}, {}), two({"conflicts": ["c"]}, {}), PLAIN),
    "name-differs": (at("mods/Reeds (copy)", mod()), SOUND, PLAIN),
    "need-missing": (
        {**at(MODS, mod(needs=["Peat"])), **on("reeds")}, two({"needs": ["b"]}, {}), PLAIN,
    ),
    "need-off": ({**two({"needs": ["b"]}, {}), **on("a")}, two({"needs": ["b"]}, {}), PLAIN),
    "need-unfit": (
        two({"needs": ["b"]}, {"builds": "1.2"}), two({"needs": ["b"]}, {}), PLAIN,
    ),
    "need-unknown": (
        two({"needs": ["b"]}, {"builds": None}), two({"needs": ["b"]}, {}), PLAIN,
    ),
    "need-unread": (two({"needs": ["b ~1"]}, {}), two({"needs": ["b 1"]}, {}), PLAIN),
    "need-version": (two({"needs": ["b >=2"]}, {}), two({"needs": ["b >=1"]}, {}), PLAIN),
    "not-built": (
        at(MODS, {**without(mod(), "reeds.dat"), "reeds.draft": b"x"}), SOUND, PLAIN,
    ),
    "number-misplaced": (
        at(MODS, mod(pack=None, game={"pack": 3})), SOUND, PLAIN,
    ),
    "number-missing": (at(MODS, mod(pack=None)), SOUND, PLAIN),
    "number-range": (at(MODS, mod(level=7)), at(MODS, mod(level=2)), PLAIN),
    "number-type": (at(MODS, mod(pack="3")), SOUND, PLAIN),
    "on-missing": (on("gone"), {**SOUND, **on("reeds")}, PLAIN),
    "outputs-overlap": (
        {**two({}, {}), "mods/a/over/x.dat": b"1", "mods/b/over/X.dat": b"2"},
        {**two({}, {}), "mods/a/over/x.dat": b"1", "mods/b/over/y.dat": b"2"}, PLAIN,
    ),
    "part-missing": (
        at(MODS, mod(parts=["Reeds.dat"])), at(MODS, mod(parts=["reeds.dat"])), PLAIN,
    ),
    "part-outside": (
        at(MODS, mod(parts=["../../peat.exe"])), at(MODS, mod(parts=["./reeds.dat"])), PLAIN,
    ),
    "picture-large": (at(MODS, {**mod(), "cover.png": cover(9, 9)}), SOUND, PLAIN),
    "picture-missing": (
        SOUND, at(MODS, {**mod(), "shown.png": cover(8, 8)}),
        {"card": CARD.replace('file = "cover.png", square', 'file = "shown.png", required = true, square')},
    ),
    "picture-not-square": (at(MODS, {**mod(), "cover.png": cover(8, 7)}), SOUND, PLAIN),
    "picture-unread": (at(MODS, {**mod(), "cover.png": b"no picture"}), SOUND, PLAIN),
    "range-unread": (at(MODS, mod(builds="^1.4")), SOUND, PLAIN),
    "several-mods": (
        {**at("mods/all/a", mod("a")), **at("mods/all/b", mod("b"))}, two({}, {}), PLAIN,
    ),
    "zipped-flat": (
        {"mods/reeds.zip": zipped(mod())}, {"mods/reeds.zip": zipped(at("reeds", mod()))},
        {"card": WRAPPED},
    ),
    "zipped-too-deep": (
        {"mods/reeds.zip": zipped(at("reeds", mod()))}, {"mods/reeds.zip": zipped(mod())},
        {"card": PACKED},
    ),
}  # fmt: skip
# These need a shelf or a ledger, and have tests of their own below.
ELSEWHERE = {
    "core-incomplete", "group-beyond-rescue", "group-empty", "list-damaged", "mod-update", "test-copy",
}  # fmt: skip
MENDED = {
    "archive-type", "core-off", "descriptor-named", "descriptor-twice", "folder-in-folder", "load-order",
    "mod-unfit", "name-differs", "need-missing", "need-off", "need-unfit", "need-version",
    "number-misplaced", "number-missing", "number-type", "part-missing", "several-mods", "zipped-flat",
    "zipped-too-deep",
}  # fmt: skip


class Findings(ModsCase):
    def test_each_has_a_broken_and_a_sound_example(self) -> None:
        """The broken one is found, with its place and what to do; the sound one is not."""
        self.assertEqual({*EXAMPLES} | ELSEWHERE, {*EXPLANATIONS})
        for number, (code, (broken, sound, how)) in enumerate(EXAMPLES.items()):
            with self.subTest(code):
                found = self.check(broken, name=f"broken{number}", **how)
                self.assertIn(code, codes(found))
                told = next(each for each in found.findings if each.code == code)
                self.assertTrue(told.where and told.what)
                self.assertTrue(told.remedy or told.fix or code in ("file-hides", "on-missing") or
                                told.severity == "note" or code.startswith("need-"))  # fmt: skip
                self.assertNotIn(code, codes(self.check(sound, name=f"sound{number}", **how)))

    def test_what_is_mended_is_gone(self) -> None:
        """Fix, then check, finds nothing that could be fixed; undo gives the very bytes."""
        ledger = self.ledger()
        mended = set()
        for number, (code, (broken, _, how)) in enumerate(EXAMPLES.items()):
            with self.subTest(code):
                name = f"games{number}"
                found = self.check(broken, name=name, **how)
                if code in {each.code for each in found.fixable}:
                    mended.add(code)
                before = files_in(self.path(name)) if code not in _LINKS else None
                change = found.change(ledger)
                if not change.actions:
                    self.assertEqual(found.fixable, ())
                    continue
                done = change.apply(ledger)
                core = how.get("core", ())
                again = check_mods(found.subject, core=core)
                self.assertEqual(again.fixable, ())
                self.assertEqual(again.findings, change.findings)
                undo(done, ledger=ledger).apply(ledger)
                if before is not None:
                    self.assertEqual(files_in(self.path(name)), before)
        self.assertEqual(mended, MENDED)

    def test_nothing_is_mended_that_would_lose_something(self) -> None:
        """Two descriptors that differ, a name that is taken, files beside: told, and left alone."""
        for number, contents in enumerate(
            (
                at(MODS, {**mod(), "about.json": JSON.replace(b"1.0", b"1.1")}),
                {**at("mods/old", mod()), **at("mods/reeds", mod())},
                {**at(f"{MODS}/reeds", mod()), f"{MODS}/readme.txt": b"read me"},
                at(MODS, {**mod(parts=["Reeds.dat", "reeds.dat"])}),
                {**at("mods/all/a", mod("a")), **at("mods/all/b", mod("b")), "mods/b/x": b""},
            )
        ):
            with self.subTest(number):
                found = self.check(contents, name=f"games{number}")
                self.assertNotEqual(found.findings, ())
                self.assertEqual(found.fixable, ())

    def test_the_core_set_comes_first(self) -> None:
        """As long as one of it is missing, nothing that needs it is switched off."""
        contents = {
            **at("mods/b", mod("b", needs=["a"])), **at("mods/c", mod("c", needs=["b"])),
            **on("a", "b", "c"),
        }  # fmt: skip
        found = self.check(contents, core=["a"])
        self.assertEqual(codes(found)[:1], ["core-missing"])
        self.assertIn("need-missing", codes(found))
        self.assertEqual(found.fixable, ())
        ledger = self.ledger()
        whole = self.title({**contents, **at("mods/a", mod("a"))}, name="earlier")
        ledger.backup(whole)
        again = check_mods(found.subject, core=["a"], ledger=ledger)
        self.assertEqual([each.code for each in again.fixable], ["core-missing"])
        again.change(ledger).apply(ledger)
        self.assertEqual(codes(check_mods(found.subject, core=["a"])), [])
        self.assertEqual(
            files_in(self.path("games", "mods")), files_in(self.path("earlier", "mods"))
        )

    def test_a_release_on_the_shelf_fills_and_updates(self) -> None:
        """A mod of the core set that lacks files is made whole; one that does not fit is updated."""
        ledger = self.ledger()
        for id, version, builds in (("a", "1.0", "1.4"), ("b", "2.0", "2.0")):
            files = {
                **mod(id, version=version, builds=builds, pack=4 if id == "b" else 3),
                "more.dat": b"more",
            }
            write(self.path(f"{id}-{version}"), files)
            self.shelve(ledger, id, version)
        contents = {**two({}, {}), "mods/a/mod.json": mod("a")["mod.json"]}
        found = self.check(contents, core=["a"], ledger=ledger)
        self.assertEqual(codes(found), ["core-incomplete"])
        self.assertIn("more.dat", found.findings[0].what)
        self.assertEqual([each.code for each in found.fixable], ["core-incomplete"])
        mine = {**contents, "mods/a/more.dat": b"more, and mine"}
        edited = self.check(mine, core=["a"], ledger=ledger, name="edited")
        self.assertEqual((codes(edited), edited.fixable), (["core-incomplete"], ()))
        newer = check_mods(self.title(contents, name="newer"), "2.0", ledger=ledger)
        fits = {fit.mod.id: str(fit.verdict) for fit in newer.compatibility.fits}  # type: ignore[union-attr]
        self.assertEqual(fits, {"a": "disable", "b": "update"})
        newer.change(ledger).apply(ledger)
        with open(self.path("newer", "mods", "b", "mod.json"), "rb") as file:
            self.assertEqual(json.load(file)["version"], "2.0")
        with open(self.path("newer", "on.json"), "rb") as file:
            self.assertEqual(json.load(file), {"on": ["b"]})

    def shelve(self, ledger: Any, id: str, version: str) -> None:
        from kindred_ledger.cards import Card
        from kindred_ledger.releases import shelve

        shelve(self.path(f"{id}-{version}"), Card.plain(id), ledger=ledger, version=version)

    def test_without_a_card(self) -> None:
        """What most of the mods have in common tells what describes them; a lone mod is looked at, too."""
        contents = {
            **at("a", mod("a")), **at("b/b", mod("b")), **at("c", mod("c", needs=["zzz"])),
            **at("d", mod("A")),
        }  # fmt: skip
        write(self.path("loose"), contents)
        found = check_mods(self.path("loose"))
        self.assertEqual(codes(found), ["folder-in-folder", "ids-alike", "need-missing"])
        write(self.path("alone"), mod("alone", needs=["elsewhere"]))
        lone = check_mods(self.path("alone"), "1.4")
        self.assertEqual([each.id for each in lone.mods], ["alone"])
        self.assertEqual(codes(lone), ["mods-unread"])
        write(self.path("packed"), {"b.zip": zipped(mod("b")), "c.zip": zipped(at("c", mod("c")))})
        self.assertEqual(codes(check_mods(self.path("packed"))), ["zipped-too-deep"])
        write(self.path("nothing"), {"a/1.txt": b"", "b/2.txt": b""})
        with self.assertRaisesRegex(UsageError, "nothing here tells which file describes a mod"):
            check_mods(self.path("nothing"))

    def test_one_by_itself(self) -> None:
        """What would be mended beside it is left to do; what is mended inside of it is."""
        card = self.title(SOUND).card
        write(self.path("Reeds (copy)"), mod(pack="3"))
        write(self.folder, {"reeds.zip": zipped(mod())})
        lone = check_mods(self.path("Reeds (copy)"), card=card)
        self.assertEqual([each.code for each in lone.fixable], ["number-type"])
        ledger = self.ledger()
        lone.change(ledger).apply(ledger)
        for name, code in (("Reeds (copy)", "name-differs"), ("reeds.zip", "archive-type")):
            found = check_mods(self.path(name), card=card)
            self.assertIn(code, codes(found))
            self.assertEqual(found.fixable, ())
            self.assertEqual(found.change(ledger).actions, ())

    def test_ids_by_unicode_form(self) -> None:
        """An id with an accent in one letter, and one in two, are one on some systems."""
        one, two_letters = mod("pier-\u00e9"), mod("pier-e\u0301")
        contents = {**at("mods/a", one), **at("mods/b", two_letters)}
        self.assertIn("ids-alike", codes(self.check(contents)))

    def test_damaged_lists_and_hostile_archives(self) -> None:
        """Each is told, with its place, and nothing is raised that names none."""
        hostile = zipped({"../../outside.txt": b"x", "mod.json": JSON})
        found = self.check({"mods/reeds.zip": hostile}, card=PACKED)
        self.assertEqual(codes(found), ["archive-damaged"])
        self.assertFalse(os.path.exists(self.path("outside.txt")))
        found = self.check({**SOUND, "on.json": b'{"on": ['}, name="other")
        self.assertEqual(codes(found), ["list-damaged"])


_LINKS = {"links-inside", "mod-is-link"}
_PIECES = st.lists(
    st.sampled_from(sorted(MENDED - {"zipped-flat", "zipped-too-deep", "core-off", "load-order"})),
    min_size=1, max_size=6, unique=True,
)  # fmt: skip


class Laws(ModsCase):
    def test_any_of_them_together(self) -> None:
        """However many are broken at once: after the fix none is left that could be fixed."""
        self.made = 0

        @side_law
        @given(_PIECES, st.booleans())
        def holds(picked: list[str], nested: bool) -> None:
            contents: dict[str, Any] = {}
            for number, code in enumerate(picked):
                for path, data in EXAMPLES[code][0].items():
                    inner = path.replace("mods/", f"mods/x{number}-", 1) if nested else path
                    contents.setdefault(inner, data)
            contents = {p: d for p, d in contents.items() if f"{p}/" not in "".join(contents)}
            self.made += 1
            name = f"games{self.made}"
            found = self.check(contents, name=name)
            ledger = self.ledger("ledger")
            before = files_in(self.path(name))
            change = found.change(ledger)
            if change.actions:
                done = change.apply(ledger)
                self.assertEqual(check_mods(found.subject).fixable, ())
                undo(done, ledger=ledger).apply(ledger)
            self.assertEqual(files_in(self.path(name)), before)

        holds()


if __name__ == "__main__":
    unittest.main()

"""Which mods fit a build: ranges as people write them, needs, conflicts, the order of loading."""

from __future__ import annotations

import random
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import kindred_ledger as kl
from kindred_ledger.cards.mods import read_builds
from kindred_ledger.errors import VersionError
from kindred_ledger.versions import NUMBER
from tests.mods.support import CARD, ModsCase, at, mod
from tests.support import PlayCase, law

BUILDS = ("1.2", "1.3", "1.3.5", "1.4", "1.4.2", "1.10", "2.0", "2.0-pre1", "2.1")


def held(text: Any, plain: str = "exactly") -> list[str]:
    """Return the builds that a text of a descriptor holds."""
    found = read_builds(text, NUMBER.parse, plain)
    return [each for each in BUILDS if NUMBER.parse(each) in found]


class Ranges(unittest.TestCase):
    def test_every_way_they_are_written(self) -> None:
        """Each holds what a person would say it does."""
        for text, wanted in (
            ("*", list(BUILDS)),
            (">=1.4,<2.0", ["1.4", "1.4.2", "1.10", "2.0-pre1"]),
            (">=1.4 <2.0", ["1.4", "1.4.2", "1.10", "2.0-pre1"]),
            (">= 1.4 , < 2.0", ["1.4", "1.4.2", "1.10", "2.0-pre1"]),
            ("[1.4,2.0]", ["1.4", "1.4.2", "1.10", "2.0", "2.0-pre1"]),
            ("[1.4,2.0)", ["1.4", "1.4.2", "1.10", "2.0-pre1"]),
            ("(,1.3]", ["1.2", "1.3"]),
            ("1.4 - 2.0", ["1.4", "1.4.2", "1.10", "2.0", "2.0-pre1"]),
            ("1.4+", ["1.4", "1.4.2", "1.10", "2.0", "2.0-pre1", "2.1"]),
            ("1.4.x", ["1.4", "1.4.2"]),
            ("1.2 || 2.0", ["1.2", "2.0"]),
            ("1.2, 2.0", ["1.2", "2.0"]),
            (["1.2", "2.0"], ["1.2", "2.0"]),
            ("1.4", ["1.4"]),
            ("!=1.4", [each for each in BUILDS if each != "1.4"]),
        ):
            self.assertEqual(held(text), wanted, text)
        self.assertEqual(held("1.4", "series"), ["1.4", "1.4.2"])
        self.assertEqual(held("2.0", "later"), ["2.0", "2.1"])
        self.assertEqual(held(2, "series"), ["2.0", "2.0-pre1", "2.1"])

    def test_what_may_mean_several_things_is_refused(self) -> None:
        """Nothing is guessed: not what a tilde means, nor an empty range, nor a typo."""
        for text in (
            "~1.4", "^1.4", "", "1.4-2.0-x y", ">=1.4,2.0", "[,]", "latest", ">", "1.4 or so",
            None, True, {}, [], [{}], ">=1.4 and <2", "1.4..2.0",
        ):  # fmt: skip
            with self.assertRaises(VersionError, msg=repr(text)):
                read_builds(text, NUMBER.parse)

    @law
    @given(st.sampled_from(BUILDS), st.sampled_from(BUILDS), st.sampled_from(BUILDS))
    def test_ways_of_one_meaning_agree(self, low: str, high: str, build: str) -> None:
        """A span, bounds, and a dash hold the same builds."""
        parsed = NUMBER.parse(build)
        wanted = not parsed < NUMBER.parse(low) and not NUMBER.parse(high) < parsed
        for text in (
            f">={low},<={high}",
            f">={low} <={high}",
            f"[{low},{high}]",
            f"{low} - {high}",
        ):
            self.assertEqual(parsed in read_builds(text, NUMBER.parse), wanted, text)


class Judged(ModsCase):
    def judged(self, *mods: dict[str, bytes], build: str = "1.4", name: str = "games") -> Any:
        contents: dict[str, bytes] = {}
        for number, files in enumerate(mods):
            contents |= at(f"mods/m{number}", files)
        install = self.title({**contents, "on.json": b"[]"}, name=name)
        return kl.compatible_mods(install, build)

    def verdicts(self, found: Any) -> dict[str, str]:
        return {fit.mod.id: str(fit.verdict) for fit in found.fits}

    def test_unknown_is_never_kept(self) -> None:
        """Without a range, with one nobody understands, with a damaged descriptor: unknown."""
        found = self.judged(
            mod("a", builds=None), mod("b", builds="~1.4"), {**mod("c"), "mod.json": b"{"},
            {"notes.txt": b"no descriptor"}, mod("d", needs=["a"]), mod("e", builds="1.4"),
        )  # fmt: skip
        self.assertEqual(found.totals(), {"keep": 1, "update": 0, "disable": 0, "unknown": 5})
        self.assertEqual(found.order, ("e",))

    def test_what_depends_on_it_goes_with_it(self) -> None:
        """Over any number of steps, and through a conflict that somebody has to decide."""
        found = self.judged(
            mod("a", builds="1.2"), mod("b", needs=["a"]), mod("c", needs={"b": "*"}),
            mod("d", needs=[{"id": "c", "version": ">=1"}]), mod("e", needs=[{"id": "zz", "optional": True}]),
        )  # fmt: skip
        wanted = {"a": "disable", "b": "disable", "c": "disable", "d": "disable", "e": "keep"}
        self.assertEqual(self.verdicts(found), wanted)
        clash = self.judged(
            mod("a", conflicts=["b"]), mod("b"), mod("c", needs=["b"]), name="clash"
        )
        self.assertEqual(self.verdicts(clash), {"a": "unknown", "b": "unknown", "c": "unknown"})

    def test_cycles_are_named(self) -> None:
        """The finding says who waits for whom; the others still have an order."""
        found = self.judged(
            mod("a", needs=["b"]), mod("b", needs=["c"]), mod("c", needs=["a"]),
            mod("x", needs=["y"]), mod("y"),
        )  # fmt: skip
        told = [each for each in found.findings if each.code == "dependency-cycle"]
        self.assertEqual(len(told), 1)
        self.assertIn("→", told[0].what)
        self.assertEqual(found.order, ("y", "x"))
        self.assertEqual({k for k, v in self.verdicts(found).items() if v == "unknown"}, {*"abc"})

    def test_random_graphs(self) -> None:
        """Whoever is kept has all it needs kept, and loads behind it."""
        for seed in range(40):
            rng = random.Random(seed)
            ids = [f"m{number}" for number in range(rng.randrange(2, 12))]
            needs = {id: rng.sample(ids, rng.randrange(0, min(3, len(ids)))) for id in ids}
            builds = {id: rng.choice(("1.4", "1.4", "1.4", "1.2", None)) for id in ids}
            contents: dict[str, bytes] = {}
            for id in ids:
                contents |= at(f"mods/{id}", mod(id, needs=needs[id], builds=builds[id]))
            install = self.title({**contents, "on.json": b"[]"}, name=f"games{seed}")
            found = kl.compatible_mods(install, "1.4")
            kept = [fit.mod.id for fit in found.fits if fit.verdict == "keep"]
            self.assertEqual(set(found.order), set(kept))
            for place, id in enumerate(found.order):
                self.assertEqual(builds[id], "1.4")
                self.assertLessEqual(set(needs[id]), set(found.order[:place]), (seed, id))
            lost = set(ids) - set(kept)
            for id in lost:  # and nobody is left out without a reason
                self.assertTrue(builds[id] != "1.4" or set(needs[id]) & lost, (seed, id))


class Met(ModsCase):
    def test_old_mods_of_another_machine_are_held(self) -> None:
        """What it added and does not fit stays in its entry, and is listed; the rest is merged."""
        card = CARD + '[categories.mods]\ninclude = ["/program/mods/"]\n'
        sound = {**at("mods/a", mod("a")), "on.json": b"[]"}
        here = self.title(sound, card=card)
        there = self.title(
            {**sound, **at("mods/b", mod("b")), **at("mods/old", mod("old", builds="1.2"))},
            card=card, name="there",
        )  # fmt: skip
        entry = kl.Ledger.open(self.path("ledger"), machine="laptop").backup(there)
        change = kl.meet(here, ledger=self.ledger(), other=entry.id)
        self.assertIn("mods-held", [each.code for each in change.findings])
        arriving = {"/".join(each.path.split("/")[:3]) for each in change.actions}
        self.assertEqual(arriving, {"program/mods/b"})


class BeforeAChange(PlayCase):
    """What does not fit is told before anything is written, and held by a restore."""

    modding = True

    def setUp(self) -> None:
        super().setUp()
        self.boathouse = kl.Card.load(self.path("modding", "boathouse.card.toml"))
        self.old = self.boathouse.open(self.path("modding", "boathouse"))
        self.new = self.boathouse.open(self.path("modding", "boathouse-2.0"))

    def test_carry_and_restore(self) -> None:
        """Carried mods that do not fit are named; an entry of the older build keeps them back."""
        ledger = self.ledger()
        choices = kl.CarryChoices(overwrite="*")
        change = kl.carry(self.old, self.new, "mods", ledger=ledger, choices=choices)
        told = {each.where.rpartition("/")[2]: each.code for each in change.warnings}
        self.assertEqual(
            told,
            {"bog-mist": "mod-unfit", "old-charts": "mod-unfit", "eel-market": "need-unfit",
             "otter-pool": "mod-unknown"},
        )  # fmt: skip
        entry = ledger.backup(self.old)
        into = self.path("modding", "boathouse-2.0")
        with kl.Context(ledger, cards=[self.boathouse]) as context:
            values = {"operation": "restore", "entry": entry.id, "into": into}
            held = kl.read_operation(values).compute(context)
            named = kl.read_operation({**values, "only": ["program/mods/bog-mist/"]}).compute(
                context
            )
        self.assertIn("mods-held", [each.code for each in held.findings])
        arriving = {each.path.split("/")[2] for each in held.actions if each.path.count("/") == 3}
        self.assertEqual(
            arriving,
            {"heron-song", "lanterns", "peatlib", "quaykit", "reedlight", "ropes", "tidelib"},
        )
        self.assertIn("program/mods/bog-mist/mod.json", [each.path for each in named.actions])
        same = self.path("modding", "boathouse")
        with kl.Context(ledger, cards=[self.boathouse]) as context:
            back = kl.read_operation({**values, "into": same}).compute(context)
        self.assertNotIn("mods-held", [each.code for each in back.findings])

    def test_update(self) -> None:
        """An update to a build that a mod is not for says so."""
        ledger = self.ledger()
        preview = kl.update(self.install(), self.new_zip, ledger=ledger)
        self.assertEqual([f for f in preview.findings if f.code.startswith("mod-")], [])
        write = self.path("mossferry", "mods", "reedlight", "mod.json")
        with open(write, "rb+") as file:
            data = file.read().replace(b"1.4 - 2.0", b"1.4")
            file.seek(0)
            file.write(data)
            file.truncate()
        change = kl.update(self.install(), self.new_zip, ledger=ledger)
        told = [each for each in change.findings if each.code == "mod-unfit"]
        self.assertEqual([each.where for each in told], ["program/mods/reedlight"])


if __name__ == "__main__":
    unittest.main()

"""Suspects: what breaks a build is found within the bound; nothing is concluded that no trial showed."""

from __future__ import annotations

import json
import os
import random
import unittest
from collections.abc import Callable, Mapping, Sequence

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.cards import Card
from kindred_ledger.errors import DecisionNeeded, UsageError
from kindred_ledger.mods import (
    Answer,
    SuspectSearch,
    SuspectsFound,
    Trial,
    most_trials,
    next_trial,
)
from tests.support import Case, PlayCase, kindred, side_law, snapshot, write

Oracle = Callable[[frozenset[str]], Answer]


def searched(
    parts: Sequence[str], needs: Mapping[str, Sequence[str]], oracle: Oracle
) -> tuple[SuspectsFound, list[Trial]]:
    """Answer until the end."""
    trials: list[Trial] = []
    while (state := next_trial(parts, needs, trials)).next is not None:
        assert len(trials) < 500
        trials.append(Trial(state.next, oracle(state.next)))
    return state, trials


def breaking(sets: Sequence[Sequence[str]]) -> Oracle:
    """Return who says that it breaks if all of one of the sets are on."""

    def oracle(on: frozenset[str]) -> Answer:
        return Answer.BREAKS if any({*each} <= on for each in sets) else Answer.WORKS

    return oracle


@st.composite
def broken(
    draw: st.DrawFn, *, linked: bool
) -> tuple[list[str], dict[str, list[str]], list[list[str]]]:
    """Draw parts, what they need, and up to three that break: alone, or only together."""
    chance = random.Random(draw(st.integers(0, 1 << 30)))
    parts = [f"part-{n}" for n in range(draw(st.sampled_from((2, 3, 7, 40, 100))))]
    needs = {}
    if linked:
        for at in range(1, len(parts)):
            if chance.random() < 0.4:
                needs[parts[at]] = chance.sample(parts[:at], min(at, chance.randint(1, 2)))
    sizes = draw(st.sampled_from(((1,), (2,), (3,), (1, 1), (1, 2), (1, 1, 1))))
    chance.shuffle(parts)
    left = chance.sample(parts, min(len(parts), sum(sizes)))
    sets = []
    for number in sizes:
        sets.append(left[:number])
        left = left[number:]
    return parts, needs, [each for each in sets if each]


class Laws(unittest.TestCase):
    @side_law
    @given(broken(linked=False))
    def test_all_that_break_are_found_within_the_bound(
        self, made: tuple[list[str], dict[str, list[str]], list[list[str]]]
    ) -> None:
        """One, two or three, alone or together: exactly these, and no start more than is stated."""
        parts, needs, sets = made
        state, trials = searched(parts, needs, breaking(sets))
        self.assertEqual(sorted(map(sorted, state.found)), sorted(map(sorted, sets)))
        self.assertLessEqual(len(trials), most_trials(len(parts), *map(len, sets)))
        self.assertFalse(state.among)

    @side_law
    @given(broken(linked=True))
    def test_every_trial_has_what_its_parts_need(
        self, made: tuple[list[str], dict[str, list[str]], list[list[str]]]
    ) -> None:
        """And what is found breaks with what it needs alone, and nothing breaks without it."""
        parts, needs, sets = made
        oracle = breaking(sets)
        state, trials = searched(parts, needs, oracle)
        for trial in trials:
            for part in trial.on:
                self.assertLessEqual({*needs.get(part, ())}, trial.on)
        self.assertLessEqual(len(trials), most_trials(len(parts), *map(len, state.found)))
        for found in state.found:
            alone = {*found}
            while more := {n for part in alone for n in needs.get(part, ())} - alone:
                alone |= more
            self.assertIs(oracle(frozenset(alone)), Answer.BREAKS)
        gone = {part for found in state.found for part in found}
        while more := {p for p in parts if gone & {*needs.get(p, ())}} - gone:
            gone |= more
        self.assertIs(oracle(frozenset(parts) - gone), Answer.WORKS)

    @side_law
    @given(broken(linked=False), st.integers(0, 1 << 30))
    def test_an_unclear_answer_concludes_nothing(
        self, made: tuple[list[str], dict[str, list[str]], list[list[str]]], seed: int
    ) -> None:
        """What cannot be seen is tried another way; whatever is named in the end is right, or among some."""
        parts, needs, sets = made
        sure, chance = breaking(sets), random.Random(seed)
        unclear: dict[frozenset[str], bool] = {}

        def oracle(on: frozenset[str]) -> Answer:
            hidden = unclear.setdefault(on, len(on) > 1 and chance.random() < 0.3)
            return Answer.UNCLEAR if hidden else sure(on)

        state, trials = searched(parts, needs, oracle)
        for found in state.found:
            self.assertIn(sorted(found), sorted(map(sorted, sets)))
        seen = [trial for trial in trials if trial.answer is Answer.UNCLEAR]
        self.assertTrue(seen or sorted(map(sorted, state.found)) == sorted(map(sorted, sets)))


class Refused(unittest.TestCase):
    def test_nothing_is_to_blame(self) -> None:
        """It works with all, or breaks without any: that is said, and nobody is named."""
        for answer, told in ((Answer.WORKS, "is not wrong now"), (Answer.BREAKS, "none of them")):
            state, _ = searched(["a", "b"], {}, lambda on, answer=answer: answer)  # type: ignore[misc]
            self.assertEqual(state.found, ())
            self.assertIn(told, state.told)

    def test_what_does_not_come_each_time(self) -> None:
        """Answers by chance: whoever is named broke it alone in a trial, and it worked with all others."""
        parts = [f"p{n}" for n in range(12)]
        named = 0
        for seed in range(200):
            chance = random.Random(seed)

            def by_chance(on: frozenset[str], chance: random.Random = chance) -> Answer:
                likely = len(on) / len(parts)
                return Answer.BREAKS if chance.random() < likely else Answer.WORKS

            state, trials = searched(parts, {}, by_chance)
            for found in state.found:
                self.assertIn(Trial(frozenset(found), Answer.BREAKS), trials)
            if state.told.startswith("it breaks with"):
                rest = frozenset(parts) - {part for found in state.found for part in found}
                worked = [each.on for each in trials if each.answer is Answer.WORKS]
                self.assertTrue(any(rest <= each for each in worked))
                named += 1
        self.assertGreater(named, 50)

    def test_a_circle(self) -> None:
        with self.assertRaisesRegex(UsageError, "in a circle"):
            next_trial(["a", "b"], {"a": ["b"], "b": ["a"]})

    def test_answers_of_other_parts(self) -> None:
        """Stored answers that are not of these parts are no answers."""
        with self.assertRaisesRegex(UsageError, "other parts"):
            next_trial(["a", "b"], {}, [Trial(frozenset("a"), Answer.WORKS)])


class ByList(PlayCase):
    """Where a list says what is on, the list alone is edited."""

    modding = True

    def test_a_story_at_the_command_line(self) -> None:
        """Found, left and gone on with in processes of their own; all is as it was at the end."""
        folder = self.path("modding", "boathouse")
        before = snapshot(folder)
        args = ("mod", "suspects", "boathouse", "--json")
        culprits = {"heron-song", "bog-mist"}
        done = kindred(*args, "--yes", folder=self.path("modding"))
        told = json.loads(done.stdout)
        starts = 0
        while not told["ended"]:
            with open(os.path.join(folder, "mods.json"), encoding="utf-8") as file:
                on = {*json.load(file)["on"]}
            self.assertEqual(on, {*told["next"]})
            again = json.loads(kindred(*args, folder=self.path("modding")).stdout)
            self.assertEqual(again["next"], told["next"])  # asked again, nothing is lost
            answer = "--breaks" if culprits <= on else "--works"
            done = kindred(*args, answer, folder=self.path("modding"))
            told = json.loads(done.stdout)
            starts += 1
        self.assertEqual([{*each} for each in told["found"]], [culprits])
        self.assertLessEqual(starts, most_trials(11, 2))
        self.assertEqual(done.returncode, 1)
        self.assertEqual(snapshot(folder), before)


_CARD = """
card = 1
title = "peatbog"
[program]
markers = ["peat.exe"]
[mods.mods]
folders = ["/program/mods"]
descriptor = ["mod.json"]
codec = "json"
needs = { key = "needs" }
"""


class ByFolder(Case):
    """Where no list says what is on, folders go and come back."""

    def setUp(self) -> None:
        super().setUp()
        files: dict[str, bytes | str | None] = {
            "game/peat.exe": b"x",
            "peat.card.toml": _CARD.encode(),
        }
        for n in range(9):
            needs = ["m0"] if n == 5 else []
            files[f"game/mods/m{n}/mod.json"] = json.dumps({"id": f"m{n}", "needs": needs}).encode()
            files[f"game/mods/m{n}/data/big.bin"] = bytes([n]) * 1000
        write(self.folder, files)
        self.card = Card.load(self.path("peat.card.toml"))
        self.kept = self.ledger()

    def there(self) -> set[str]:
        folder = self.path("game", "mods")
        return {*os.listdir(folder)} if os.path.isdir(folder) else set()

    def test_found_and_all_as_it_was(self) -> None:
        before = snapshot(self.path("game"))
        search = SuspectSearch.begin(self.card.open(self.path("game")), self.kept)
        while True:
            search = SuspectSearch.open(self.card.open(self.path("game")), self.kept)
            state = search.state()
            change = search.change()
            if change.actions:
                change.apply(self.kept, allow_loss=True, group=search.id)
            if state.next is None:
                break
            self.assertEqual(self.there(), {*state.next})
            search.answer(Answer.BREAKS if "m5" in self.there() else Answer.WORKS)
        search.end()
        self.assertEqual(state.found, (("m5",),))
        self.assertEqual(snapshot(self.path("game")), before)
        with self.assertRaisesRegex(UsageError, "no search"):
            SuspectSearch.open(self.card.open(self.path("game")), self.kept)

    def test_an_answer_about_other_parts_is_refused(self) -> None:
        """Before the trial is set up, or after somebody changed it, an answer says nothing."""
        search = SuspectSearch.begin(self.card.open(self.path("game")), self.kept)
        search.answer(Answer.BREAKS)
        with self.assertRaisesRegex(DecisionNeeded, "not as this trial wants them"):
            search.answer(Answer.WORKS)
        with self.assertRaisesRegex(DecisionNeeded, "under way"):
            SuspectSearch.begin(self.card.open(self.path("game")), self.kept)
        search.put_back()
        self.assertFalse(search.put_back().actions)


_PARTS = """
card = 1
title = "peatbog"
[program]
markers = ["peat.exe"]
[components.sound]
include = ["/program/sound/", "/program/sound.ini"]
optional = true
[components.maps]
include = ["/program/maps/"]
optional = true
[components.voices]
include = ["/program/voices/"]
optional = true
[components.engine]
include = ["/program/engine/"]
[components.absent]
include = ["/program/absent/"]
optional = true
"""


class ByComponent(Case):
    """Optional components are parts, too; what is not optional never goes."""

    def test_found_at_the_command_line(self) -> None:
        write(
            self.folder,
            {
                "game/peat.exe": b"x",
                "peat.card.toml": _PARTS.encode(),
                "game/sound.ini": b"loud = 1\n",
                **{f"game/{n}/{n}.bin": n.encode() for n in ("sound", "maps", "voices", "engine")},
            },
        )
        before = snapshot(self.path("game"))
        run = ("mod", "suspects", "game", "--card", "peat.card.toml", "--json")
        done = kindred(*run, folder=self.folder)
        self.assertEqual(done.returncode, 2, done.stdout)  # the card knows no mods
        done = kindred(*run, "--components", "--yes", folder=self.folder)
        tried = []
        while done.returncode == 3:
            there = {*os.listdir(self.path("game"))}
            tried.append(there)
            self.assertIn("engine", there)
            self.assertEqual("sound" in there, "sound.ini" in there)
            broken = {"sound", "voices"} <= there
            done = kindred(*run, "--breaks" if broken else "--works", folder=self.folder)
        self.assertEqual(done.returncode, 1, done.stdout + done.stderr)
        told = json.loads(done.stdout)
        self.assertEqual(sorted(told["found"][0]), ["sound", "voices"])
        self.assertLessEqual(told["trials"], most_trials(3, 2))
        self.assertEqual(snapshot(self.path("game")), before)


if __name__ == "__main__":
    unittest.main()

"""What holds for every long game: what is yours arrives, with all it refers to, and nothing is lost."""

from __future__ import annotations

import random
import unittest
from typing import Any

import kindred_ledger as kl
from kindred_ledger.places import read_bytes
from tests.worlds.voyages import CARD, Game, VoyageCase, add, begin, mine

_GAMES = 12


def keyed(game: Game) -> Game:
    """Return a game whose hands and tours stand under their ids, with links to hands as texts."""
    hands = {str(row["id"]): {k: v for k, v in row.items() if k != "id"} for row in game["hands"]}
    for number, row in enumerate(hands.values()):
        none = ("", "nobody")[number % 2]
        row["friend"] = none if row["friend"] is None else str(row["friend"])
    tours = {row["key"]: {k: v for k, v in row.items() if k != "key"} for row in game["tours"]}
    return {**game, "hands": hands, "tours": tours}


def unkeyed(game: Game) -> Game:
    """Return it with lists again."""
    hands = [
        {
            **row,
            "id": int(key),
            "friend": None if row["friend"] in ("", "nobody") else int(row["friend"]),
        }
        for key, row in game["hands"].items()
    ]
    return {
        **game,
        "hands": hands,
        "tours": [{**row, "key": key} for key, row in game["tours"].items()],
    }


class Laws(VoyageCase):
    def moved(self, source: str, target: str, **options: Any) -> kl.TransplantPlan:
        """Transplant, with consent to all losses."""
        plan = kl.transplant(
            self.installed(source), self.installed(target), ledger=self.ledger(), **options
        )
        self.assertEqual(plan.change.conflicts, ())
        plan.change.apply(self.ledger(), allow_loss=True)
        return plan

    def test_there_and_back_out_again_gives_the_same_things(self) -> None:
        """Fields, numbers in all their digits, and every link, whatever the surroundings are like."""
        for seed in range(_GAMES):
            rng, old, fresh = self.games(seed)
            self.put("old/long", old)
            self.put("new/fresh", fresh, indent=rng.choice((None, 1)))
            plan = self.moved("old", "new")
            there = self.got("new/long")
            self.assertEqual(mine(there), mine(old), seed)
            self.assertIsNone(plan.bundle)
            again = begin(rng, build=1, player=rng.randrange(1, 4))
            self.gone("old/long")
            self.put("old/again", again)
            self.gone("new/fresh")
            self.moved("new", "old", save="long")
            self.assertEqual(mine(self.got("old/long")), mine(old), seed)
            for name in ("old/long", "old/again", "new/long"):
                self.gone(name)

    def test_nothing_of_the_new_game_changes(self) -> None:
        """Its things, in their order, its map and its rates; only counters and totals follow."""
        for seed in range(_GAMES):
            _, old, fresh = self.games(seed)
            self.put("old/long", old)
            self.put("new/fresh", fresh)
            self.moved("old", "new")
            self.assertEqual(self.got("new/fresh"), fresh)
            self.assertEqual(self.got("old/long"), old)
            there = self.got("new/long")
            for kind in ("houses", "boats", "hands", "chests", "tours"):
                self.assertEqual(there[kind][: len(fresh[kind])], fresh[kind])
            for key in fresh.keys() - {
                "boats",
                "hands",
                "chests",
                "tours",
                "next",
                "boats_in_all",
                "load",
            }:
                self.assertEqual(there[key], fresh[key])
            self.gone("new/long")

    def test_the_books_count_every_thing_once(self) -> None:
        """Moved, matched, left behind, bundled; and what is yours is in the result or in the bundle."""
        for seed in range(_GAMES):
            rng, old, fresh = self.games(seed)
            for port in rng.sample(fresh["world"]["ports"], 3):
                port["name"] += " of old"
            if rng.random() < 0.5:
                fresh["map"] = [1] * 1600
                fresh["map"][:3] = [0, 0, 0]
                fresh |= {"boats": [], "hands": [], "chests": [], "tours": []}
                fresh |= {"boats_in_all": 0, "load": 0}
            old["hands"][-1]["boat"] = 0  # one is ashore
            self.put("old/long", old)
            self.put("new/fresh", fresh)
            plan = self.moved("old", "new")
            for each in plan.forecast.counts:
                parts = each.moved + each.matched + each.bundled + each.stays
                self.assertEqual(parts, each.count)
            self.assertEqual(len(plan.forecast.left), plan.forecast.links_left)
            there = mine(self.got("new/long"))
            assert plan.bundle is not None
            waits = {
                record["name"]
                for kind in plan.bundle.kinds
                for record in kind.records[: kind.waiting]
            }
            self.assertFalse(there.keys() & waits)
            self.assertEqual(there.keys() | waits, mine(old).keys())
            books, _ = plan.change.statements
            self.assertEqual(books.counted_after, plan.forecast.moved)
            self.gone("new/long")

    def test_what_waits_is_set_in_later_with_all_its_links(self) -> None:
        """Once there is room, everything is as if it had moved at once."""
        for seed in range(_GAMES):
            rng, old, fresh = self.games(seed)
            self.put("old/long", old)
            full = {**fresh, "map": [1] * 1600}
            if fresh["boats"]:
                continue
            free = [n for n, cell in enumerate(fresh["map"]) if cell == 0]
            for cell in rng.sample(free, rng.randrange(len(old["boats"]))):
                full["map"][cell] = 0
            self.put("new/fresh", full)
            plan = self.moved("old", "new")
            if plan.bundle is None:  # there was room for all
                self.gone("new/long")
                continue
            if plan.change.actions:
                played = self.got("new/long")
                played["day"] += 3
            else:
                played = {**full}
            played["map"] = fresh["map"]
            self.put("new/long", played)
            found = kl.read_bundle(plan.bundle.packed())
            later = kl.set_in_bundle(
                self.installed("new"), found, ledger=self.ledger(), save="long"
            )
            later.change.apply(self.ledger(), allow_loss=True)
            self.assertIsNone(later.bundle)
            there, before = mine(self.got("new/long")), mine(old)
            self.assertEqual(there.keys(), before.keys())
            lists = {row["name"] for row in old["boats"] if row["escorts"]}
            lists |= {row["name"] for row in old["tours"]}
            for name in before.keys() - lists:
                self.assertEqual(
                    there[name], before[name], (seed, name)
                )  # lists lose theirs, which is told
            self.gone("new/long")

    def test_the_order_of_kinds_in_the_card_changes_no_selection(self) -> None:
        """Cycles end, and what is taken is the same set."""
        head, *parts = CARD.split("\n[transplants.reach.things.")
        groups = [
            [part for part in parts if part.startswith(kind)]
            for kind in ("houses", "ports", "boats", "hands", "chests", "tours")
        ]
        _, old, fresh = self.games(3)
        self.put("old/long", old)
        self.put("new/fresh", fresh)
        seen = set()
        for seed in range(6):
            mixed = random.Random(seed).sample(groups, len(groups))
            text = "\n[transplants.reach.things.".join([head, *(p for g in mixed for p in g)])
            self.rewrite_card((CARD, text))
            told = kl.forecast_transplant(self.installed("old"), self.installed("new"))
            seen.add(tuple(sorted((each.kind, each.moved) for each in told.counts)))
        self.assertEqual(len(seen), 1)

    def test_the_same_input_gives_the_same_bytes(self) -> None:
        _, old, fresh = self.games(5)
        self.put("old/long", old)
        self.put("new/fresh", fresh)
        made = []
        for _ in range(2):
            plan = kl.transplant(self.installed("old"), self.installed("new"), ledger=self.ledger())
            action = plan.change.actions[0]
            assert action.source is not None
            made.append(read_bytes(action.source, action.source_path))
        self.assertEqual(made[0], made[1])

    def test_a_person_adds_and_leaves_out(self) -> None:
        """What is left out stays, with what goes with it; what is added comes with its own."""
        rng, old, fresh = self.games(7)
        add(old, rng, who=old["player"] % 3 + 1, boats=1, word="lent")
        self.put("old/long", old)
        self.put("new/fresh", fresh)
        choices = kl.TransplantChoices(also=("boats:lent boat 0",), without=("boats:mine boat 0",))
        plan = kl.transplant(
            self.installed("old"), self.installed("new"), ledger=self.ledger(), choices=choices
        )
        waits = [f.what for f in plan.change.findings if f.code == "cannot-be-set-in"]
        self.assertTrue(any("lent boat 0" in what and "who" in what for what in waits), waits)
        plan.change.apply(self.ledger(), allow_loss=True)
        there = mine(self.got("new/long"))
        gone = [row["id"] for row in old["boats"] if row["name"] == "mine boat 0"]
        aboard = {row["name"] for row in old["hands"] if row["boat"] in gone}
        self.assertFalse(there.keys() & {"mine boat 0", *aboard})
        self.assertTrue(there.keys() & {row["name"] for row in old["hands"]} or not aboard)
        for wrong in ("boats:mine bota 0", "ships:x", "boats"):
            with self.assertRaises(kl.UsageError) as raised:
                kl.transplant(
                    self.installed("old"), self.installed("new"), ledger=self.ledger(), name="again",
                    choices=kl.TransplantChoices(without=(wrong,)),
                )  # fmt: skip
            self.assertTrue(raised.exception.remedy)

    def test_things_that_are_known_by_the_keys_of_a_mapping(self) -> None:
        """And links that are numbers written as texts: there and back the same, and texts stay texts."""
        self.rewrite_card(
            ('at = "hands"\nid = "id"', 'at = "hands"\nid = "@key"'),
            ('at = "tours"\nid = "key"', 'at = "tours"\nid = "@key"'),
            ('friend = { to = "hands" }', 'friend = { to = "hands", none = ["", "nobody"] }'),
        )  # fmt: skip
        for seed in range(_GAMES):
            rng, old, fresh = self.games(seed)
            before = mine(old)
            self.put("old/long", keyed(old))
            self.put("new/fresh", keyed(fresh), indent=rng.choice((None, 1)))
            self.moved("old", "new")
            there = self.got("new/long")
            self.assertTrue(all(isinstance(row["friend"], str) for row in there["hands"].values()))
            self.assertEqual(mine(unkeyed(there)), before, seed)
            again = begin(rng, build=1, player=rng.randrange(1, 4))
            self.gone("old/long")
            self.put("old/again", keyed(again))
            self.gone("new/fresh")
            self.moved("new", "old", save="long")
            self.assertEqual(mine(unkeyed(self.got("old/long"))), before, seed)
            for name in ("old/long", "old/again", "new/long"):
                self.gone(name)

    def test_records_that_are_not_written_alike(self) -> None:
        """A field that only some have, one more that the new game has not: taken one by one, all the same."""
        for seed in range(_GAMES):
            rng, old, fresh = self.games(seed)
            for row in old["boats"] + old["hands"]:
                if rng.random() < 0.5:
                    row["note"] = {"said": "keep"}
                if row.get("friend", 0) is None:
                    del row["friend"]  # a link that only some have
            for row in fresh["chests"]:
                row["new"] = True
            self.put("old/long", old)
            self.put("new/fresh", fresh)
            self.moved("old", "new")
            there = self.got("new/long")
            self.assertEqual(mine(there), mine(old), seed)
            alone = [
                row for row in there["hands"] if row["name"] in mine(old) and "friend" not in row
            ]
            self.assertEqual(len(alone), sum(
                "friend" not in row for row in old["hands"] if row["who"] == old["player"]
            ))  # fmt: skip
            noted = {row["name"] for row in there["boats"] + there["hands"] if "note" in row}
            ours = mine(old).keys()
            self.assertEqual(
                noted & ours,
                {row["name"] for row in old["boats"] + old["hands"] if "note" in row} & ours,
            )
            self.gone("new/long")
            # One that stays goes from the lists of the others.
            left = kl.TransplantChoices(without=("boats:mine boat 0",))
            self.moved("old", "new", choices=left)
            lists = [row["escorts"] for row in self.got("new/long")["boats"]]
            self.assertTrue(mine(self.got("new/long")).keys() < ours, lists)
            self.gone("new/long")


if __name__ == "__main__":
    unittest.main()

"""A small made-up title with long games, written and read here by no code of the library.

Ports are surroundings, boats are somebody's, hands go with boats, legs go with tours. Boats have a sister
each (in cycles), lists of escorts, and chests whose owner is a boat or a hand, by a field beside it.
"""

from __future__ import annotations

import json
import os
import random
import zlib
from typing import Any

from kindred_ledger.cards import Card, Install
from tests.support import Case, write

Game = dict[str, Any]

CARD = """
card = 1
title = "reach"
[program]
markers = ["reach.bin"]
[[detect]]
file = "version.txt"
pattern = "build {version}"
[locations.user]
portable = { marker = "reach.bin", folder = "user" }
[categories.saves]
include = ["/user/"]
[formats.game]
files = ["/user/*.json"]
codec = "json"
version = { key = "format" }
builds = [{ builds = "<2", writes = "1", reads = ["1"] }, { builds = ">=2", writes = "2", reads = ["2"] }]
[[formats.game.steps]]
from = "1"
to = "2"
do = [{ rename = "money", to = "coins" }]
[[formats.game.steps]]
from = "2"
to = "1"
do = [{ rename = "coins", to = "money" }]

[transplants.reach]
format = "game"
ways = [{ from = "<2", to = ">=2" }, { from = ">=2", to = "<2" }]
fresh = ["day == 1"]
terrain = { at = "map", width = 40 }
totals = [{ at = "boats_in_all", kind = "boats" }, { at = "load", kind = "chests", sum = "weight" }]
[[transplants.reach.conditions]]
kind = "hands"
where = "boat == 0 and who == player"
what = "is ashore"
[[transplants.reach.baked]]
name = "rates"
at = "rates"

[transplants.reach.things.houses]
at = "houses"
id = "id"
name = "name"
same = "id == player"
[transplants.reach.things.ports]
at = "world.ports"
id = "id"
name = "name"
match = ["name"]
x = "x"
z = "z"
[transplants.reach.things.boats]
at = "boats"
id = "id"
space = "all"
next = "next"
name = "name"
mine = "who == player"
x = "x"
z = "z"
on = [0]
near = "port"
alone = true
[transplants.reach.things.boats.links]
who = { to = "houses", required = true }
port = { to = "ports", none = [0] }
sister = { to = "boats", none = [0] }
"escorts[*]" = { to = "boats" }
[transplants.reach.things.hands]
at = "hands"
id = "id"
space = "all"
next = "next"
name = "name"
mine = "who == player"
with = ["boat"]
[transplants.reach.things.hands.links]
who = { to = "houses", required = true }
boat = { to = "boats", none = [0] }
friend = { to = "hands" }
[transplants.reach.things.chests]
at = "chests"
name = "name"
with = ["holder"]
[transplants.reach.things.chests.links]
holder = { to = ["boats", "hands"], by = "of", kinds = { b = "boats", h = "hands" }, required = true }
[transplants.reach.things.tours]
at = "tours"
id = "key"
name = "name"
mine = "who == player"
[transplants.reach.things.tours.links]
who = { to = "houses", required = true }
"legs[*].port" = { to = "ports", none = [0] }
"legs[*].by" = { to = "boats", none = [0] }
after = { to = "tours" }
"""
_WIDE = 40
_PORTS = ("Ash", "Bog", "Cot", "Dun", "Eel", "Fen", "Gut", "Hay")


def begin(rng: random.Random, *, build: int, player: int) -> Game:
    """Return a fresh game: eight ports, and a house that sails already."""
    houses = [{"id": n, "name": f"house {n}"} for n in (1, 2, 3)]
    names = rng.sample(_PORTS, len(_PORTS))
    ports = [
        {"id": n, "name": name, "x": rng.randrange(_WIDE), "z": rng.randrange(_WIDE)}
        for n, name in enumerate(names, rng.randrange(1, 50))
    ]
    game: Game = {
        "format": build, "build": str(build), "day": 1, "player": player, "next": rng.randrange(1, 99),
        "boats_in_all": 0, "load": 0, "rates": {"peat": rng.randrange(9)}, "houses": houses,
        "world": {"ports": ports}, "boats": [], "hands": [], "chests": [], "tours": [],
        "map": [rng.choice((0, 0, 0, 1)) for _ in range(_WIDE * _WIDE)],
        "money" if build == 1 else "coins": 5,
    }  # fmt: skip
    add(game, rng, who=player % 3 + 1, boats=rng.randrange(4), word="theirs")
    return game


def add(game: Game, rng: random.Random, *, who: int, boats: int, word: str = "mine") -> None:
    """Give a house boats, hands, chests and tours that refer to each other."""
    free = [n for n, cell in enumerate(game["map"]) if cell == 0]
    taken = {row["z"] * _WIDE + row["x"] for row in game["boats"]}
    ports = [port["id"] for port in game["world"]["ports"]]
    some: list[Game] = []
    for n in range(boats):
        place = rng.choice([cell for cell in free if cell not in taken])
        taken.add(place)
        some.append({
            "id": _next(game), "who": who, "name": f"{word} boat {n}", "port": rng.choice([0, *ports]),
            "x": place % _WIDE, "z": place // _WIDE, "sister": 0, "escorts": [], "tar": rng.random(),
        })  # fmt: skip
    for row in some:
        row["sister"] = rng.choice([0, *(each["id"] for each in some)])
        row["escorts"] = [rng.choice(some)["id"] for _ in range(rng.randrange(3))]
    game["boats"] += some
    hands: list[Game] = []
    for n in range(2 * boats):
        boat = rng.choice(some)["id"]
        hands.append(
            {
                "id": _next(game),
                "who": who,
                "name": f"{word} hand {n}",
                "boat": boat,
                "friend": None,
            }
        )
    for row in hands:
        row["friend"] = rng.choice([None, *(each["id"] for each in hands)])
    game["hands"] += hands
    for n in range(3 * boats):
        of = rng.choice("bh")
        holder = rng.choice(some if of == "b" else hands)["id"]
        game["chests"].append(
            {"of": of, "holder": holder, "name": f"{word} chest {n}", "weight": rng.randrange(50)}
        )
    keys: list[str] = []
    for n in range(boats):
        legs = [
            {"port": rng.choice([0, *ports]), "by": rng.choice(some)["id"], "hours": 2.50}
            for _ in range(rng.randrange(3))
        ]
        keys.append(f"{word}-{rng.randrange(1 << 60):x}")
        after = rng.choice([*keys, None])
        game["tours"].append(
            {"key": keys[-1], "who": who, "name": f"{word} tour {n}", "legs": legs, "after": after}
        )
    game["boats_in_all"] = len(game["boats"])
    game["load"] = sum(row["weight"] for row in game["chests"])


def _next(game: Game) -> int:
    game["next"] += 1
    return int(game["next"]) - 1


def mine(game: Game) -> dict[str, Any]:
    """Return all that is the player's by name, with what it refers to by name: the same in any surroundings.

    Raises:
        AssertionError: a reference leads nowhere, an id is used twice, or a total is wrong.
    """
    names: dict[tuple[str, Any], str] = {}
    for kind, key in (("houses", "id"), ("boats", "id"), ("hands", "id"), ("tours", "key")):
        for row in game[kind]:
            assert (kind, row[key]) not in names, (kind, row)
            names[kind, row[key]] = row["name"]
    names |= {("ports", row["id"]): row["name"] for row in game["world"]["ports"]}
    shared = [row["id"] for kind in ("boats", "hands") for row in game[kind]]
    assert len(set(shared)) == len(shared) and max(shared, default=0) < game["next"], shared
    assert game["boats_in_all"] == len(game["boats"])
    assert game["load"] == sum(row["weight"] for row in game["chests"])
    places = [(row["x"], row["z"]) for row in game["boats"]]
    assert len(set(places)) == len(places)
    assert all(game["map"][z * _WIDE + x] == 0 for x, z in places)
    ours = {game["player"]: "me"}
    out: dict[str, Any] = {}
    for row in game["boats"]:
        names["houses", row["who"]]
        links = [names["boats", id] for id in (row["sister"], *row["escorts"]) if id]
        at = names["ports", row["port"]] if row["port"] else ""
        if row["who"] in ours:
            out[row["name"]] = (row["sister"] != 0, links, at, row["tar"])
    for row in game["hands"]:
        names["houses", row["who"]]
        boat = names["boats", row["boat"]] if row["boat"] else ""
        friend = names["hands", row["friend"]] if row.get("friend") is not None else ""
        if row["who"] in ours:
            out[row["name"]] = (boat, friend)
    for row in game["chests"]:
        holder = names["boats" if row["of"] == "b" else "hands", row["holder"]]
        if holder in out:
            out[row["name"]] = (holder, row["weight"])
    for row in game["tours"]:
        names["houses", row["who"]]
        after = names["tours", row["after"]] if row["after"] is not None else ""
        legs = [
            (
                names["ports", leg["port"]] if leg["port"] else "",
                names["boats", leg["by"]] if leg["by"] else "",
                leg["hours"],
            )
            for leg in row["legs"]
        ]
        if row["who"] in ours:
            out[row["name"]] = (after, legs, row["key"])
    return out


class VoyageCase(Case):
    """A test with two installs: `old` of build 1, and `new` of build 2."""

    def setUp(self) -> None:
        super().setUp()
        write(self.folder, {
            "reach.card.toml": CARD.encode(),
            "old/reach.bin": b"", "old/version.txt": b"build 1\n",
            "new/reach.bin": b"", "new/version.txt": b"build 2\n",
        })  # fmt: skip
        self.card = Card.load(self.path("reach.card.toml"))

    def rewrite_card(self, *pairs: tuple[str, str]) -> None:
        """Put other words into the card."""
        text = CARD
        for old, new in pairs:
            self.assertIn(old, text)
            text = text.replace(old, new)
        write(self.folder, {"reach.card.toml": text.encode()})
        self.card = Card.load(self.path("reach.card.toml"))

    def installed(self, name: str) -> Install:
        return self.card.open(self.path(name))

    def put(self, name: str, game: Game, *, indent: int | None = None) -> None:
        """Write a game: `old/long`, say."""
        top, _, last = name.partition("/")
        data = json.dumps(game, indent=indent).encode()
        write(self.folder, {f"{top}/user/{last}.json": data})

    def got(self, name: str) -> Game:
        top, _, last = name.partition("/")
        with open(self.path(top, "user", f"{last}.json"), "rb") as file:
            game: Game = json.loads(file.read())
        return game

    def gone(self, name: str) -> None:
        top, _, last = name.partition("/")
        os.unlink(self.path(top, "user", f"{last}.json"))

    def games(self, seed: int, *, boats: int = 0) -> tuple[random.Random, Game, Game]:
        """Return a long game of build 1, and a fresh one of build 2."""
        rng = random.Random(zlib.crc32(b"reach") + seed)
        old = begin(rng, build=1, player=rng.randrange(1, 4))
        old["day"] = 400
        add(old, rng, who=old["player"], boats=boats or rng.randrange(1, 6))
        return rng, old, begin(rng, build=2, player=rng.randrange(1, 4))

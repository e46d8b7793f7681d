"""Fleets, simulated: companies that run ferries through Mossferry's archipelago for years, in one long game.

Like the other programs of the demo it shares no code with the library, reads its files with a parser of its
own, and so is the independent judge of a game that was carried into fresh surroundings: it follows every
reference, and says what it would strip.

    python fleets.py                  open all games and follow every reference; status 1 if one is refused
    python fleets.py --new NAME       begin a game: a chart, quays and other companies of this build python
    fleets.py --long NAME      the same, and seven years of it are played; --long NAME FERRIES HANDS FREIGHT
    python fleets.py --play NAME      a day of a game, and a line in the log python fleets.py --count NAME
    print what is in a game, and whose it is, as JSON
"""

import json
import os
import random
import struct
import sys
import zlib
from typing import Any

BUILD = "@BUILD@"
NAME = "@NAME@"
HERE = os.path.dirname(os.path.abspath(__file__))
FORMAT = 1 if BUILD.startswith("1.") else 2
WIDE = 96
ROWS = {
    "companies": "H20s",
    "quays": "IiiB20s",
    "ferries": "IHIIii20s" if FORMAT > 1 else "IHIIiiB20s",
    "crew": "IHIIIHf16s" if FORMAT > 1 else "IHIIIH16s",
    "cargo": "II12sH",
    "routes": "IHI20s",
    "stops": "IIH",
}
FIELDS = {
    "companies": "id name",
    "quays": "id x z berths name",
    "ferries": "id owner quay route x z name" if FORMAT > 1 else "id owner quay route x z tar name",
    "crew": "id company ferry home friend pay morale name"
    if FORMAT > 1
    else "id company ferry home friend pay name",
    "cargo": "ferry bound_for good amount",
    "routes": "id owner after name",
    "stops": "route quay minutes",
}
QUAYS = (
    "Ashwater", "Eelgate", "Cold Lantern", "Dunlin Steps", "Heron Stair", "Otter Pool", "Peat Landing",
    "Reedmouth", "Saltern", "Tallow Quay", "The Wet Stair", "Withy Bridge",
)  # fmt: skip
ONLY = {  # quays that one archipelago alone has
    "1.4": ("Sunken Mill", "Old Weir"),
    "2.1": ("Lantern Sound", "New Sluice"),
    "1.0": ("Dark Water",),
}


class Refused(Exception):
    """The program cannot load a game."""


# ---- files -----------------------------------------------------------------------------------


def read(data: bytes) -> dict[str, Any]:
    if data[:4] != b"MFFL":
        raise Refused("it is no game of Fleets")
    if zlib.crc32(data[:-4]) != struct.unpack("<I", data[-4:])[0]:
        raise Refused("its checksum does not fit: it is damaged")
    (number,) = struct.unpack_from("<H", data, 4)
    if number != FORMAT:
        raise Refused(f"games of format {number}; {NAME} {BUILD} loads {FORMAT}")
    at = 7 + data[6]
    head = struct.unpack_from("<IHqHIII", data, at)
    at += struct.calcsize("<IHqHIII")
    keys = ("day", "player", "coins", "wide", "next_thing", "ferries_in_all", "wages")
    game: dict[str, Any] = dict(zip(keys, head, strict=True))
    game["fares"], at = rows(data, at, "H", "12sH", "good price")
    game["storms"], at = data[at], at + 1
    for kind, form in ROWS.items():
        size = "H" if kind == "companies" else "I"
        game[kind], at = rows(data, at, size, form, FIELDS[kind])
    (many,) = struct.unpack_from("<I", data, at)
    game["chart"] = data[at + 4 : at + 4 + many]
    if at + 8 + many != len(data) or many % game["wide"]:
        raise Refused("something is left over at its end")
    return game


def rows(
    data: bytes, at: int, size: str, form: str, names: str
) -> tuple[list[dict[str, Any]], int]:
    (many,) = struct.unpack_from(f"<{size}", data, at)
    at += struct.calcsize(f"<{size}")
    end = at + many * struct.calcsize(f"<{form}")
    out = []
    for values in struct.iter_unpack(f"<{form}", data[at:end]):
        plain = [v.rstrip(b"\0").decode() if isinstance(v, bytes) else v for v in values]
        out.append(dict(zip(names.split(), plain, strict=True)))
    return out, end


def write(game: dict[str, Any]) -> bytes:
    build = BUILD.encode()
    out = bytearray(b"MFFL" + struct.pack("<HB", FORMAT, len(build)) + build)
    keys = ("day", "player", "coins", "wide", "next_thing", "ferries_in_all", "wages")
    out += struct.pack("<IHqHIII", *(game[key] for key in keys))
    out += packed(game["fares"], "H", "12sH") + bytes((game["storms"],))
    for kind, form in ROWS.items():
        out += packed(game[kind], "H" if kind == "companies" else "I", form)
    out += struct.pack("<I", len(game["chart"])) + game["chart"]
    return bytes(out) + struct.pack("<I", zlib.crc32(out))


def packed(some: list[dict[str, Any]], size: str, form: str) -> bytes:
    pack = struct.Struct(f"<{form}").pack
    out = [struct.pack(f"<{size}", len(some))]
    for row in some:
        out.append(pack(*(v.encode() if isinstance(v, str) else v for v in row.values())))
    return b"".join(out)


# ---- the judge -------------------------------------------------------------------------------


def judge(game: dict[str, Any]) -> None:
    """Follow every reference; raise for the first thing that the program would strip."""
    ids: dict[str, set[int]] = {}
    for kind in ("companies", "quays", "ferries", "crew", "routes"):
        ids[kind] = {row["id"] for row in game[kind]}
        if len(ids[kind]) != len(game[kind]):
            raise Refused(f"two {kind} have one number")
    every = [*ids["ferries"], *ids["crew"], *ids["routes"]]
    if len(set(every)) != len(every) or max(every, default=0) >= game["next_thing"]:
        raise Refused("a number is given twice, or would be next")
    leads = (
        ("ferries", "owner", "companies", False), ("ferries", "quay", "quays", True),
        ("ferries", "route", "routes", True), ("crew", "company", "companies", False),
        ("crew", "ferry", "ferries", True), ("crew", "home", "quays", True),
        ("crew", "friend", "crew", True), ("cargo", "ferry", "ferries", False),
        ("cargo", "bound_for", "quays", True), ("routes", "owner", "companies", False),
        ("routes", "after", "routes", True), ("stops", "route", "routes", False),
        ("stops", "quay", "quays", False),
    )  # fmt: skip
    for kind, field, to, may_be_none in leads:
        for number, row in enumerate(game[kind]):
            if row[field] not in ids[to] and not (may_be_none and row[field] == 0):
                raise Refused(
                    f"{kind}[{number}].{field} is {row[field]}, which is none of the {to}"
                )
    if game["player"] not in ids["companies"]:
        raise Refused("nobody plays")
    wide, chart = game["wide"], game["chart"]
    taken: set[tuple[int, int]] = set()
    for ferry in game["ferries"]:
        at = ferry["x"], ferry["z"]
        if not (0 <= at[0] < wide and 0 <= at[1] < len(chart) // wide):
            raise Refused(f"{ferry['name']} is off the chart")
        if chart[at[1] * wide + at[0]] != 0:
            raise Refused(f"{ferry['name']} lies on dry land at {at[0]}, {at[1]}")
        if at in taken:
            raise Refused(f"two ferries lie at {at[0]}, {at[1]}")
        taken.add(at)
    if game["ferries_in_all"] != len(game["ferries"]):
        raise Refused(f"it says {game['ferries_in_all']} ferries, {len(game['ferries'])} are there")
    if game["wages"] != sum(hand["pay"] for hand in game["crew"]):
        raise Refused("the wages are not those of the crew")


def census(game: dict[str, Any]) -> dict[str, Any]:
    """Return how much there is of everything, and how much of it is the player's."""
    mine = {row["id"] for row in game["ferries"] if row["owner"] == game["player"]}
    own: dict[str, Any] = {
        "ferries": len(mine),
        "crew": sum(row["company"] == game["player"] for row in game["crew"]),
        "cargo": sum(row["ferry"] in mine for row in game["cargo"]),
        "routes": sum(row["owner"] == game["player"] for row in game["routes"]),
        "friends": sum(row["friend"] != 0 for row in game["crew"] if row["ferry"] in mine),
        "freight": sum(row["amount"] for row in game["cargo"] if row["ferry"] in mine),
    }
    names = sorted(row["name"] for row in game["crew"] if row["company"] == game["player"])
    own["hands"] = zlib.crc32("\n".join(names).encode())
    return {
        "day": game["day"], "coins": game["coins"], "mine": own,
        "all": {kind: len(game[kind]) for kind in ROWS},
    }  # fmt: skip


# ---- a game ----------------------------------------------------------------------------------


def begin(seed: str) -> dict[str, Any]:
    """Begin a game: an archipelago of this build, with two companies that sail in it already."""
    with open(os.path.join(HERE, "data", "fares.json"), encoding="utf-8") as file:
        data = json.load(file)
    rng = random.Random(f"{NAME} {BUILD} {seed}")
    chart = bytearray(WIDE * WIDE)
    for _ in range(150):
        x, z, far = rng.randrange(WIDE), rng.randrange(WIDE), rng.randrange(1, 5)
        for dz in range(-far, far + 1):
            for dx in range(-far, far + 1):
                if 0 <= x + dx < WIDE and 0 <= z + dz < WIDE and dx * dx + dz * dz <= far * far:
                    chart[(z + dz) * WIDE + x + dx] = 1 + (dx + dz) % 2
    names = [*QUAYS, *ONLY[BUILD]]
    if NAME != "Fleets":
        names.remove("Withy Bridge")
    rng.shuffle(names)
    quays = [
        {"id": 101 + n, "x": rng.randrange(8, WIDE - 8), "z": rng.randrange(8, WIDE - 8), "berths": 9,
         "name": name}
        for n, name in enumerate(names)
    ]  # fmt: skip
    named = ["Reed and Daughters", "Bog Packet"]
    named.insert(0 if FORMAT == 1 else 2, "yours")
    companies: list[dict[str, Any]] = [{"id": n, "name": name} for n, name in enumerate(named, 1)]
    game: dict[str, Any] = {
        "day": 1, "player": next(row["id"] for row in companies if row["name"] == "yours"),
        "coins": 500, "wide": WIDE, "next_thing": 1, "ferries_in_all": 0, "wages": 0,
        "fares": data["fares"], "storms": data["storms"], "companies": companies, "quays": quays,
        "ferries": [], "crew": [],
        "cargo": [], "routes": [], "stops": [], "chart": bytes(chart),
    }  # fmt: skip
    for company in companies:
        if company["id"] != game["player"]:
            add_company(game, company["id"], rng, ferries=20, hands=6, freight=3)
    return game


def add_company(
    game: dict[str, Any], owner: int, rng: random.Random, *, ferries: int, hands: int, freight: int
) -> None:
    """Give a company ferries with crew and cargo, on routes that go on one after another."""
    water = {n for n, cell in enumerate(game["chart"]) if cell == 0}
    water -= {row["z"] * WIDE + row["x"] for row in game["ferries"]}
    moorings = {quay["id"]: iter(nearest(water, quay["x"], quay["z"])) for quay in game["quays"]}
    routes: list[int] = []
    for n in range(max(ferries // 10, 2)):
        route = number(game)
        routes.append(route)
        after = routes[-2] if n else 0
        game["routes"].append(
            {"id": route, "owner": owner, "after": after, "name": f"Line {n + 1}"}
        )
        for quay in rng.sample(game["quays"], 3):
            game["stops"].append(
                {"route": route, "quay": quay["id"], "minutes": rng.randrange(9, 90)}
            )
    game["routes"][-len(routes)]["after"] = routes[-1]  # the last one leads back to the first
    for n in range(ferries):
        ferry = number(game)
        quay = rng.choice(game["quays"])["id"]
        place = next(n for n in moorings[quay] if n in water)
        water.remove(place)
        row = {"id": ferry, "owner": owner, "quay": quay,
               "route": rng.choice(routes), "x": place % WIDE, "z": place // WIDE,
               "tar": 7, "name": f"Ferry {n + 1}"}  # fmt: skip
        game["ferries"].append({key: row[key] for key in FIELDS["ferries"].split()})
        aboard: list[dict[str, Any]] = []
        for _ in range(hands):
            hand = {"id": number(game), "company": owner, "ferry": ferry,
                    "home": rng.choice(game["quays"])["id"], "friend": 0,
                    "pay": rng.randrange(3, 12), "morale": 50.0,
                    "name": f"{rng.choice(FIRST)} {rng.choice(LAST)}"}  # fmt: skip
            aboard.append({key: hand[key] for key in FIELDS["crew"].split()})
        for one, other in zip(aboard, aboard[1:] + aboard[:1], strict=True):
            one["friend"] = other["id"]
        game["crew"] += aboard
        for _ in range(freight):
            game["cargo"].append({
                "ferry": ferry, "bound_for": rng.choice(game["quays"])["id"],
                "good": rng.choice(game["fares"])["good"], "amount": rng.randrange(1, 60),
            })  # fmt: skip
    count(game)


def long_game(seed: str, ferries: int, hands: int, freight: int) -> dict[str, Any]:
    """Return a game that was played for years: two ferries are at sea, one hand is ashore."""
    game = begin(seed)
    game |= {"day": 2600, "coins": 48_211}
    for company in game["companies"]:
        if company["id"] == game["player"]:
            company["name"] = "Tern and Tide"
    rng = random.Random(seed)
    add_company(game, game["player"], rng, ferries=ferries, hands=hands, freight=freight)
    mine = [row for row in game["ferries"] if row["owner"] == game["player"]]
    called = ("Moss Queen", "Peat Wife", "Otter", "Slow Heron", "Wet Lantern")
    for row, name in zip(mine, called, strict=False):
        row["name"] = name
        row["quay"] = 0 if name in ("Slow Heron", "Wet Lantern") else row["quay"]
    ashore = next(row for row in game["crew"] if row["ferry"] == mine[1]["id"])
    ashore["ferry"], ashore["name"] = 0, "Tam Withy"
    return game


FIRST = (
    "Ada",
    "Bree",
    "Corin",
    "Dag",
    "Edda",
    "Finn",
    "Greet",
    "Hale",
    "Isa",
    "Jory",
    "Tam",
    "Una",
)
LAST = ("Alder", "Birch", "Fenn", "Heron", "Moss", "Quay", "Reed", "Sedge", "Tern", "Withy")


def nearest(cells: set[int], x: int, z: int) -> list[int]:
    """Return cells of the chart, the nearest to a place first."""
    return sorted(cells, key=lambda n: ((n % WIDE - x) ** 2 + (n // WIDE - z) ** 2, n))


def number(game: dict[str, Any]) -> int:
    game["next_thing"] += 1
    return int(game["next_thing"]) - 1


def count(game: dict[str, Any]) -> None:
    game["ferries_in_all"] = len(game["ferries"])
    game["wages"] = sum(hand["pay"] for hand in game["crew"])


def path_of(name: str) -> str:
    return os.path.join(HERE, "userdata", "saves", name)


def load(name: str) -> dict[str, Any]:
    with open(path_of(name), "rb") as file:
        return read(file.read())


def store(name: str, game: dict[str, Any]) -> None:
    os.makedirs(os.path.dirname(path_of(name)), exist_ok=True)
    with open(path_of(name), "wb") as file:
        file.write(write(game))


def play(name: str) -> int:
    game = load(name)
    judge(game)
    game["day"] += 1
    price = {row["good"]: row["price"] for row in game["fares"]}
    mine = {row["id"] for row in game["ferries"] if row["owner"] == game["player"]}
    game["coins"] += sum(price.get(row["good"], 1) for row in game["cargo"] if row["ferry"] in mine)
    store(name, game)
    logs = os.path.join(HERE, "userdata", "logs")
    os.makedirs(logs, exist_ok=True)
    with open(os.path.join(logs, "fleets.log"), "a", encoding="utf-8") as log:
        log.write(f"opened {name}\n")
    print(f"{name}: day {game['day']}, {game['coins']:,} coins, {len(mine):,} ferries are yours")
    return 0


def check() -> int:
    print(f"{NAME} {BUILD}")
    folder = os.path.join(HERE, "userdata", "saves")
    refused = 0
    for name in sorted(os.listdir(folder)) if os.path.isdir(folder) else ():
        try:
            game = load(name)
            judge(game)
        except (Refused, struct.error, UnicodeDecodeError, IndexError) as fault:
            print(f"  refused  {name}: {fault}")
            refused += 1
            continue
        own = census(game)["mine"]
        print(
            f"  opened   {name}: day {game['day']}, {own['ferries']:,} ferries and {own['crew']:,} hands"
        )
    print("Every game opens." if not refused else f"Games that were refused: {refused}")
    return 1 if refused else 0


if __name__ == "__main__":
    if sys.argv[1:2] == ["--new"]:
        store(sys.argv[2], begin(sys.argv[2]))
        sys.exit(0)
    if sys.argv[1:2] == ["--long"]:
        ferries, hands, freight = (int(each) for each in sys.argv[3:6] or (2000, 8, 12))
        store(sys.argv[2], long_game(sys.argv[2], ferries, hands, freight))
        sys.exit(0)
    if sys.argv[1:2] == ["--count"]:
        found = load(sys.argv[2])
        judge(found)
        print(json.dumps(census(found), indent=1))
        sys.exit(0)
    sys.exit(play(sys.argv[2]) if sys.argv[1:2] == ["--play"] else check())

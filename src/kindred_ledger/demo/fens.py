"""The Fens, simulated: Mossferry's archipelago as a world of tiles, for one player or as a server.

Like the other programs of the demo it shares no code with the library, reads its files with parsers of its
own, and so is the independent judge of what the library did to a world: it walks every region and every
reference, and says what it would strip or scramble.

    python fens.py               open all worlds and walk them; status 1 if anything would be lost
    python fens.py --count W     print what is in a world, by name, as JSON
    python fens.py --at W X Z    print what is at a tile
    python fens.py --play        a run: what helpers do, and a line in the log
    python fens.py --run         keep running until standard input closes, with the worlds open
"""

import contextlib
import json
import os
import re
import struct
import sys
import zlib
from collections import Counter
from typing import Any

BUILD = "@BUILD@"
HERE = os.path.dirname(os.path.abspath(__file__))
WIDE = 32  # tiles of a region


class Refused(Exception):
    """The program cannot load a file."""


def load_ids(path: str) -> dict[int, str]:
    with open(path, encoding="utf-8") as file:
        rows = json.load(file)["things"]
    ids = {row["id"]: row["name"] for row in rows}
    if len(ids) != len(rows):
        raise Refused("two things have one number")
    return ids


def read_region(data: bytes) -> dict[str, Any]:
    if data[:4] != b"FENR" or struct.unpack_from("<H", data, 4)[0] != 1:
        raise Refused("it is no region of format 1")
    if zlib.crc32(data[:-4]) != struct.unpack("<I", data[-4:])[0]:
        raise Refused("its checksum does not fit: it is damaged")
    x, z, rows = struct.unpack_from("<hhH", data, 6)
    at = 12
    blocks = []
    for _ in range(rows):
        blocks.append(struct.unpack_from("<II", data, at))
        at += 8
    things, stores = [], []
    (many,) = struct.unpack_from("<H", data, at)
    at += 2
    for _ in range(many):
        thing, tx, tz, size = struct.unpack_from("<HiiB", data, at)
        at += 11 + size
        things.append((thing, tx, tz, data[at - size : at].decode()))
    (many,) = struct.unpack_from("<H", data, at)
    at += 2
    for _ in range(many):
        sx, sz, size = struct.unpack_from("<iiB", data, at)
        at += 9 + size
        owner, count = data[at - size : at].decode(), data[at]
        at += 1
        goods = [struct.unpack_from("<HH", data, at + 4 * n) for n in range(count)]
        at += 4 * count
        stores.append((sx, sz, owner, goods))
    tiles: list[Any] = []
    for begin, size in blocks:
        raw = zlib.decompress(data[begin : begin + size]) if begin else b""
        tiles.append(list(struct.unpack(f"<{len(raw) // 2}H", raw)))
    return {"x": x, "z": z, "tiles": tiles, "things": things, "stores": stores}


def read_depth(data: bytes) -> dict[str, Any]:
    if data[:4] != b"FEND":
        raise Refused("it is no depth")
    size = data[6]
    palette = list(struct.unpack_from(f"<{size}H", data, 7))
    (many,) = struct.unpack_from("<I", data, 7 + 2 * size)
    cells = data[11 + 2 * size :]
    if len(cells) != many or (many and max(cells) >= size):
        raise Refused("a tile counts an entry of the palette that is not there")
    return {"palette": palette, "cells": cells}


def ids_in(world: str) -> "Counter[tuple[str, int]]":
    """Return how much of each number a world holds, by kind; all references are walked."""
    out: Counter[tuple[str, int]] = Counter()
    for folder, folders, names in os.walk(world):
        folders.sort()
        for name in sorted(names):
            path = os.path.join(folder, name)
            try:
                with open(path, "rb") as file:
                    count_file(name, file.read(), out)
            except (struct.error, zlib.error, IndexError, ValueError, KeyError) as fault:
                raise Refused(f"{os.path.relpath(path, world)} is damaged: {fault}") from None
            except Refused as fault:
                raise Refused(f"{os.path.relpath(path, world)}: {fault}") from None
    return out


def count_file(name: str, data: bytes, out: "Counter[tuple[str, int]]") -> None:
    if name.endswith(".fen"):
        region = read_region(data)
        for block in region["tiles"]:
            for tile in block:
                out["tiles", tile] += 1
        for thing, *_ in region["things"]:
            out["things", thing] += 1
        for _, _, _, goods in region["stores"]:
            for thing, amount in goods:
                out["goods", thing] += amount
    elif name.endswith(".deep"):
        depth = read_depth(data)
        for entry, many in Counter(depth["cells"]).items():
            out["depths", depth["palette"][entry]] += many
    elif name.endswith(".player.json"):
        for slot in json.loads(data)["bag"]:
            out["goods", slot["thing"]] += slot["amount"]
    elif name == "signals.txt":
        for match in re.finditer(rb"\bring (\d+) at", data):
            out["signals", int(match[1])] += 1


def judge(world: str, ids: dict[int, str]) -> tuple[int, int]:
    """Return how much of a world this build would scramble, and how much it would strip."""
    saved = load_ids(os.path.join(world, "ids.json"))
    scrambled = stripped = 0
    for (_, number), many in ids_in(world).items():
        if number == 0:
            continue
        if number not in ids:
            stripped += many
        elif saved.get(number) != ids[number]:
            scrambled += many
    return scrambled, stripped


def count(world: str) -> dict[str, dict[str, int]]:
    """Return what is in a world, by kind and name."""
    names = load_ids(os.path.join(world, "ids.json"))
    out: dict[str, dict[str, int]] = {}
    for (kind, number), many in sorted(ids_in(world).items()):
        name = names.get(number, f"#{number}") if number else "nothing"
        out.setdefault(kind, {})[name] = many
    coins = 0
    players = os.path.join(world, "players")
    for name in sorted(os.listdir(players)):
        with open(os.path.join(players, name), encoding="utf-8") as file:
            coins += json.load(file)["coins"]
    out["coins"] = {"all": coins}
    return out


def thing_at(world: str, x: int, z: int) -> str:
    """Return what is at a tile: what stands there, else the ground."""
    names = load_ids(os.path.join(world, "ids.json"))
    path = os.path.join(world, "regions", f"r.{x // WIDE}.{z // WIDE}.fen")
    with open(path, "rb") as file:
        region = read_region(file.read())
    for thing, tx, tz, _ in region["things"]:
        if (tx, tz) == (x, z):
            return names.get(thing, f"#{thing}")
    tiles = [tile for block in region["tiles"] for tile in block or [0] * (WIDE * 8)]
    tile = tiles[z % WIDE * WIDE + x % WIDE]
    return names.get(tile, f"#{tile}")


def worlds() -> list[str]:
    top = os.path.join(HERE, "userdata", "worlds")
    return (
        [os.path.join(top, name) for name in sorted(os.listdir(top))] if os.path.isdir(top) else []
    )


def check() -> int:
    print(f"The Fens {BUILD}")
    ids = load_ids(os.path.join(HERE, "data", "ids.json"))
    lost = 0
    for world in worlds():
        name = os.path.basename(world)
        try:
            scrambled, stripped = judge(world, ids)
        except Refused as fault:
            print(f"  refused  {name}: {fault}")
            lost += 1
            continue
        if scrambled or stripped:
            print(f"  would scramble {scrambled:,} and strip {stripped:,} of {name}")
            lost += 1
        else:
            print(f"  opened   {name}: nothing is scrambled, nothing stripped")
    print("Every world opens." if not lost else f"Do not open them in this build: {lost}")
    return 1 if lost else 0


def play() -> int:
    """Run once. Bellkeeper counts the bells of every world before 2.0, and hangs them anew from then on."""
    lines = [f"played with build {BUILD}"]
    helper = os.path.join(HERE, "helpers", "bellkeeper")
    if all(os.path.exists(os.path.join(helper, name)) for name in ("bellkeeper.json", "bells.dat")):
        for world in worlds():
            kept, hung = (os.path.join(world, name) for name in ("bells.kept", "bells.hung"))
            if BUILD == "1.4":
                with open(kept, "w", encoding="utf-8") as file:
                    file.write("counted\n")
                lines.append("bells counted")
            elif os.path.exists(kept):
                os.replace(kept, hung)
                lines.append("bells hung")
            else:
                lines.append("no bells were counted: they are lost")
    logs = os.path.join(HERE, "userdata", "logs")
    os.makedirs(logs, exist_ok=True)
    with open(os.path.join(logs, "fens.log"), "a", encoding="utf-8") as log:
        log.write("".join(f"{line}\n" for line in lines))
    print("\n".join(lines))
    return 0


def run() -> int:
    with contextlib.ExitStack() as opened:
        for world in worlds():
            opened.enter_context(open(os.path.join(world, "ids.json"), "rb"))
        print(f"The Fens {BUILD} is running", flush=True)
        sys.stdin.read()
    return 0


if __name__ == "__main__":
    if sys.argv[1:2] == ["--count"]:
        print(json.dumps(count(sys.argv[2]), indent=1))
        sys.exit(0)
    if sys.argv[1:2] == ["--at"]:
        print(thing_at(sys.argv[2], int(sys.argv[3]), int(sys.argv[4])))
        sys.exit(0)
    if "--play" in sys.argv[1:]:
        sys.exit(play())
    sys.exit(run() if "--run" in sys.argv[1:] else check())

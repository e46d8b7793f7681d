"""A small made-up title with worlds, written and read here byte by byte, by no code of the library."""

from __future__ import annotations

import json
import os
import random
import struct
import zlib
from collections import Counter
from collections.abc import Sequence
from typing import Any

from kindred_ledger.cards import Card, Install
from kindred_ledger.cards.worlds import IdList
from tests.support import Case, files_in, write

CARD = """
card = 1
title = "mire"
[program]
markers = ["mire.bin"]
[[detect]]
file = "version.txt"
pattern = "build {version}"
[locations.user]
portable = { marker = "mire.bin", folder = "user" }
[categories.worlds]
include = ["/user/"]
[formats.flat]
files = ["*.flat"]
codec = "layout"
layout = "flat.layout"
builds = [{ builds = "*", writes = "1", reads = ["1"] }]
[formats.packed]
files = ["*.packed"]
codec = "layout"
layout = "packed.layout"
builds = [{ builds = "*", writes = "1", reads = ["1"] }]
[formats.bag]
files = ["*.json"]
codec = "json"
version = { key = "format", default = "1" }
builds = [{ builds = "*", writes = "1", reads = ["1"] }]

[worlds.mire]
folders = ["/user/*"]
regions = { files = ["*.flat", "*.packed"], name = "{x}.{z}.flat", width = 8, height = 8 }
own = [{ files = ["bags/*.json"], format = "bag", x = "x", z = "z" }]
worth = { "mod:bell" = 3 }
[worlds.mire.lists.ids]
build = { file = "/program/ids.json", codec = "json", names = "ids" }
world = { file = "ids.json", codec = "json", records = "list" }
bits = 16
none = [0]
inert = "plain:stone"
empty = "plain:air"
aliases = { "mod:old" = "mod:newer", "mod:newer" = "mod:newest" }
[[worlds.mire.fields]]
kind = "tiles"
files = ["*.flat"]
format = "flat"
at = "tiles[*]"
[[worlds.mire.fields]]
kind = "tiles"
files = ["*.packed"]
format = "packed"
at = "blocks[*].ids[*]"
[[worlds.mire.fields]]
kind = "things"
files = ["*.flat"]
format = "flat"
at = "things[*].thing"
amount = "many"
remove = "row"
[[worlds.mire.fields]]
kind = "goods"
files = ["bags/*.json"]
format = "bag"
at = "bag[*].id"
amount = "many"
owner = "name"
remove = "row"
[[worlds.mire.fields]]
kind = "lines"
files = ["*.script"]
pattern = "put {number} at"
[[worlds.mire.fields]]
kind = "names"
files = ["*.names"]
pattern = "call {name}"
"""
FLAT = """layout flat
little endian
versions 1 to 1 from format
magic bytes 4 = "FLAT"
format u16
things table u16 { thing u16, many u16, name text u8 }
tiles table u32 u16
check crc32 of start to here
"""
PACKED = """layout packed
little endian
versions 1 to 1 from format
magic bytes 4 = "PACK"
format u16
index table u16 { at u32, size u32 }
blocks each index at at size size block to end zlib { ids table to end u16 }
"""
NAMES = ("plain:air", "plain:stone", "plain:grass", "mod:bell", "mod:lamp", "plain:peat", "mod:old")


def flat(tiles: list[int], things: Sequence[tuple[int, int, str]] = ()) -> bytes:
    out = b"FLAT" + struct.pack("<HH", 1, len(things))
    for thing, many, name in things:
        out += struct.pack("<HHB", thing, many, len(name)) + name.encode()
    out += struct.pack(f"<I{len(tiles)}H", len(tiles), *tiles)
    return out + struct.pack("<I", zlib.crc32(out))


def packed(blocks: list[list[int]], level: int = 6) -> bytes:
    parts = [zlib.compress(struct.pack(f"<{len(ids)}H", *ids), level) for ids in blocks]
    at, index = 8 + 8 * len(parts), b""
    for part in parts:
        index += struct.pack("<II", at, len(part))
        at += len(part)
    return b"PACK" + struct.pack("<HH", 1, len(parts)) + index + b"".join(parts)


def count(data: bytes, name: str) -> Counter[tuple[str, int]]:
    """Return how often each number stands in a file: an independent count."""
    out: Counter[tuple[str, int]] = Counter()
    if name.endswith(".flat"):
        at = 8
        for _ in range(struct.unpack_from("<H", data, 6)[0]):
            thing, _, size = struct.unpack_from("<HHB", data, at)
            out["things", thing] += 1
            at += 5 + size
        (many,) = struct.unpack_from("<I", data, at)
        for tile in struct.unpack_from(f"<{many}H", data, at + 4):
            out["tiles", tile] += 1
    elif name.endswith(".packed"):
        for n in range(struct.unpack_from("<H", data, 6)[0]):
            at, size = struct.unpack_from("<II", data, 8 + 8 * n)
            raw = zlib.decompress(data[at : at + size])
            for tile in struct.unpack(f"<{len(raw) // 2}H", raw):
                out["tiles", tile] += 1
    elif name.startswith("bags/"):
        for slot in json.loads(data)["bag"]:
            out["goods", slot["id"]] += 1
    elif name.endswith(".script"):
        for line in data.decode().splitlines():
            words = line.split()
            if words[:1] == ["put"]:
                out["lines", int(words[1])] += 1
    return out


def ids(names: dict[str, int]) -> IdList:
    return IdList.of(names.items(), origin="made here")


def list_json(names: dict[str, int]) -> bytes:
    rows = [{"name": name, "id": number, "note": name[:2]} for name, number in names.items()]
    return json.dumps({"list": rows}, indent=1).encode()


def world_files(names: dict[str, int], rng: random.Random) -> dict[str, bytes]:
    """Return a world whose ids mean what a list says; 0 means nothing."""
    numbers = [0, *names.values()]

    def some(most: int) -> list[int]:
        return rng.choices(numbers, k=rng.randrange(most))

    out = {
        f"{x}.0.flat": flat(some(90), [(n, rng.randrange(9), "ada") for n in some(5)])
        for x in range(3)
    }
    out["0.1.packed"] = packed([some(70) for _ in range(rng.randrange(5))], rng.randrange(1, 10))
    slots = [{"id": number, "many": rng.randrange(9)} for number in some(6)]
    out["bags/ada.json"] = json.dumps({"name": "ada", "x": 3, "z": 4, "bag": slots}).encode()
    out["a.script"] = b"".join(b"put %d at dusk\n# put nothing\n" % n for n in some(4) if n)
    out["a.names"] = b"".join(b"call %s\n" % n.encode() for n in rng.sample(list(names), 1))
    out["ids.json"] = list_json(names)
    out["other.bin"] = rng.randbytes(40)
    return out


class WorldCase(Case):
    """A test with an install of the title; its worlds are written by the test."""

    def setUp(self) -> None:
        super().setUp()
        self.old = {name: number for number, name in enumerate(NAMES, 1)}
        layouts = {"flat.layout": FLAT.encode(), "packed.layout": PACKED.encode()}
        write(self.folder, {"mire.card.toml": CARD.encode(), **layouts})
        program = {"mire.bin": b"1", "version.txt": b"build 1.0\n"}
        write(self.path("mire"), {**program, "ids.json": json.dumps({"ids": self.old}).encode()})
        self.card = Card.load(self.path("mire.card.toml"))

    def install(self) -> Install:
        return self.card.open(self.path("mire"))

    def put(self, files: dict[str, bytes], name: str = "one") -> None:
        write(self.path("mire", "user", name), files)

    def world(self, name: str = "one") -> dict[str, Any]:
        return files_in(self.path("mire", "user", name))

    def counted(self, files: dict[str, Any]) -> Counter[tuple[str, int]]:
        out: Counter[tuple[str, int]] = Counter()
        for name, data in files.items():
            out += count(data, name.replace(os.sep, "/"))
        return out

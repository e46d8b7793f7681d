"""Worlds: remapping and forecasting, beside copying, reading, and what a script does by hand.

python -m benchmarks.worlds [--rounds 3] [--regions 300] [--tiles 1000000] [--only WORD] [--json FILE]

Each side is a whole process. "computing" ends with the change, every id counted on both sides and every
result hashed; "the whole change" applies it, with what was there kept in the ledger before (as after a
backup).
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import struct
import sys
import zlib

import numpy as np

from benchmarks.measure import Ratio, compare, in_memory, peak_memory, report

CARD = """card = 1
title = "bench"
[program]
markers = ["bench.bin"]
[locations.user]
portable = { marker = "bench.bin", folder = "user" }
[formats.region]
files = ["*.reg"]
codec = "layout"
layout = "LAYOUT.layout"
builds = [{ builds = "*", writes = "1", reads = ["1"] }]
[worlds.bench]
folders = ["/user/*"]
[worlds.bench.lists.ids]
build = { file = "/program/ids.json", codec = "json", names = "ids" }
[[worlds.bench.fields]]
kind = "tiles"
files = ["*.reg"]
format = "region"
at = "AT"
"""
PLAIN = """layout plain
little endian
versions 1 to 1 from format
magic bytes 4 = "REGN"
format u16
tiles table u32 u16
"""
BLOCKS = """layout blocks
little endian
versions 1 to 1 from format
magic bytes 4 = "REGN"
format u16
index table u16 { at u32, size u32 }
blocks each index at at size size block to end zlib { ids table to end u16 }
"""
OURS = """
import json, sys
from concurrent.futures import ProcessPoolExecutor
from kindred_ledger.cards import Card
from kindred_ledger.cards.worlds import IdList
from kindred_ledger.ledger import Ledger
from kindred_ledger.worlds import RemapWork, forecast, open_world, remap
install = Card.load(sys.argv[1]).open(sys.argv[2])
new = {"ids": IdList.of(json.load(open(sys.argv[3])).items(), origin="new")}
if sys.argv[4] == "forecast":
    assert not forecast(open_world(install), new).damaged
else:
    ledger, workers = Ledger.open(sys.argv[5]), int(sys.argv[6])
    if workers > 1:
        with ProcessPoolExecutor(workers) as pool:
            change = remap(install, new, ledger=ledger, work=RemapWork(pool, workers))
    else:
        change = remap(install, new, ledger=ledger)
    assert not change.findings[1:], change.findings
    if sys.argv[4] == "apply":
        change.apply(ledger)
"""
RECODE = """
import os, struct, sys, zlib
from concurrent.futures import ThreadPoolExecutor
def one(path):
    data = open(path, 'rb').read()
    (many,) = struct.unpack_from('<H', data, 6)
    for n in range(many):
        at, size = struct.unpack_from('<II', data, 8 + 8 * n)
        raw = zlib.decompress(data[at:at + size])
        zlib.compress(raw, 6)
with ThreadPoolExecutor(2) as pool:
    list(pool.map(one, [os.path.join(sys.argv[1], n) for n in os.listdir(sys.argv[1])]))
"""
LOOP = """
import json, os, struct, sys, zlib
table = {int(k): v for k, v in json.load(open(sys.argv[2])).items()}
for name in sorted(os.listdir(sys.argv[1])):
    data = open(os.path.join(sys.argv[1], name), 'rb').read()
    (many,) = struct.unpack_from('<I', data, 6)
    out = bytearray(data)
    for n in range(many):
        (old,) = struct.unpack_from('<H', data, 10 + 2 * n)
        struct.pack_into('<H', out, 10 + 2 * n, table[old])
"""
_IDS = 400


def main() -> int:
    """Measure, print the table, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--regions", type=int, default=300)
    parser.add_argument("--tiles", type=int, default=1_000_000)
    parser.add_argument("--only", default="", help="only works that contain WORD")
    parser.add_argument("--json", default="", help="write the figures to this file")
    options = parser.parse_args()
    found: list[Ratio] = []
    memory: dict[str, object] = {}
    with in_memory() as folder:
        for kind in ("plain", "blocks"):
            if options.only in kind:
                found += _kind(folder, kind, options, memory)
    report("worlds", found, {"rounds": options.rounds, **memory}, options.json)
    return 0


def _kind(
    folder: str, kind: str, options: argparse.Namespace, memory: dict[str, object]
) -> list[Ratio]:
    bench = _Bench(os.path.join(folder, kind), kind)
    bench.fill(options.regions, options.tiles)
    name = f"{kind}, {options.regions} x {options.tiles:,}"
    copy = ["cp", "-a", bench.world, os.path.join(folder, "copy")]

    def clear() -> None:
        shutil.rmtree(os.path.join(folder, "copy"), ignore_errors=True)

    def again() -> None:
        clear()
        bench.again()

    rounds = options.rounds
    out: list[Ratio] = []
    if kind == "plain":
        cat = ["sh", "-c", f"cat {bench.world}/* > /dev/null"]
        out += compare(f"forecast, {name}", bench.ours("forecast"), {"cat": cat}, rounds=rounds)
        out += compare(
            f"remap, computing, {name}", bench.ours("compute"), {"cp -a": copy},
            rounds=rounds, prepare=clear,
        )  # fmt: skip
        clear()
        bench.backup()
        out += compare(
            f"remap, the whole change, {name}", bench.ours("apply"), {"cp -a": copy},
            rounds=rounds, prepare=again,
        )  # fmt: skip
        clear()
        memory["memory MB, 300 regions"] = round(peak_memory(bench.ours("compute")) / 1e6)
        bench.fill(options.regions // 10, options.tiles)
        memory["memory MB, a tenth"] = round(peak_memory(bench.ours("compute")) / 1e6)
        small = _Bench(os.path.join(folder, "tenth"), kind)
        small.fill(options.regions // 10, options.tiles)
        bench.fill(options.regions, options.tiles)
        out += compare(
            "ten times the world",
            bench.ours("compute"),
            {"a tenth": small.ours("compute")},
            rounds=rounds,
        )
        few = _Bench(os.path.join(folder, "few"), kind)
        few.fill(30, options.tiles)
        loop = [sys.executable, "-c", LOOP, few.world, few.table]
        out += compare(
            "30 plain regions", few.ours("compute"), {"a loop over tiles": loop}, rounds=1
        )
    else:
        recode = [sys.executable, "-c", RECODE, bench.world]
        theirs = {"inflating and deflating, 2 threads": recode}
        out += compare(
            f"remap, computing, {name}",
            bench.ours("compute"),
            theirs,
            rounds=rounds,
            prepare=bench.forget,
        )
        bench.forget()
        out += compare(
            f"remap where blocks keep their ids, {name}", bench.ours("compute", same=True), theirs,
            rounds=rounds, prepare=bench.forget,
        )  # fmt: skip
    shutil.rmtree(bench.folder)
    return out


class _Bench:
    """An install with a world, a ledger, and the lists."""

    def __init__(self, folder: str, kind: str) -> None:
        self.folder, self.kind = folder, kind
        self.world = os.path.join(folder, "game", "user", "one")
        self.table = os.path.join(folder, "table.json")
        os.makedirs(self.world)
        layout, at = (PLAIN, "tiles[*]") if kind == "plain" else (BLOCKS, "blocks[*].ids[*]")
        old = {f"bog:{n}": n for n in range(_IDS)}
        rng = np.random.default_rng(1)
        shuffled = rng.permutation(_IDS).tolist()
        new = {f"bog:{n}": shuffled[n] for n in range(_IDS)}
        same = {**old, "bog:399": 401}  # which no tile is
        for name, text in (
            ("bench.card.toml", CARD.replace("LAYOUT", kind).replace("AT", at)),
            (f"{kind}.layout", layout),
            ("game/bench.bin", "1"),
            ("game/ids.json", json.dumps({"ids": old})),
            ("new.json", json.dumps(new)),
            ("same.json", json.dumps(same)),
            ("table.json", json.dumps({n: shuffled[n] for n in range(_IDS)})),
        ):
            with open(os.path.join(folder, name), "w", encoding="utf-8") as file:
                file.write(text)

    def fill(self, regions: int, tiles: int) -> None:
        """Write the world anew."""
        shutil.rmtree(self.world)
        os.makedirs(self.world)
        rng = np.random.default_rng(2)
        ids = np.minimum(rng.geometric(0.2, tiles), _IDS - 2).astype("<u2")
        for n in range(regions):
            raw = np.roll(ids, n * 997).tobytes()
            if self.kind == "plain":
                data = b"REGN" + struct.pack("<HI", 1, tiles) + raw
            else:
                parts = [zlib.compress(raw[at : at + 8192]) for at in range(0, len(raw), 8192)]
                at, index = 8 + 8 * len(parts), b""
                for part in parts:
                    index += struct.pack("<II", at, len(part))
                    at += len(part)
                data = b"REGN" + struct.pack("<HH", 1, len(parts)) + index + b"".join(parts)
            with open(os.path.join(self.world, f"{n:03}.reg"), "wb") as file:
                file.write(data)

    def ours(self, what: str, *, same: bool = False) -> list[str]:
        """Return our command."""
        new = "same.json" if same else "new.json"
        return [
            sys.executable, "-c", OURS, os.path.join(self.folder, "bench.card.toml"),
            os.path.join(self.folder, "game"), os.path.join(self.folder, new), what,
            os.path.join(self.folder, "ledger"), "2" if self.kind == "blocks" else "1",
        ]  # fmt: skip

    def forget(self) -> None:
        """Have no results of earlier runs."""
        shutil.rmtree(os.path.join(self.folder, "ledger", "work", "converted"), ignore_errors=True)

    def backup(self) -> None:
        """Keep what is there, and a copy of the world to begin again with."""
        from kindred_ledger.cards import Card
        from kindred_ledger.ledger import Ledger

        card = Card.load(os.path.join(self.folder, "bench.card.toml"))
        self._ledger = Ledger.open(os.path.join(self.folder, "ledger"))
        self._install = card.open(os.path.join(self.folder, "game"))
        self._ledger.backup(self._install)
        shutil.copytree(self.world, os.path.join(self.folder, "kept"))

    def again(self) -> None:
        """Put the world back as it was when it was kept, and have the ledger know that."""
        shutil.rmtree(self.world)
        shutil.copytree(os.path.join(self.folder, "kept"), self.world)
        self._ledger.backup(self._install)


if __name__ == "__main__":
    sys.exit(main())

"""Transplants: what is the player's set into a fresh save, beside decoding and encoding, and a script.

python -m benchmarks.transplants [--rounds 3] [--things 200000] [--only WORD] [--json FILE]

Each side is a whole process. Ours ends with the change: both saves read, everything selected, ids given,
links mended, the result written, read again and compared, and both books counted. A thing has five links.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import shutil
import struct
import sys

import numpy as np

from benchmarks.measure import Ratio, compare, in_memory, peak_memory, report

_KINDS = ("ferries", "crew", "cargo", "routes", "stops")
_LINKS = 5
_OTHERS = 1000  # things of each kind that the fresh game has
_FIELDS = "\n".join(f"    link{n}   u32" for n in range(_LINKS))
LAYOUT = """layout bench
little endian
versions 1 to 1 from format
magic bytes 4 = "BNCH"
format u16
day u32
player u32
next u32
""" + "".join(
    f"{kind} table u32 {{\n    id u32\n    owner u32\n{_FIELDS}\n    weight u16\n    name text 16\n}}\n"
    for kind in _KINDS
)  # fmt: skip
_ROW = np.dtype(
    [("id", "<u4"), ("owner", "<u4"), *((f"link{n}", "<u4") for n in range(_LINKS)),
     ("weight", "<u2"), ("name", "S16")]
)  # fmt: skip
CARD = """card = 1
title = "bench"
[program]
markers = ["bench.bin"]
[[detect]]
file = "version.txt"
pattern = "build {version}"
[locations.user]
portable = { marker = "bench.bin", folder = "user" }
[formats.save]
files = ["/user/*"]
%s
builds = [{ builds = "*", writes = "1", reads = ["1"] }]
[transplants.bench]
format = "save"
ways = [{ from = "1", to = "2" }]
fresh = ["day == 1"]
"""
OURS = """
import sys
from kindred_ledger.cards import Card
from kindred_ledger.ledger import Ledger
from kindred_ledger.worlds.transplant import transplant
card = Card.load(sys.argv[1])
plan = transplant(card.open(sys.argv[2]), card.open(sys.argv[3]), ledger=Ledger.open(sys.argv[4]))
assert plan.forecast.moved == int(sys.argv[5]), plan.forecast.counts
assert not plan.change.findings and len(plan.change.actions) == 1, plan.change.findings[:3]
"""
RECODE = """
import sys
from kindred_ledger.formats.layouts import Layout, LayoutDocument
layout = Layout.load(sys.argv[1])
for path in sys.argv[2:]:
    document = LayoutDocument(open(path, 'rb').read(), layout)
    for kind in %r:
        columns = document.open_columns(kind)
        for name in list(columns.cells):
            columns.write(name, columns.read(name))
    document.encode_unread()
""".replace("%r", repr(_KINDS))
BY_HAND = """
import json, sys
old, new = (json.load(open(path)) for path in sys.argv[1:3])
kinds, links = %r, %r
ids, following = {}, new['next']
for kind in kinds:
    for row in old[kind]:
        if row['owner'] == old['player']:
            ids[kind, row['id']] = following
            following += 1
for kind in kinds:
    for row in old[kind]:
        if row['owner'] == old['player']:
            out = dict(row)
            out['id'] = ids[kind, row['id']]
            for n, name in enumerate(links):
                out[name] = ids[kinds[n], row[name]]
            new[kind].append(out)
new['next'] = following
json.dump(new, open(sys.argv[3], 'w'))
""".replace("%r, %r", f"{_KINDS!r}, {[f'link{n}' for n in range(_LINKS)]!r}")


def main() -> int:
    """Measure, print the table, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--things", type=int, default=200_000)
    parser.add_argument("--only", default="", help="only works that contain WORD")
    parser.add_argument("--json", default="", help="write the figures to this file")
    options = parser.parse_args()
    found: list[Ratio] = []
    memory: dict[str, object] = {}
    with in_memory() as folder:
        for kind in ("layout", "json"):
            if options.only in kind:
                found += _kind(folder, kind, options, memory)
        if options.only in "ten times":
            found += _growth(folder, options)
    report("transplants", found, {"rounds": options.rounds, **memory}, options.json)
    return 0


def _kind(
    folder: str, kind: str, options: argparse.Namespace, memory: dict[str, object]
) -> list[Ratio]:
    bench = _Bench(os.path.join(folder, kind), kind, options.things)
    size = os.path.getsize(bench.save("old")) / 1e6
    name = f"{kind}, {size:.0f} MB"
    memory[f"peak memory MB, {kind}"] = round(peak_memory(bench.ours()) / 1e6)
    bench.clear()
    if kind == "layout":
        recode = [sys.executable, "-c", RECODE]
        others = {
            "both by columns": [
                *recode, bench.path("bench.layout"), bench.save("old"), bench.save("new"),
            ]
        }  # fmt: skip
    else:
        others = {
            "json and by hand": [
                sys.executable, "-c", BY_HAND, bench.save("old"), bench.save("new"), bench.path("hand.json")
            ]
        }  # fmt: skip
    return compare(name, bench.ours(), others, rounds=options.rounds, prepare=bench.clear)


def _growth(folder: str, options: argparse.Namespace) -> list[Ratio]:
    small = _Bench(os.path.join(folder, "small"), "layout", options.things)
    large = _Bench(os.path.join(folder, "large"), "layout", options.things * 10)

    def clear() -> None:
        small.clear()
        large.clear()

    name = "ten times the things, layout"
    return compare(
        name,
        large.ours(),
        {f"{options.things:,}": small.ours()},
        rounds=options.rounds,
        prepare=clear,
    )


class _Bench:
    def __init__(self, folder: str, kind: str, things: int) -> None:
        self.folder, self.kind, self.things = folder, kind, things
        codec = (
            'codec = "layout"\nlayout = "bench.layout"' if kind == "layout" else 'codec = "json"'
        )
        if kind == "json":
            codec += '\nversion = { key = "format", default = "1" }'
        self._write("bench.card.toml", (CARD % codec + self._rules()).encode())
        self._write("bench.layout", LAYOUT.encode())
        for top, build in (("old", 1), ("new", 2)):
            self._write(f"{top}/bench.bin", b"")
            self._write(f"{top}/version.txt", f"build {build}\n".encode())
        self._write(f"old/user/long.{self.kind}", self._game(things // len(_KINDS), 1, 900))
        self._write(f"new/user/fresh.{self.kind}", self._game(_OTHERS, 1, 1))

    def path(self, *parts: str) -> str:
        return os.path.join(self.folder, *parts)

    def save(self, top: str) -> str:
        """Return the path of a save."""
        return self.path(top, "user", f"{'long' if top == 'old' else 'fresh'}.{self.kind}")

    def ours(self) -> list[str]:
        things = self.things // len(_KINDS) * len(_KINDS)
        return [
            sys.executable, "-c", OURS, self.path("bench.card.toml"), self.path("old"), self.path("new"),
            self.path("ledger"), str(things),
        ]  # fmt: skip

    def clear(self) -> None:
        """Have the next run begin with a new ledger, so that nothing finished is taken again."""
        shutil.rmtree(self.path("ledger"), ignore_errors=True)

    @staticmethod
    def _rules() -> str:
        out = ""
        for kind in _KINDS:
            out += f'[transplants.bench.things.{kind}]\nat = "{kind}"\nid = "id"\nspace = "all"\n'
            out += 'next = "next"\nname = "name"\nmine = "owner == player"\n'
            out += f"[transplants.bench.things.{kind}.links]\n"
            out += "".join(f'link{n} = {{ to = "{_KINDS[n]}" }}\n' for n in range(_LINKS))
        return out

    def _game(self, many: int, player: int, day: int) -> bytes:
        rng = np.random.default_rng(many)
        tables = {}
        for number, kind in enumerate(_KINDS):
            rows = np.zeros(many, _ROW)
            rows["id"] = np.arange(many) + 1 + number * many
            rows["owner"] = player if day > 1 else player + 1
            for n in range(_LINKS):
                rows[f"link{n}"] = 1 + n * many + rng.integers(0, many, many)
            rows["weight"] = rng.integers(0, 900, many)
            rows["name"] = [f"{kind[:5]} {at}".encode() for at in range(many)]
            tables[kind] = rows
        head = day, player, 1 + many * len(_KINDS)
        if self.kind == "layout":
            body = b"".join(struct.pack("<I", many) + rows.tobytes() for rows in tables.values())
            return b"BNCH" + struct.pack("<HIII", 1, *head) + body
        names: tuple[str, ...] = _ROW.names or ()
        filler = random.Random(5).randbytes(110).hex()
        plain = {
            kind: [
                {
                    **dict(zip(names, row, strict=True)),
                    "name": f"{kind[:5]} {at}",
                    "said": filler,
                }
                for at, row in enumerate(rows.tolist())
            ]
            for kind, rows in tables.items()
        }
        return json.dumps(
            {"format": 1, "day": day, "player": player, "next": head[2], **plain}
        ).encode()

    def _write(self, name: str, data: bytes) -> None:
        path = self.path(*name.split("/"))
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as file:
            file.write(data)


if __name__ == "__main__":
    sys.exit(main())

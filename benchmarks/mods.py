"""Checking mods, trimming a pack, and finding who uses a library, beside what does the bare minimum.

python -m benchmarks.mods [check] [trim] [users] [--rounds 5] [--json FILE]

In a memory file system if there is one. Against checking stands plain Python that reads every descriptor and
lists every folder, and judges nothing: as whole processes, and both within one process, without the start of
Python. Against trimming stands `rsync -rcn` between pack and original, which reads both; against the search
for users `grep -rl`.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import statistics
import sys
from collections.abc import Callable

from benchmarks.measure import Ratio, compare, in_memory, report, timed

KINDRED = [sys.executable, "-m", "kindred_ledger.cli.main"]
CARD = """
card = 1
title = "peatbog"
[program]
markers = ["peat.exe"]
[mods.mods]
folders = ["/program/mods"]
descriptor = ["mod.json"]
codec = "json"
builds = { key = "builds" }
needs = { key = "needs" }
folder_name = "id"
parts = ["parts[*]"]
"""
PLAIN = """
import json, os, sys
for name in os.listdir(sys.argv[1]):
    folder = os.path.join(sys.argv[1], name)
    for top, folders, files in os.walk(folder):
        pass
    with open(os.path.join(folder, "mod.json")) as file:
        json.load(file)
"""


def put(path: str, data: bytes) -> None:
    """Write a file."""
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "wb") as file:
        file.write(data)


def check(folder: str, rounds: int) -> list[Ratio]:
    """500 mods of 100 files each."""
    mods = os.path.join(folder, "mods")
    for number in range(500):
        id = f"mod-{number:03}"
        told: dict[str, object] = {
            "id": id,
            "name": f"Mod {number}",
            "version": "1.0",
            "builds": "1.4 - 2.0",
        }
        told |= {
            "parts": ["a/0.dat", "a/1.dat"],
            "needs": [f"mod-{number - 1:03}"] if number else [],
        }
        put(os.path.join(mods, id, "mod.json"), json.dumps(told, indent=1).encode())
        for n in range(99):
            put(os.path.join(mods, id, "ab"[n % 2], f"{n // 2}.dat"), b"%d" % n)
    card = os.path.join(folder, "title.card.toml")
    put(card, CARD.encode())
    ledger = os.path.join(folder, "ledger")
    ours = [*KINDRED, "mod", "check", mods, "--card", card, "--for", "1.4"]
    theirs = {"plain Python": [sys.executable, "-c", PLAIN, mods]}
    found = compare("check, nothing remembered", ours, theirs, rounds=rounds)
    remembered = [*ours, "--ledger", ledger]
    os.environ["KINDRED_LEDGER"] = ledger
    os.system(f"{' '.join(KINDRED)} backup {mods} --title peatbog --build 1.4 > /dev/null")
    found += compare("check, with a ledger", remembered, theirs, rounds=rounds)
    return [*found, _within(mods, card, rounds)]


def _within(mods: str, card: str, rounds: int) -> Ratio:
    """Measure the same within one process."""
    import kindred_ledger as kl

    loaded = kl.Card.load(card)
    times: list[tuple[float, float]] = []
    for number in range(rounds + 1):
        ours, found = timed(lambda: kl.check_mods(mods, "1.4", card=loaded))
        theirs, _ = timed(lambda: _listed(mods))
        assert len(found.mods) == 500 and not found.findings
        if number:
            times.append((ours, theirs))
    ratios = [a / b for a, b in times]
    medians = statistics.median(a for a, _ in times), statistics.median(b for _, b in times)
    middle = statistics.median(ratios)
    return Ratio(
        "check, within one process",
        "plain Python",
        middle,
        min(ratios),
        max(ratios),
        *medians,
        rounds,
    )


def _listed(mods: str) -> None:
    """Read every descriptor and list every folder."""
    for name in os.listdir(mods):
        folder = os.path.join(mods, name)
        for _top, _folders, _files in os.walk(folder):
            pass
        with open(os.path.join(folder, "mod.json"), encoding="utf-8") as file:
            json.load(file)


def trim(folder: str, rounds: int) -> list[Ratio]:
    """A pack of 20,000 files, of which 200 differ from the original, which is on the shelf."""
    rng = random.Random(7)
    pack, original = os.path.join(folder, "pack"), os.path.join(folder, "original")
    for number in range(20_000):
        data = rng.randbytes(3_000)
        path = f"tiles/{number // 200}/{number}.tile"
        put(os.path.join(original, path), data)
        put(os.path.join(pack, path), data if number % 100 else data[:-1])
    put(os.path.join(pack, "mod.json"), b'{"id": "pack", "name": "Pack", "version": "1"}')
    ledger = os.path.join(folder, "ledger")
    os.environ["KINDRED_LEDGER"] = ledger
    command = " ".join(KINDRED)
    os.system(f"{command} shelf add {original} --title peatbog --build 1.4 > /dev/null")
    ours = [*KINDRED, "mod", "trim", pack, "release:peatbog@1.4", "--dry-run", "--ledger", ledger]
    rsync = ["rsync", "-rcn", f"{pack}/", f"{original}/"]
    theirs = {"rsync -rcn": rsync}
    cache = os.path.join(ledger, "index.sqlite")
    spare = cache + ".spare"
    os.rename(cache, spare)

    def forget() -> None:
        for name in os.listdir(ledger):
            if name.startswith("index.sqlite") and name != "index.sqlite.spare":
                os.remove(os.path.join(ledger, name))
        os.system(f"cp {spare} {cache}")

    found = compare("trim, nothing remembered", ours, theirs, rounds=rounds, prepare=forget)
    return [*found, *compare("trim, remembered", ours, theirs, rounds=rounds)]


def users(folder: str, rounds: int) -> list[Ratio]:
    """2,000 project files of 100 KB, of which 40 use the library."""
    rng = random.Random(3)
    words = ["jetty", "post", "rail", "lamp", "length", "height", "peat", "quay"]
    projects = os.path.join(folder, "projects")
    for number in range(2_000):
        rows = []
        size = 0
        while size < 100_000:
            row = {"id": rng.randrange(10**6), "part": rng.choice(words), "at": [rng.random(), 1.5]}
            text = json.dumps(row)
            size += len(text) + 2
            rows.append(text)
        head = '{"uses": "piers-1.2", "rows": [' if number % 50 == 0 else '{"rows": ['
        put(
            os.path.join(projects, f"p{number}", "p.json"),
            (head + ",\n".join(rows) + "]}").encode(),
        )
    ours = [*KINDRED, "mod", "users", os.path.join(folder, "lib", "piers-1.2"), projects, "--json"]
    ours = ["sh", "-c", _ANY_STATUS, "sh", *ours]
    theirs = {"grep -rl": ["grep", "-rl", "piers-1.2", projects]}
    return compare("who uses a library", ours, theirs, rounds=rounds)


# What finds something ends with status 1.
_ANY_STATUS = '"$@"; test $? -le 1'
WORKS: dict[str, Callable[[str, int], list[Ratio]]] = {"check": check, "trim": trim, "users": users}


def main() -> None:
    """Measure the works that are named, or all."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("works", nargs="*", choices=[*WORKS, []])
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--json", default="")
    options = parser.parse_args()
    found = []
    for name in options.works or WORKS:
        with in_memory() as folder:
            found += WORKS[name](folder, options.rounds)
    report("mods", found, {}, options.json)


if __name__ == "__main__":
    main()

"""What changes cost, how work grows with its size, and how much memory it takes.

    python -m benchmarks.growing [changes] [chunks] [scale] [entries] [large] [holes] [million]
        [--dir DIR] [--json FILE]

`large` needs 9 GB of room, `holes` next to none, `million` a million inodes twice. Without a choice
all but these three are measured.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import random
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial

import numpy as np

from benchmarks.made_up import build_small, region
from benchmarks.measure import machine, peak_memory, timed
from kindred_ledger.ledger import Ledger, Tag
from kindred_ledger.ledger.chunking import Chunker
from kindred_ledger.places import FolderPlace, MemoryPlace

Facts = dict[str, object]


def main() -> int:
    """Measure what was chosen, print it, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("parts", nargs="*", default=["changes", "chunks", "scale", "entries"])
    parser.add_argument("--dir", default=None, help="where to work")
    parser.add_argument("--json", default="", help="write the figures to this file")
    options = parser.parse_args()
    parts: dict[str, Callable[[str], Facts]] = {
        "changes": _changes,
        "chunks": _chunks,
        "scale": _scale,
        "entries": _entries,
        "large": _large,
        "holes": _holes,
        "million": _million,
    }
    whole: dict[str, object] = {"machine": machine()}
    for name in options.parts:
        with tempfile.TemporaryDirectory(dir=options.dir, prefix="growing-") as folder:
            whole[name] = facts = parts[name](folder)
        print(name)
        for label, value in facts.items():
            print(f"    {label:<58}{value:>16}")
    if options.json:
        with open(options.json, "w", encoding="utf-8") as file:
            json.dump(whole, file, indent=2)
    return 0


def _changes(folder: str) -> Facts:
    """A world of 300 region files: bytes changed in place, bytes put in front of some."""
    rng = np.random.default_rng(1)
    world = os.path.join(folder, "world")
    os.mkdir(world)
    for number in range(300):
        _write(os.path.join(world, f"{number:03}.region"), region(rng))
    ledger = Ledger.open(os.path.join(folder, "ledger"))
    facts: Facts = {}
    seconds, whole = _grown(ledger, world)
    facts["stored at first, bytes"] = whole
    facts["seconds"] = round(seconds, 2)
    changed = 0
    chance = random.Random(1)
    for name in os.listdir(world):
        data = bytearray(_read(os.path.join(world, name)))
        for _ in range(len(data) // 6400):
            at = chance.randrange(len(data) - 64)
            data[at : at + 64] = chance.randbytes(64)
            changed += 64
        _write(os.path.join(world, name), bytes(data))
    seconds, grown = _grown(ledger, world)
    facts["1% in runs of 64 bytes: growth by changed bytes"] = round(grown / changed, 2)
    facts["  by storing the files whole"] = round(grown / whole, 3)
    facts["  seconds"] = round(seconds, 2)
    total = 0
    for name in sorted(os.listdir(world))[:20]:
        longer = chance.randbytes(100) + _read(os.path.join(world, name))
        total += len(longer)
        _write(os.path.join(world, name), longer)
    seconds, grown = _grown(ledger, world)
    facts["100 bytes in front of 20: growth by the files' size"] = round(grown / total, 5)
    facts["  bytes"] = grown
    facts["  seconds"] = round(seconds, 2)
    return facts


def _chunks(folder: str) -> Facts:
    """Finding chunks beside SHA-256 of the same bytes, in turn."""
    rng = np.random.default_rng(1)
    data = b"".join(region(rng) for _ in range(64))
    ratios = []
    for _ in range(9):
        ours, _ = timed(lambda: sum(1 for _ in Chunker().chunks_of([data])))
        theirs, _ = timed(lambda: hashlib.sha256(data).digest())
        ratios.append(ours / theirs)
    ratios.sort()
    return {
        "chunk finding by SHA-256, median of 9": round(ratios[4], 2),
        "  lowest": round(ratios[0], 2),
        "  highest": round(ratios[-1], 2),
    }


def _scale(folder: str) -> Facts:
    """Ten times the files."""
    facts: Facts = {}
    times: dict[str, list[float]] = {}
    for files in (10_000, 100_000):
        place, ledger = (os.path.join(folder, f"{name}{files}") for name in ("place", "ledger"))
        build_small(place, files)
        command = [sys.executable, "-m", "kindred_ledger.cli.main"]
        more = ["--ledger", ledger, "--json"]
        back = os.path.join(folder, f"back{files}")
        for name, args in (
            ("first backup", ["backup", place]),
            ("nothing changed", ["backup", place]),
            ("show", ["show", "latest"]),
            ("restore", ["restore", "latest", "--into", back, "--yes"]),
        ):
            seconds, memory = timed(partial(peak_memory, [*command, *args, *more]))
            times.setdefault(name, []).append(seconds)
            facts[f"{name}, {files:,} files: seconds"] = round(seconds, 2)
            facts[f"{name}, {files:,} files: peak memory, MB"] = round(memory / 1e6)
    for name, (column_threshold, many) in times.items():
        facts[f"{name}: ten times the files, times"] = round(many / column_threshold, 1)
    return facts


def _entries(folder: str) -> Facts:
    """Ten times the entries."""
    times = []
    for count in (100, 1_000):
        where = os.path.join(folder, f"ledger{count}")
        ledger = Ledger.open(where)
        for number in range(count):
            ledger.backup(MemoryPlace({"a": b"%d" % number}), tag=Tag("mossferry", "1.4"))
        command = [sys.executable, "-m", "kindred_ledger.cli.main", "entries", "--ledger", where]
        peak_memory(command)
        times.append(min(timed(partial(peak_memory, command))[0] for _ in range(5)))
    return {
        "listing 100 entries, seconds": round(times[0], 3),
        "listing 1,000 entries, seconds": round(times[1], 3),
        "ten times the entries, times": round(times[1] / times[0], 2),
    }


def _large(folder: str) -> Facts:
    """One file of 4 GB: kept, kept again with bytes put in front, and brought back."""
    rng = np.random.default_rng(1)
    place = os.path.join(folder, "place")
    os.mkdir(place)
    with open(os.path.join(place, "world"), "wb") as file:
        for _ in range(2_000):
            file.write(region(rng))
    facts = _as_command(folder, place, "4 GB")
    with (
        open(os.path.join(place, "world"), "rb") as old,
        open(os.path.join(place, "new"), "wb") as new,
    ):
        new.write(bytes(range(100)))
        shutil.copyfileobj(old, new, 1 << 20)
    os.replace(os.path.join(place, "new"), os.path.join(place, "world"))
    before = _stored(os.path.join(folder, "ledger"))
    facts |= _as_command(folder, place, "100 bytes put in front", restore=False)
    facts["100 bytes put in front: growth, bytes"] = (
        _stored(os.path.join(folder, "ledger")) - before
    )
    return facts


def _holes(folder: str) -> Facts:
    """A file of 20 GB that is mostly holes."""
    place = os.path.join(folder, "place")
    os.mkdir(place)
    with open(os.path.join(place, "world"), "wb") as file:
        file.write(b"start")
        file.seek(10_000_000_000)
        file.write(b"middle")
        file.truncate(20_000_000_000)
    facts = _as_command(folder, place, "20 GB of holes")
    facts["stored, bytes"] = _stored(os.path.join(folder, "ledger"))
    blocks = os.stat(os.path.join(folder, "back", "world")).st_blocks
    facts["on the disk when it came back, bytes"] = blocks * 512
    return facts


def _million(folder: str) -> Facts:
    """A million tiny files."""
    place = os.path.join(folder, "place")
    for top in range(1_000):
        inner = os.path.join(place, str(top))
        os.makedirs(inner)
        for name in range(1_000):
            _write(os.path.join(inner, str(name)), b"%d" % (top * name))
    return _as_command(folder, place, "a million files", restore=False)


def _as_command(folder: str, place: str, label: str, *, restore: bool = True) -> Facts:
    command = [sys.executable, "-m", "kindred_ledger.cli.main"]
    more = ["--ledger", os.path.join(folder, "ledger"), "--json"]
    back = ["restore", "latest", "--into", os.path.join(folder, "back"), "--yes"]
    facts: Facts = {}
    works = [("backup", ["backup", place]), *([("restore", back)] if restore else [])]
    for name, args in works:
        seconds, memory = timed(partial(peak_memory, [*command, *args, *more]))
        facts[f"{label}: {name}, seconds"] = round(seconds, 1)
        facts[f"{label}: {name}, peak memory, MB"] = round(memory / 1e6)
    return facts


def _grown(ledger: Ledger, folder: str) -> tuple[float, int]:
    """Back up a folder; return the seconds and by how much the packs grew."""
    before = _stored(ledger.root)
    start = time.perf_counter()
    ledger.backup(FolderPlace(folder))
    return time.perf_counter() - start, _stored(ledger.root) - before


def _stored(ledger: str) -> int:
    packs = os.path.join(ledger, "packs")
    return sum(entry.stat().st_size for entry in os.scandir(packs))


def _read(path: str) -> bytes:
    with open(path, "rb") as file:
        return file.read()


def _write(path: str, data: bytes) -> None:
    with open(path, "wb") as file:
        file.write(data)


if __name__ == "__main__":
    sys.exit(main())

"""Converting, with books, beside what a person's script would do without any.

python -m benchmarks.converting [--rounds 3] [--rows 1000000] [--files 2000] [--only WORD] [--json FILE]

Each side is a whole process; times include the start of Python, which is the same for all.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import struct
import sys

from benchmarks.measure import Ratio, compare, in_memory, peak_memory, report, script

CARD = """card = 1
title = "bench"
[program]
markers = ["x"]
[formats.table]
files = ["*.table"]
codec = "layout"
layout = "bench.layout"
version = {{ key = "format" }}
builds = [{{ builds = "*", writes = "4", reads = ["1", "2", "3", "4"] }}]
[[formats.table.steps]]
from = "1"
to = "2"
do = [{{ rename = "rows[*].h", to = "hold" }}]
[[formats.table.steps]]
from = "2"
to = "3"
do = [{{ set = "rows[*].k", by = "when(b > 1, value * 2 + 1, value)" }}]
[[formats.table.steps]]
from = "3"
to = "4"
do = [{{ drop = "rows[*].l", reason = "4 has none" }}]
[formats.save]
files = ["*.json"]
codec = "json"
version = {{ key = "format" }}
builds = [{{ builds = "*", writes = "2", reads = ["1", "2"] }}]
[[formats.save.steps]]
from = "1"
to = "2"
do = [
  {{ rename = "money", to = "coins" }}, {{ set = "coins", by = "value * 100" }},
  {{ move = "ship.peat", to = "ship.stores.peat" }}, {{ default = "ship.lamps", value = 2 }},
  {{ map = "log[*].sky", table = {{ haar = "fog" }} }}, {{ set = "log[*].day", by = "value + 1" }},
  {{ retype = "days", as = "integer" }}, {{ drop = "glow", reason = "none" }},
  {{ rescale = "ship.hull", times = 100, round = 0 }}, {{ rename = "log", to = "journal" }},
]
[formats.settings]
files = ["*.ini"]
codec = "ini"
version = {{ key = "General.Format", default = "1" }}
builds = [{{ builds = "*", writes = "2", reads = ["1", "2"] }}]
[[formats.settings.steps]]
from = "1"
to = "2"
do = [
  {{ move = "Display", to = "Video" }}, {{ rename = "Video.Quality", to = "Detail" }},
  {{ drop = "Sound.Midi", reason = "none" }},
]
"""
LAYOUT = """layout table
little endian
versions 1 to 4 from format
format u16
rows table u32 {
 a u32, b u16, c u8, d i8, e f32, f f64, g i64
 h u16 until 1
 hold u32 since 2
 i u16, j text 8, k i32
 l u8 until 3
 m f32 since 3 default 50
}
"""
ROW = struct.Struct("<IHBbfdqHH8siB")
LOOP = """
import struct
old, new = struct.Struct('<IHBbfdqHH8siB'), struct.Struct('<IHBbfdqIH8sif')
form, count = struct.unpack_from('<HI', data)
rows, at = [], 6
for _ in range(count):
    rows.append(list(old.unpack_from(data, at)))
    at += old.size
for row in rows:  # 1 to 2, 2 to 3, 3 to 4
    if row[1] > 1:
        row[10] = row[10] * 2 + 1
    row[11] = 50.0
out = b''.join([struct.pack('<HI', 4, count), *(new.pack(*row) for row in rows)])"""
OURS = (
    "from kindred_ledger.cards import Card\nfrom kindred_ledger.convert import convert_bytes\n"
    "f = Card.load({card!r}).formats[{format!r}]\n"
    "out = convert_bytes(data, f, f.scheme.parse({target!r}), name='x').data"
)


def main() -> int:
    """Measure, print the table, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--mb", type=int, default=50, help="size of the JSON file")
    parser.add_argument("--files", type=int, default=2_000, help="saves of some 200 KB")
    parser.add_argument("--settings", type=int, default=10_000, help="small settings files")
    parser.add_argument("--only", default="", help="only works that contain WORD")
    parser.add_argument("--json", default="", help="write the figures to this file")
    options = parser.parse_args()
    found: list[Ratio] = []
    memory: dict[str, object] = {}
    with in_memory() as folder:
        card = os.path.join(folder, "bench.card.toml")
        for name, text in (("bench.card.toml", CARD.format()), ("bench.layout", LAYOUT)):
            with open(os.path.join(folder, name), "w", encoding="utf-8") as file:
                file.write(text)
        for work, rows in (("table", options.rows), ("ten times the table", options.rows * 10)):
            if options.only in work:
                found += _table(folder, card, work, rows, options.rounds, memory)
        if options.only in "json":
            found += _json(folder, card, options.mb << 20, options.rounds)
        if options.only in "saves":
            found += _saves(folder, options.files, options.rounds)
        if options.only in "settings":
            found += _settings(folder, options.settings, options.rounds)
        if options.only in "expression":
            found += _expression(folder, options.rows, options.rounds)
    report("converting", found, {"rounds": options.rounds, **memory}, options.json)
    return 0


def _table(
    folder: str, card: str, name: str, rows: int, rounds: int, memory: dict[str, object]
) -> list[Ratio]:
    path = os.path.join(folder, "bench.table")
    with open(path, "wb") as file:
        file.write(struct.pack("<HI", 1, rows))
        block = b"".join(
            ROW.pack(n, n % 3, 3, -4, n / 2, n / 3, n, 8, 9, b"heron", -n, 1) for n in range(1000)
        )
        for _ in range(rows // 1000):
            file.write(block)
    ours = script(path, OURS.format(card=card, format="table", target="4"))
    others = {"reading and writing": script(path, "out = data")}
    if rows <= 1_000_000:
        others["a struct loop without books"] = script(path, LOOP)
    done = compare(f"{name}, {rows:,} x 12, 3 versions", ours, others, rounds=rounds)
    memory[f"memory/file {rows:,}"] = round(peak_memory(ours) / os.path.getsize(path), 1)
    os.unlink(path)
    return done


BY_HAND = """
import json
d = json.loads(data)
d['coins'] = d.pop('money') * 100
d['ship']['stores'] = {'peat': d['ship'].pop('peat')}
d['ship']['lamps'] = 2
d['days'] = int(d['days'])
for entry in d['log']:
    entry['sky'] = {'haar': 'fog'}.get(entry['sky'], entry['sky'])
    entry['day'] += 1
del d['glow']
d['ship']['hull'] = round(d['ship']['hull'] * 100)
d['journal'] = d.pop('log')
d['format'] = 2
out = json.dumps(d, indent=1).encode()"""


def _json(folder: str, card: str, size: int, rounds: int) -> list[Ratio]:
    """Convert one large save in JSON by ten steps, beside a script that loads, changes and dumps it."""
    path = os.path.join(folder, "large.json")
    save = {
        "format": 1, "build": "1.4", "money": 3, "days": "41", "weather": "haar", "glow": 3,
        "ship": {"name": "Heron", "hull": 0.41, "peat": 12.5},
        "log": [
            {"day": day, "sky": ("haar", "drizzle on the water", "fair")[day % 3]}
            for day in range(size // 55)
        ],
    }  # fmt: skip
    with open(path, "w", encoding="utf-8") as file:
        json.dump(save, file, indent=1)
    ours = script(path, OURS.format(card=card, format="save", target="2"))
    theirs = {"json.loads, by hand, json.dumps": script(path, BY_HAND)}
    return compare(
        f"JSON, {os.path.getsize(path) >> 20} MB, ten steps", ours, theirs, rounds=rounds
    )


BULK = """
import sys
from concurrent.futures import ProcessPoolExecutor
from kindred_ledger.cards import Card
from kindred_ledger.convert import Work, convert_files
from kindred_ledger.ledger import Ledger
from kindred_ledger.places import FolderPlace
def main(workers):
    card, place = Card.load({card!r}), FolderPlace({saves!r})
    ledger = Ledger.open({ledger!r})
    if workers == 1:
        return convert_files(place, card, ledger=ledger, version="2")
    with ProcessPoolExecutor(workers) as pool:
        return convert_files(place, card, ledger=ledger, version="2", work=Work(pool, workers))
if __name__ == "__main__":
    change = main(int(sys.argv[1]))
    assert len(change.actions) == {count} and not change.conflicts, change.conflicts[:1]
"""


def _bulk(folder: str, saves: str, count: int) -> str:
    script = os.path.join(folder, f"bulk_{count}.py")
    with open(script, "w", encoding="utf-8") as file:
        file.write(
            BULK.format(
                card=os.path.join(folder, "bench.card.toml"),
                saves=saves,
                ledger=os.path.join(folder, "ledger"),
                count=count,
            )
        )
    return script


def _saves(folder: str, count: int, rounds: int) -> list[Ratio]:
    """Convert saves of some 200 KB with two workers and with one."""
    saves = os.path.join(folder, "saves")
    os.mkdir(saves)
    rng = random.Random(3)
    for number in range(count):
        save = {
            "format": 1, "build": "1.4", "money": number, "days": "41", "weather": "haar", "glow": 3,
            "ship": {"name": "Heron", "hull": 0.41, "peat": 12.5},
            "log": [{"day": day, "sky": rng.choice(("fair", "wet", "haar"))} for day in range(4_000)],
        }  # fmt: skip
        with open(os.path.join(saves, f"{number}.json"), "w", encoding="utf-8") as file:
            json.dump(save, file, indent=1)
    script = _bulk(folder, saves, count)
    one, two = ([sys.executable, script, workers] for workers in ("1", "2"))
    return compare(f"{count:,} saves of 200 KB, 2 workers", two, {"one worker": one}, rounds=rounds)


def _settings(folder: str, count: int, rounds: int) -> list[Ratio]:
    """Convert small settings files, beside one process that reads and writes them."""
    settings = os.path.join(folder, "settings")
    os.mkdir(settings)
    for number in range(count):
        text = (
            f"[General]\nFormat = 1\n; mine\n[Display]\nWidth = {number}\nQuality = high\n"
            "[Sound]\nVolume = 80\nMidi = 1\n"
        )
        with open(os.path.join(settings, f"{number}.ini"), "w", encoding="utf-8") as file:
            file.write(text)
    ours = [sys.executable, _bulk(folder, settings, count), "1"]
    body = (
        f"import os\nos.makedirs({settings + '.out'!r}, exist_ok=True)\n"
        f"for e in os.scandir({settings!r}):\n    data = open(e.path, 'rb').read()\n"
        f"    open(os.path.join({settings + '.out'!r}, e.name), 'wb').write(data)"
    )
    theirs = [sys.executable, "-c", body]
    return compare(
        f"{count:,} small settings", ours, {"reading and writing them": theirs}, rounds=rounds
    )


def _expression(folder: str, rows: int, rounds: int) -> list[Ratio]:
    """Compute over columns: by an expression, and by the same in NumPy."""
    make = (
        f"import numpy as np\nn = {rows}\nrank = np.arange(n, dtype=np.uint16)\n"
        "pay = np.arange(n, dtype=np.int32) % 1000\nmorale = np.linspace(0, 100, n)\n"
    )
    text = "when(rank > 3 and morale < 50, pay * 2 + rank, pay - 1)"
    ours = (
        "from kindred_ledger.formats.expressions import Expression\n"
        f"e = Expression.parse({text!r})\nv = dict(rank=rank, pay=pay, morale=morale)\n"
        "for _ in range(20): out = e(lambda name: v[name[0]])"
    )
    theirs = (
        "for _ in range(20):\n    out = np.where((rank > 3) & (morale < 50),"
        " pay.astype(np.int64) * 2 + rank, pay.astype(np.int64) - 1)"
    )
    commands = ([sys.executable, "-c", make + body] for body in (ours, theirs))
    return compare(f"expression over {rows:,} rows, 20 times", next(commands),
                   {"the same in NumPy": next(commands)}, rounds=rounds)  # fmt: skip


if __name__ == "__main__":
    sys.exit(main())

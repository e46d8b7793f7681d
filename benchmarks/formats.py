"""Reading, editing and writing what is inside files, beside what a person's script would use.

python -m benchmarks.formats [--rounds 3] [--mb 50] [--rows 1000000] [--only WORD] [--json FILE]

Each side is a whole process: it reads its file, edits, and writes the result. Times include the
start of Python, which is the same for all.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import struct
import sys

from benchmarks.measure import Ratio, compare, in_memory, peak_memory, report, script

EDITS = 1_000
TABLE = (
    "layout t\nlittle endian\nrows table u32 { a u32, b u16, c u8, d i8, e f32, f f64, g i64, h u16, "
    "i u16, j text 8, k i32, l u8 }"
)
ROW = struct.Struct("<IHBbfdqHH8siB")
NAMED = "layout t\nlittle endian\nrows table u32 { a u32, name text u8, b f32, c u16 }"

STREAM = "d.encode_to(file)"

# Run as processes of their own: (what we do, what others do). `edits` are row numbers.
OURS = {
    "json": "d.set((n, 'name'), 'edited')",
    "xml": "d.set(('item', n, '@price'), '7')",
    "ini": "d.set((f's{n}', 'Width'), '7')",
    "csv": "d.set((n, 'price'), '7')",
}
THEIRS = {
    "json": ("json.loads + json.dumps", """
import json
rows = json.loads(data)
for n in edits: rows[n]['name'] = 'edited'
out = json.dumps(rows).encode()"""),
    "xml": ("lxml parse + serialise", """
from lxml import etree
root = etree.fromstring(data)
items = list(root)
for n in edits: items[n].set('price', '7')
out = etree.tostring(root)"""),
    "ini": ("configparser", """
import configparser, io
parser = configparser.ConfigParser(interpolation=None)
parser.read_string(data.decode())
for n in edits: parser[f's{n}']['Width'] = '7'
text = io.StringIO()
parser.write(text)
out = text.getvalue().encode()"""),
    "csv": ("csv", """
import csv, io
rows = list(csv.reader(io.StringIO(data.decode(), newline='')))
for n in edits: rows[n + 1][2] = '7'
text = io.StringIO(newline='')
csv.writer(text).writerows(rows)
out = text.getvalue().encode()"""),
}  # fmt: skip
LOOP = """
import struct
row = struct.Struct('<IHBbfdqHH8siB')
count, = struct.unpack_from('<I', data)
rows, at = [], 4
for _ in range(count):
    values = list(row.unpack_from(data, at))
    values[9] = values[9].rstrip(b'\\0').decode()
    rows.append(values)
    at += row.size
parts = [struct.pack('<I', count)]
for values in rows:
    values[0] += 1
    parts.append(row.pack(*values[:9], values[9].encode(), *values[10:]))
out = b''.join(parts)"""
NAMED_LOOP = """
import struct
count, = struct.unpack_from('<I', data)
rows, at = [], 4
for _ in range(count):
    a, size = struct.unpack_from('<IB', data, at)
    name = data[at + 5:at + 5 + size].decode()
    b, c = struct.unpack_from('<fH', data, at + 5 + size)
    rows.append([a, name, b, c])
    at += 11 + size
parts = [struct.pack('<I', count)]
for a, name, b, c in rows:
    text = name.encode()
    parts.append(struct.pack('<IB', a + 1, len(text)) + text + struct.pack('<fH', b, c))
out = b''.join(parts)"""


def main() -> int:
    """Measure, print the table, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--mb", type=int, default=50, help="size of text files")
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--files", type=int, default=3_000, help="how many are identified")
    parser.add_argument("--only", default="", help="only works that contain WORD")
    parser.add_argument("--json", default="", help="write the figures to this file")
    options = parser.parse_args()
    found: list[Ratio] = []
    memory: dict[str, object] = {}
    with in_memory() as folder:
        for codec in OURS:
            if options.only in codec:
                found += _text(folder, codec, options.mb << 20, options.rounds)
        for name, rows in (("table", options.rows), ("ten times the table", options.rows * 10)):
            if options.only in name:
                found += _table(folder, name, rows, options.rounds, memory)
        if options.only in "named rows":
            found += _named(folder, options.rows, options.rounds)
        if options.only in "identify":
            found += _identify(folder, options.files, options.rounds)
    report("formats", found, {"rounds": options.rounds, "MB": options.mb, **memory}, options.json)
    return 0


def _text(folder: str, codec: str, size: int, rounds: int) -> list[Ratio]:
    path = os.path.join(folder, f"large.{codec}")
    count = _write_text(path, codec, size)
    edits = [count * n // EDITS for n in range(EDITS)]
    ours = (
        "import gc; gc.disable()\nfrom kindred_ledger.formats import decode\n"
        f"d = decode(data, {codec!r})\nfor n in edits: {OURS[codec]}\nout = d.encode()"
    )
    name, theirs = THEIRS[codec]
    command = script(path, f"import gc; gc.disable()\n{theirs}", edits)
    done = compare(
        f"{codec}, {size >> 20} MB", script(path, ours, edits), {name: command}, rounds=rounds
    )
    os.unlink(path)
    return done


def _write_text(path: str, codec: str, size: int) -> int:
    """Write rows until the file has its size; return how many there are."""
    forms = {
        "json": '  {{"id": {n}, "name": "thing {n}", "price": {p}, "tags": ["old", "wet"], "ok": true}}',
        "xml": '  <item id="{n}" name="thing {n}" price="{p}"><tag>old</tag><note/></item>\n',
        "ini": "[s{n}]\nWidth = {p}\nName = thing {n}\n; note\nvolume=3\n\n",
        "csv": '{n},"thing, {n}",{p},old,2026-11-01\n',
    }
    head = {
        "json": "[\n",
        "xml": "<?xml version='1.0'?>\n<server>\n",
        "csv": "id,name,price,tag,at\n",
    }
    between = ",\n" if codec == "json" else ""
    tail = {"json": "\n]\n", "xml": "</server>\n"}
    count = 0
    with open(path, "w", encoding="utf-8") as file:
        written = file.write(head.get(codec, ""))
        while written < size:
            rows = [forms[codec].format(n=count + n, p=(count + n) / 4) for n in range(1000)]
            written += file.write((between if count else "") + between.join(rows))
            count += 1000
        file.write(tail.get(codec, ""))
    return count


def _table(
    folder: str, name: str, rows: int, rounds: int, memory: dict[str, object]
) -> list[Ratio]:
    path = os.path.join(folder, "table.bin")
    with open(path, "wb") as file:
        file.write(struct.pack("<I", rows))
        block = b"".join(
            ROW.pack(n, 2, 3, -4, n / 2, n / 3, n, 8, 9, b"heron", -n, 1) for n in range(1000)
        )
        for _ in range(rows // 1000):
            file.write(block)
    ours = (
        "from kindred_ledger.formats import Layout, LayoutDocument\n"
        f"d = LayoutDocument(data, Layout.parse({TABLE!r}))\nt = d.table(('rows',)).copy()\n"
        "t['a'] += 1\nd.set_table(('rows',), t)"
    )
    others = {"reading and writing": script(path, "out = data")}
    if rows <= 1_000_000:
        others["a struct loop"] = script(path, LOOP)
    command = script(path, ours, writing=STREAM)
    done = compare(f"{name}, {rows:,} x 12", command, others, rounds=rounds)
    memory[f"memory/file {rows:,}"] = round(peak_memory(command) / os.path.getsize(path), 1)
    os.unlink(path)
    return done


def _named(folder: str, rows: int, rounds: int) -> list[Ratio]:
    path = os.path.join(folder, "named.bin")
    rng = random.Random(1)
    with open(path, "wb") as file:
        file.write(struct.pack("<I", rows))
        for n in range(rows):
            name = b"thing number %d" % rng.randrange(10 ** rng.randrange(1, 12))
            file.write(struct.pack("<IB", n, len(name)) + name + struct.pack("<fH", n / 2, 5))
    ours = (
        "from kindred_ledger.formats import Layout, LayoutDocument\n"
        f"d = LayoutDocument(data, Layout.parse({NAMED!r}))\nt = d.columns(('rows',))\n"
        "t['a'] = t['a'] + 1\nd.set_table(('rows',), t)"
    )
    others = {
        "a struct loop": script(path, NAMED_LOOP),
        "reading and writing": script(path, "out = data"),
    }
    command = script(path, ours, writing=STREAM)
    return compare(f"named rows, {rows:,}", command, others, rounds=rounds)


def _identify(folder: str, count: int, rounds: int) -> list[Ratio]:
    top = os.path.join(folder, "mixed")
    os.mkdir(top)
    rng = random.Random(2)
    for number in range(count):
        kind = number % 6
        data = [
            json.dumps({"id": number, "text": "x" * rng.randrange(6000)}).encode(),
            b"[Video]\nWidth = %d px\n" % number * rng.randrange(1, 200),
            b"<?xml version='1.0'?>\n<a><b/>" + b"<c/>" * rng.randrange(900) + b"</a>",
            rng.randbytes(rng.randrange(1, 9000)),
            b"\x89PNG\r\n\x1a\n" + rng.randbytes(3000),
            b"id,name\n" + b"1,reed\n" * rng.randrange(1, 900),
        ][kind]
        with open(os.path.join(top, f"{number}.dat"), "wb") as file:
            file.write(data)
    walk = f"import os\nout = b''\nfor e in os.scandir({top!r}):\n    head = open(e.path, 'rb').read(4096)\n"
    look = "    kind_of(head, whole=e.stat().st_size <= 4096)\n"
    ours = "from kindred_ledger.formats import kind_of\n" + walk + look
    empty = os.path.join(folder, "empty")
    with open(empty, "wb"):
        pass
    return compare(f"identify, {count:,} files", script(empty, ours),
                   {"reading their first 4 KB": script(empty, walk)}, rounds=rounds)  # fmt: skip


if __name__ == "__main__":
    sys.exit(main())

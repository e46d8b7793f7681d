"""What it costs that an edited document is read again before its bytes are handed out.

python -m benchmarks.reading_back [--rounds 5] [--mb 10]

In one process, one kind of file after another: a value is set and the file written, beside reading the
file alone; and, where bytes are also to be had unread, beside those.
"""

from __future__ import annotations

import argparse
import json
import statistics
import struct
from typing import Any

from benchmarks.measure import timed
from kindred_ledger.formats import Layout, LayoutDocument, decode

TABLE = "layout t\nlittle endian\nhead u8\nrows table u32 { a u32, b f64, c u16 }"


def made(mb: int) -> dict[str, tuple[bytes, Any, Any]]:
    """Return a file of each kind, the path of a value in it, and another value."""
    rows = [{"id": n, "name": f"hand {n}", "pay": n * 0.5} for n in range(mb * 19_000)]
    some = rows[: mb * 1_900]
    xml = "".join(f'<hand id="{r["id"]}"><name>{r["name"]}</name></hand>\n' for r in rows)
    yaml = "".join(f"- id: {r['id']}\n  name: {r['name']}\n" for r in some)
    toml = "".join(f"[[rows]]\nid = {r['id']}\nname = '{r['name']}'\n" for r in some)
    ini = "".join(f"[hand{r['id']}]\nname = {r['name']}\npay = {r['pay']}\n" for r in rows)
    csv = "".join(f"{r['id']},{r['name']},{r['pay']}\n" for r in rows)
    packed = b"".join(struct.pack("<IdH", n, n * 0.5, n % 999) for n in range(mb * 75_000))
    return {
        "json": (json.dumps({"rows": rows, "coins": 1}).encode(), ("coins",), 2),
        "xml": (f"<crew>\n{xml}</crew>".encode(), ("hand", 7, "@id"), "x"),
        "yaml (a tenth)": (yaml.encode(), (7, "name"), "x"),
        "toml (a tenth)": (toml.encode(), ("rows", 7, "name"), "x"),
        "ini": (ini.encode(), ("hand7", "pay"), "2"),
        "csv": (f"id,name,pay\n{csv}".encode(), (7, "pay"), "2"),
        "layout": (b"\1" + struct.pack("<I", len(packed) // 14) + packed, ("rows", 7, "c"), 5),
    }


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--mb", type=int, default=10)
    options = parser.parse_args()
    layout = Layout.parse(TABLE)
    print(f"{'':16}{'MB':>6}{'write : read':>16}{'write : unread':>16}")
    for name, (data, path, value) in made(options.mb).items():
        codec = name.partition(" ")[0]
        against_read, against_unread = [], []

        def read(codec: str = codec, data: bytes = data) -> Any:
            return LayoutDocument(data, layout) if codec == "layout" else decode(data, codec)

        def edited(read: Any = read, path: Any = path, value: Any = value) -> Any:
            document = read()
            document.set(path, value)
            return document

        for _ in range(options.rounds):
            reading = timed(read)[0]
            one, other = edited(), edited()
            whole = timed(one.encode)[0]
            against_read.append(whole / reading)
            if hasattr(other, "encode_unread"):
                against_unread.append(whole / timed(other.encode_unread)[0])
        unread = f"{statistics.median(against_unread):16.1f}" if against_unread else f"{'-':>16}"
        print(f"{name:16}{len(data) / 1e6:6.1f}{statistics.median(against_read):16.2f}{unread}")


if __name__ == "__main__":
    main()

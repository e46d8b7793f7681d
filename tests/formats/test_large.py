"""Large files: the contract on one of each kind, of 1/4 MB, or of KINDRED_LARGE_MB (50)."""

from __future__ import annotations

import io
import itertools
import os
import sqlite3
import struct
import time
import unittest
import zipfile
import zlib
from collections.abc import Callable, Iterator
from typing import Any

import cbor2
import msgpack
import numpy as np

from kindred_ledger.formats import CODECS, Document, Layout, Path, decode
from kindred_ledger.formats.layouts.strides import follow, walk

SIZE = int(float(os.environ.get("KINDRED_LARGE_MB", "0.25")) * (1 << 20))
LAYOUT = Layout.parse(
    "layout large\nlittle endian\nhands table u32 { id u32, name text u8, home u16 }\n"
    "pool table u32 { id u32, morale f32 }\ncheck crc32 of start to here"
)


def rows_of(form: str, between: str = "") -> str:
    """Return rows of text, numbered, until there is enough of them."""
    out: list[str] = []
    length = 0
    for number in itertools.count():
        if length >= SIZE:
            return between.join(out)
        out.append(form.format(n=number))
        length += len(out[-1]) + len(between)
    raise AssertionError


def records() -> Iterator[dict[str, Any]]:
    for number in range(SIZE // 40):
        yield {"id": number, "name": f"hand {number}", "tags": [True, None]}


def database() -> bytes:
    base = sqlite3.connect(":memory:")
    base.execute("CREATE TABLE hands (id INTEGER PRIMARY KEY, name TEXT, home INTEGER)")
    rows = ((n, f"hand {n} of the long pier", n % 9) for n in range(SIZE // 40))
    base.executemany("INSERT INTO hands VALUES (?, ?, ?)", rows)
    base.commit()
    return base.serialize()


def pack() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr("hands.json", b'{"hands": [{"id": 0, "name": "first"}], "end": 1}')
        archive.writestr("tiles/0.tile", os.urandom(SIZE))
        for number in range(200):
            archive.writestr(f"notes/{number}.txt", f"note {number}\n" * 40)
    return out.getvalue()


def binary() -> bytes:
    count = SIZE // 40
    hands = b"".join(
        struct.pack("<IB", n, len(name)) + name + struct.pack("<H", n % 9)
        for n in range(count)
        for name in (b"hand %d" % n,)
    )
    pool = np.zeros(count, np.dtype([("id", "<u4"), ("morale", "<f4")]))
    pool["id"] = np.arange(count)
    data = struct.pack("<I", count) + hands + struct.pack("<I", count) + pool.tobytes()
    return data + struct.pack("<I", zlib.crc32(data))


# Of each codec: how a file is made; a value to edit, one to remove, one to move and where to, one
# to add.
Case = tuple[Callable[[], bytes], Path, Path, tuple[Path, Path] | None, Path]
HAND = ("hands", 500)
CASES: dict[str, Case] = {
    "json": (
        lambda: b'{"hands": [' + rows_of('{{"id": {n}, "name": "hand {n}"}}', ",\n ").encode() + b"]}",
        (*HAND, "name"), ("hands", 700, "id"), ((*HAND, "id"), (*HAND, "number")), ("new",),
    ),
    "ini": (lambda: rows_of("[s{n}]\nWidth = {n}\n; note\n\nName = hand {n}\n").encode(),
            ("s500", "Width"), ("s700", "Name"), (("s500", "Name"), ("s500", "Title")),
            ("added", "here")),
    "toml": (lambda: rows_of('[[hands]]\nid = {n}  # why\nname = "hand {n}"\n\n').encode(),
             (*HAND, "name"), ("hands", 700, "id"), ((*HAND, "id"), (*HAND, "number")),
             ("hands", 700, "new")),
    "yaml": (lambda: b"hands:\n" + rows_of('  - id: {n}  # why\n    name: "hand {n}"\n').encode(),
             (*HAND, "name"), ("hands", 700, "id"), ((*HAND, "id"), (*HAND, "number")), ("new",)),
    "xml": (lambda: b"<a>" + rows_of('<hand id="{n}" name="hand {n}"><!-- n --></hand>\n').encode() + b"</a>",
            ("hand", 500, "@name"), ("hand", 700, "@id"),
            (("hand", 500, "@id"), ("hand", 500, "@number")), ("new",)),
    "csv": (lambda: b"id,name,home\n" + rows_of('{n},"hand, {n}",7\n').encode(),
            (500, "name"), (700,), None, (3, "Added")),
    "text": (lambda: rows_of("line {n}\r\n").encode(), (500,), (700,), None, (-1,)),
    "msgpack": (lambda: msgpack.packb({"hands": list(records()), "z": 1}),
                (*HAND, "name"), ("hands", 700, "id"), ((*HAND, "id"), (*HAND, "number")), ("new",)),
    "cbor": (lambda: cbor2.dumps({"hands": list(records()), "z": 1}),
             (*HAND, "name"), ("hands", 700, "id"), ((*HAND, "id"), (*HAND, "number")), ("new",)),
    "sqlite": (database, (*HAND, "name"), ("hands", 700), None, ("hands", SIZE // 40 - 1)),
    "zip": (pack, ("hands.json", "hands", 0, "name"), ("notes/7.txt",),
            (("notes/8.txt",), ("notes/eight.txt",)), ("hands.json", "new")),
    "layout": (binary, (*HAND, "name"), ("hands", 700), None, ("pool", SIZE // 40)),
}  # fmt: skip


class Large(unittest.TestCase):
    def test_read_edit_add_remove_move(self) -> None:
        """Of every codec: the same bytes unedited; with four edits, those four read back."""
        self.assertEqual({*CASES}, {*CODECS, "layout"})
        for codec, (make, edit, gone, moved, added) in CASES.items():
            with self.subTest(codec):
                data = make()
                start = time.perf_counter()
                document = read(data, codec)
                took = time.perf_counter() - start
                self.assertEqual(document.encode(), data)
                count = leaves(document)
                document.set(edit, "someone else")
                if moved is not None:
                    text = [leaf.text for leaf in document.leaves(moved[0])]
                    document.move(*moved)
                less = sum(1 for _ in document.leaves(gone))
                document.remove(gone)
                value: Any = "added"
                new = (count - less,) if added == (-1,) else added
                if codec in ("sqlite", "layout"):
                    value = {**document.get((*new[:-1], 0)), "id": 1 << 30}
                document.set(new, value)
                more = sum(1 for _ in document.leaves(new))
                start = time.perf_counter()
                out = document.encode()
                wrote = time.perf_counter() - start
                again = read(out, codec)
                self.assertEqual(leaves(again), count - less + more)
                self.assertEqual(again.get(edit), "someone else")
                if moved is not None:
                    self.assertEqual([leaf.text for leaf in again.leaves(moved[1])], text)
                    self.assertEqual(again.find(moved[0]), [])
                self.assertLess(abs(len(out) - len(data)), 1 << 16)
                if SIZE >> 20:
                    print(
                        f"{codec:<8} {len(data) >> 20} MB: read {took:.1f} s, written {wrote:.1f} s"
                    )

    def test_lengths_are_followed_from_anywhere(self) -> None:
        """Chains followed side by side are the one that is walked, whatever the lengths are."""
        rng = np.random.default_rng(5)
        for most, fixed, count in (
            (2, 1, 60_000),
            (256, 7, 30_000),
            (256, 1, 90_000),
            (9, 300, 20_000),
        ):
            for kind in (rng.integers(0, most, 4_000_000), np.full(4_000_000, most - 1)):
                lengths = kind.astype(np.uint8)
                told = [3]
                while len(told) <= count and told[-1] < len(lengths):
                    told.append(told[-1] + fixed + int(lengths[told[-1]]))
                size = len(lengths)
                padded = np.append(lengths, np.uint8(0))

                def step(
                    at: Any, padded: Any = padded, size: int = size, fixed: int = fixed
                ) -> Any:
                    return np.where(at < size, at + fixed + padded[np.minimum(at, size)], 1 << 40)

                found = follow(step, 3, count, size).tolist()
                self.assertEqual(found, [at for at in told if at <= size][: count + 1])
                walked = walk(lengths, 3, count, before=0, fixed=fixed).tolist()
                self.assertEqual(walked, told[: count + 1])


def read(data: bytes, codec: str) -> Document:
    return decode(data, codec, layout=LAYOUT if codec == "layout" else None)


def leaves(document: Document) -> int:
    return sum(1 for _ in document.leaves())

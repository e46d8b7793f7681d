"""Layouts: one description reads and writes; damage is named with its offset and its line."""

from __future__ import annotations

import gzip
import hashlib
import random
import struct
import unittest
import zlib
from decimal import Decimal
from typing import Any

import blake3
import numpy as np
from backports import zstd
from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.errors import FormatError, UsageError
from kindred_ledger.formats import field_differences, format_path
from kindred_ledger.formats.layouts import (
    Layout,
    LayoutDocument,
    LayoutError,
    Ragged,
    draft_layout,
    dump,
    invent,
)
from kindred_ledger.formats.layouts.checks import DIGESTS, digest
from tests.support import law, side_law

EVERYTHING = """
layout everything
big endian
text latin-1
versions 1 to 3 from format

magic    bytes 4 = "EVRY"
format   u16
small    i24 little
wide     u48
half     f16
double   f64 little
count    varint
open     bool
sky      enum u8 { clear = 0, haar = 1 }
marks    flags u16 { lit = 0, moored = 3 }
packed   bits u8 { a 1, b 3 }
name     text u8
label    text 8 pad 0x20
line     text until 0x0A
raw      bytes 3
pad 2
align 4
fixed    table 2 { x u8, y u8 }
counted  table count { v u16 since 2 default 7, t text u8 }
names    table u8 text zero
who      u8 in names
box      optional u8 { w u8 }
kind     u8
cargo    choice kind { 0 u8, 1 { a u16 }, else bytes 2 }
extra    u16 if open
gone     u8 until 1
parts    sections bytes 4 u16 3 { "CREW" crew table u8 u16, "HOLD" hold { n u8 } }
z        block u16 zlib { s text u8 }
g        block u16 gzip { s text u8 }
r        block u16 deflate table u8 u8
s        block u16 zstd { s text u8 }
plain    block u8 { q u8, rest bytes to end }
crc      crc32 of start to here
adler    adler32 of name to raw
sum      sum16 of fixed to names
sha      sha256 of start to here
digest   blake3 of format to sha
index    table u8 { id u8, at u32, size u16 }
blocks   each index at at size size align 8 { id u8, body bytes to end }
"""
CHECKS = {"crc", "adler", "sum", "sha", "digest"}
DERIVED = {"magic", "count", "open", "kind", "format", "index"}  # others hang on these


def everything(version: int) -> bytes:
    """Write by hand what the layout describes, padding and free space filled with odd bytes."""
    deflate = zlib.compressobj(9, wbits=-15)
    out = bytearray(
        b"EVRY" + struct.pack(">H", version) + b"\xfb\xff\xff" + (2**40).to_bytes(6, "big")
    )
    out += struct.pack(">e", 0.5) + struct.pack("<d", 0.1) + b"\x02\x01\x01\x80\x09\x83"
    name = len(out)
    out += b"\x03B\xf6gquay    a line\nraw"
    raw = len(out)
    out += b"\x01\x02"
    while len(out) % 4:
        out += b"\x07"
    fixed = len(out)
    out += b"\1\2\3\4"
    for number in range(2):
        out += (struct.pack(">H", number) if version >= 2 else b"") + b"\2hi"
    out += b"\2one\0two\0"
    names = len(out)
    out += b"\1\1\5\1\0\7\0\x09" + (b"\3" if version < 2 else b"")
    out += b"CREW\0\5\2\0\1\0\2WHAT\0\2??HOLD\0\1\6"
    for block in (
        zlib.compress(b"\2hi", 9), gzip.compress(b"\2hi", mtime=5),
        deflate.compress(b"\2\5\6") + deflate.flush(), zstd.compress(b"\2yo"),
    ):  # fmt: skip
        out += struct.pack(">H", len(block)) + block
    out += b"\3\1zz"
    out += struct.pack(">I", zlib.crc32(out))
    out += struct.pack(">IH", zlib.adler32(out[name:raw]), sum(out[fixed:names]))
    out += hashlib.sha256(out).digest()
    out += blake3.blake3(bytes(out[4:])).digest()
    first = len(out) + 22
    first += -first % 8
    out += b"\3" + struct.pack(">BIHBIHBIH", 1, first + 16, 5, 2, 0, 0, 3, first, 3)
    out += b"\xee" * (first - len(out)) + b"\3xy"
    out += b"\xdd" * (first + 16 - len(out)) + b"\1abcdfree space"
    return bytes(out)


def other(value: Any) -> Any:
    """Return another value of the same kind and size."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int):
        return value ^ 1
    if isinstance(value, Decimal):
        return value + 1
    if isinstance(value, str):
        return {"haar": "clear"}.get(
            value, value[::-1] if value[::-1] != value else value[:-1] + "~"
        )
    if isinstance(value, bytes):
        return bytes(byte ^ 1 for byte in value)
    return value


class Everything(unittest.TestCase):
    """One file with every kind of field there is."""

    layout = Layout.parse(EVERYTHING)

    def read(self, data: bytes) -> LayoutDocument:
        return LayoutDocument(data, self.layout)

    def test_what_was_read_is_written(self) -> None:
        """Every version; padding, free space, other people's compression and unknown parts stay."""
        for version in (1, 2, 3):
            document = self.read(everything(version))
            self.assertEqual(document.encode(), everything(version))
            self.assertEqual(document.version, version)
            self.assertEqual("gone" in document.get(()), version == 1)
        values = document.get(())
        self.assertEqual(values["marks"], {"lit": True, "moored": True, "other": 0x8000})
        self.assertEqual(values["small"], -5)
        self.assertEqual((values["half"], values["double"]), (Decimal("0.5"), Decimal("0.1")))
        self.assertEqual(
            (values["name"], values["label"], values["line"]), ("Bög", "quay", "a line")
        )
        self.assertEqual(values["names"], ["one", "two"])
        self.assertEqual(
            values["blocks"], [{"id": 1, "body": b"abcd"}, None, {"id": 3, "body": b"xy"}]
        )

    def test_every_leaf_can_be_edited_alone(self) -> None:
        """Nothing else changes but the checksums over it; what follows from others is kept right."""
        data = everything(3)
        before = list(self.read(data).leaves())
        edited = 0
        for leaf in before:
            if leaf.path[0] in CHECKS | DERIVED or leaf.value is None or leaf.path[-1] == "other":
                continue
            with self.subTest(leaf.name):
                document = self.read(data)
                document.set(leaf.path, other(leaf.value))
                again = self.read(document.encode())
                changed = [
                    new.name
                    for old, new in zip(before, again.leaves(), strict=True)
                    if old.text != new.text and new.path[0] not in CHECKS
                ]
                self.assertEqual(changed, [leaf.name])
                self.assertEqual(again.get(leaf.path), other(leaf.value))
                edited += 1
        self.assertGreater(edited, 30)

    def test_cut_anywhere_and_every_bit_flipped(self) -> None:
        """An error with its offset, or another value in a field; never anything else."""
        noticed = 0
        for version in (1, 3):
            data = everything(version)
            for at in range(len(data)):
                self.survive(data[:at])
                for bit in range(8):
                    flipped = bytearray(data)
                    flipped[at] ^= 1 << bit
                    noticed += not self.survive(bytes(flipped))
        self.assertGreater(noticed, 1000)  # there are checksums over most of it

    def survive(self, data: bytes) -> bool:
        try:
            document = self.read(data)
        except FormatError as error:
            self.assertRegex(str(error), r"byte \d+ \(")
            self.assertIn("By the layout", str(error))
            return False
        self.assertEqual(document.encode(), data)
        list(document.leaves())
        return True

    def test_rows_and_parts_come_and_go(self) -> None:
        """Counts, sizes, directories and checksums follow."""
        document = self.read(everything(3))
        document.set(("names", 2), "three")
        document.set(("counted", 2), {"t": "third"})
        document.remove(("parts", "hold"))
        document.remove(("z",))
        document.set(("z",), {"s": "anew"})
        document.set(("box",), {"w": 6})
        document.set(("parts", "hold"), {"n": 9})
        document.set(("blocks", 0, "body"), b"much longer than it was before")
        document.set(("blocks", 2, "body"), b"!")
        again = self.read(document.encode())
        self.assertEqual(again.get(("names",)), ["one", "two", "three"])
        self.assertEqual((again.get(("count",)), again.get(("counted", 2, "v"))), (3, 7))
        self.assertEqual(list(again.get(("parts",))), ["crew", "unknown b'WHAT'", "hold"])
        self.assertEqual(
            (again.get(("z",)), again.get(("parts", "hold"))), ({"s": "anew"}, {"n": 9})
        )
        self.assertEqual(again.get(("blocks", 0, "body")), b"much longer than it was before")
        self.assertEqual(again.get(("index", 0, "at")) % 8, 0)
        self.assertIn(b"free space", again.encode())

    def test_what_cannot_be_written(self) -> None:
        """Too large, no such name, no place in this version, a checksum: named with path and line."""
        for path, value, words in (
            (("small",), 1 << 23, "does not fit; the field holds -8,388,608 to 8,388,607"),
            (("sky",), "sleet", "it has clear, haar"),
            (("name",), "Ω", "cannot be written in iso8859-1"),
            (("name",), "x" * 256, "does not fit"),
            (("label",), "x" * 9, "takes 9 bytes, the field 8"),
            (("line",), "a\nb", "end mark"),
            (("magic",), b"EVRX", "must be 'EVRY'"),
            (("packed", "b"), 8, "does not fit the 3 bits"),
            (("marks", "other"), 1, "names of their own"),
            (("counted", 2), {"v": 1}, "there is no 't'"),
            (("open",), False, "'extra' has no place in version 3"),
            (("gone",), 1, "'gone' has no place"),
            (("crc",), 1, "made from what it is of"),
            (("raw",), b"four", "4 were given, the field holds 3"),
        ):
            with self.subTest(format_path(path)), self.assertRaises(FormatError) as caught:
                document = self.read(everything(3))
                document.set(path, value)
                document.encode()
            self.assertIn(words, str(caught.exception))


class Invented(unittest.TestCase):
    @side_law
    @given(st.integers(0, 1 << 30), st.integers(1, 3))
    def test_what_is_invented_reads_by_its_layout(self, seed: int, version: int) -> None:
        """Of every kind of field, in every version: read, of that version, and written as the same bytes."""
        layout = Layout.parse(EVERYTHING)
        data = invent(layout, version, random.Random(seed))
        document = LayoutDocument(data, layout)
        self.assertEqual((document.version, document.encode()), (version, data))
        self.assertEqual(invent(layout, version, random.Random(seed)), data)
        document.set(("small",), 5)
        again = LayoutDocument(document.encode(), layout)
        told = {d.name for d in field_differences(LayoutDocument(data, layout), again)}
        self.assertLessEqual(told - CHECKS, {"small"})


class References(unittest.TestCase):
    LAYOUT = (
        "layout t\nlittle endian\n"
        "crew table u16 { id u16, home u8 in places or 255, boss u16 in crew.id or 0 }\n"
        "box block u8 { first u8 in places }\nnick table u8 u8 in texts\nplaces table u8 { name text u8 }\n"
        "texts table u8 text zero"
    )

    def made(
        self, *, crew: int = 2, home: int = 1, boss: int = 7, first: int = 0, nick: int = 1
    ) -> bytes:
        rows = b"".join(struct.pack("<HBH", 7 + n, 255, 0) for n in range(crew))
        rows += struct.pack("<HBH", 3, home, boss)
        names = b"\x02\x04Tern\x04Reed\x02ab\0cd\0"
        return struct.pack("<H", crew + 1) + rows + bytes((1, first, 2, 0, nick)) + names

    def test_what_refers_to_no_row_is_refused(self) -> None:
        """Values, columns short and long, bare rows; by number and by column; tables that come after."""
        layout = Layout.parse(self.LAYOUT)
        for crew in (2, 3000):
            for wrong, words in (
                ({"home": 2}, rf"crew\[{crew}\]\.home.*2 is no row of places, which has 2"),
                ({"boss": 6}, rf"crew\[{crew}\]\.boss.*6 is no id of crew"),
                ({"first": 2}, r"first\).*2 is no row of places"),
                ({"nick": 9}, r"nick\[1\]\).*9 is no row of texts"),
            ):
                with self.assertRaisesRegex(FormatError, words):
                    LayoutDocument(self.made(crew=crew, **wrong), layout)
            document = LayoutDocument(self.made(crew=crew), layout)
            told = [line.value for line in dump(document, rows=0)]
            self.assertIn("0 (Tern)", told)
            self.assertIn("1 (cd)", told)
            document.remove(("places", 1))
            with self.assertRaisesRegex(FormatError, "1 is no row of places, which has 1"):
                document.encode()
        with self.assertRaisesRegex(LayoutError, "no table 'placse'"):
            Layout.parse("layout t\na u8 in placse")


class Rows(unittest.TestCase):
    def test_rows_of_one_size_are_an_array(self) -> None:
        """A view of the file; given back, it is written; single cells still have their paths."""
        layout = Layout.parse(
            "layout t\nlittle endian\nrows table u32 { id u32, name text 6, x f32, w u24 }"
        )
        rows = [(n, b"row%d" % n, n / 2, n) for n in range(1000)]
        data = struct.pack("<I", 1000) + b"".join(
            struct.pack("<I6sf", n, name, x) + w.to_bytes(3, "little") for n, name, x, w in rows
        )
        document = LayoutDocument(data, layout)
        table = document.table(("rows",))
        self.assertEqual(table["id"].tolist(), list(range(1000)))
        self.assertEqual(table["name"][7], b"row7")
        self.assertEqual(
            document.get(("rows", 999)),
            {"id": 999, "name": "row999", "x": Decimal("499.5"), "w": 999},
        )
        document.set(("rows", 5, "name"), "five")
        changed = document.encode()
        self.assertEqual(changed, data.replace(b"row5\0\0", b"five\0\0"))
        document = LayoutDocument(data, layout)
        document.set_table(("rows",), table[::2])
        self.assertEqual(LayoutDocument(document.encode(), layout).table(("rows",))["w"].tolist(),
                         table["w"][::2].tolist())  # fmt: skip

    @law
    @given(
        st.sampled_from(("u8", "u16", "u32 big", "u16 big")),
        st.lists(st.binary(max_size=9)),
        st.booleans(),
    )
    def test_rows_that_differ_in_size_are_columns(
        self, size: str, values: list[bytes], back: bool
    ) -> None:
        """Found by adding up, given back by columns; the same bytes as one row after another."""
        layout = Layout.parse(
            f"layout t\nlittle endian\nrows table u16 {{ a u16, t bytes {size}, b i32 }}"
        )
        order = "big" if "big" in size else "little"
        width = int(size[1:3]) // 8 if size[1:3].isdigit() else 1
        data = struct.pack("<H", len(values)) + b"".join(
            struct.pack("<H", n) + len(v).to_bytes(width, order) + v + struct.pack("<i", -n)
            for n, v in enumerate(values)
        )
        document = LayoutDocument(data, layout)
        columns = document.columns(("rows",))
        self.assertEqual([columns["t"][n] for n in range(len(values))], values)
        self.assertEqual(columns["b"].tolist(), [-n for n in range(len(values))])
        if back:
            turned = columns["t"]
            columns["t"] = Ragged(turned.data, turned.starts[::-1], turned.lengths[::-1])
        document.set_table(("rows",), columns)
        again = LayoutDocument(document.encode(), layout)
        self.assertEqual(
            [row["t"] for row in again.get(("rows",))], values[::-1] if back else values
        )
        self.assertTrue(back or document.encode() == data)

    def test_columns_and_rows_in_turn(self) -> None:
        """What was put into columns is there for who looks at rows, and is written."""
        layout = Layout.parse("layout t\nlittle endian\nrows table u16 { a u16, t text u8 }")
        data = struct.pack("<H", 2) + b"\1\0\1x\2\0\1y"
        document = LayoutDocument(data, layout)
        columns = document.open_columns(("rows",))
        assert columns is not None
        columns.write("a", columns.read("a") + 7)
        self.assertEqual(document.get(("rows", 1)), {"a": 9, "t": "y"})
        with self.assertRaisesRegex(RuntimeError, "row by row"):
            columns.write("a", 0)
        document.set(("rows", 0, "t"), "long")
        again = LayoutDocument(document.encode(), layout)
        self.assertEqual(again.get(("rows",)), [{"a": 8, "t": "long"}, {"a": 9, "t": "y"}])
        untouched = LayoutDocument(data, layout)
        columns = untouched.open_columns(("rows",))
        assert columns is not None
        columns.write("a", 5)
        self.assertEqual(len(list(untouched.leaves())), 4)
        self.assertNotEqual(untouched.encode(), data)

    def test_checksums_inside_parts(self) -> None:
        """In a section, a block and each part of a directory: damage is noticed, an edit carried on."""
        for text, head in (
            (
                'p sections bytes 4 u8 to end { "CREW" crew { a u16, c crc32 of start to here } }',
                b"CREW\6",
            ),
            ("p block u8 { crew { a u16, c crc32 of start to here } }", b"\6"),
            (
                "i table 1 { at u8, n u8 }\np each i at at size n { a u16, c crc32 of start to here }",
                b"\2\6",
            ),
            ("i table 1 { at u8 }\np each i at at { a u16, c crc32 of start to here }", b"\1"),
        ):
            layout = Layout.parse("layout t\nbig endian\n" + text)
            data = head + b"\0\7" + struct.pack(">I", zlib.crc32(b"\0\7"))
            with self.subTest(text):
                document = LayoutDocument(data, layout)
                self.assertEqual(document.encode(), data)
                path = next(leaf.path for leaf in document.leaves() if leaf.path[-1] == "a")
                document.set(path, 9)
                after = document.encode()
                self.assertEqual(after, head + b"\0\x09" + struct.pack(">I", zlib.crc32(b"\0\x09")))
                where = rf"byte {len(head) + 2} \\("
                with self.assertRaisesRegex(
                    FormatError, where.replace("\\\\", "\\") + "(.|\\n)*damaged"
                ):
                    LayoutDocument(data[:-1] + b"!", layout)

    def test_hostile_counts_and_blocks(self) -> None:
        """Billions of rows, rows of nothing, blocks that expand or lie over each other: at once."""
        bomb = zlib.compress(bytes(400 << 20))
        for text, data, words in (
            ("rows table u32 { a u8 }", b"\xff\xff\xff\xff\0", "at most 1 fit"),
            ("rows table u32 { a bytes 0 }", b"\xff\xff\xff\xff", "announced"),
            ("rows table u32 { t text u8 }", b"\0\0\0\x09\xff", "announced"),
            ("rows table 65000 { more table 65000 { a bytes 0 } }", b"", "announced"),
            ("rows table 9 { more table u8 { a table 65000 { b bytes 0 } } }", b"\1" * 99, "announced"),
            ("a text u32", b"\xff\xff\xff\xff\0", "needs 4,294,967,295 bytes, but 1 are left"),
            ("a varint", b"\xff" * 11, "more than 10 bytes"),
            ("z block to end zlib { a bytes to end }", bomb, "expands without bound"),
            ("i table 2 { at u8, n u8 }\nb each i at at size n { x bytes to end }",
             b"\x04\xff\x04\xff" + bytes(99), "outside"),
            ("i table 9 { at u8, n u8 }\nb each i at at size n { x bytes to end }",
             b"".join(bytes((18 + n // 2, 10 - n // 2 - n % 2)) for n in range(9)) + bytes(10),
             "over each other"),
            ("z block u8 zlib { a u8 }", b"\x03abc", "damaged"),
            ("a u8\nb bytes a", b"\xff1", "needs 255"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaisesRegex(FormatError, words):
                LayoutDocument(data, Layout.parse("layout t\nbig endian\n" + text))


class Drafts(unittest.TestCase):
    @side_law
    @given(st.booleans(), st.lists(st.integers(3, 9), min_size=2, max_size=4, unique=True))
    def test_a_draft_reads_its_samples_and_finds_what_is_there(
        self, big: bool, counts: list[int]
    ) -> None:
        """Magic, text, table with its columns, block and checksum, in either byte order."""
        order = ">" if big else "<"
        samples = []
        for count in counts:
            data = (
                b"ROUT"
                + struct.pack(f"{order}H", 2)
                + b"\x05Heron"
                + struct.pack(f"{order}H", count)
            )
            for row in range(count):
                quay = (b"Ashwater", b"Eelgate", b"Dunlin Steps")[row % 3]
                data += struct.pack(f"{order}I16sfH", row + 1, quay, row * 1.3 + 0.1, 100 * row + 7)
            block = zlib.compress(b"reeds" * count)
            data += struct.pack(f"{order}I", len(block)) + block
            samples.append(data + struct.pack(f"{order}I", zlib.crc32(data)))
        text = draft_layout(samples, "routes")
        self.assertIn("big endian" if big else "little endian", text)
        for found in (
            'bytes 4 = "ROUT"', "text u8", "{ c1 u32, c2 text 16, c3 f32, c4 u16 }",
            "block u32 zlib", "crc32 of start to here",
        ):  # fmt: skip
            self.assertIn(found, text)
        for sample in samples:
            self.assertEqual(LayoutDocument(sample, Layout.parse(text)).encode(), sample)

    @side_law
    @given(st.lists(st.binary(min_size=1, max_size=90), min_size=2, max_size=3, unique=True))
    def test_any_samples_have_a_draft(self, samples: list[bytes]) -> None:
        """Noise, too: what it does not tell is left to the rest."""
        layout = Layout.parse(draft_layout(samples))
        for sample in samples:
            self.assertEqual(LayoutDocument(sample, layout).encode(), sample)

    def test_a_sample_that_does_not_fit(self) -> None:
        """It is named, and the draft is of the others."""
        samples = [
            b"ROUT\x05Heron"
            + bytes([9, 0, 0, 0])
            + name
            + hashlib.md5(b"ROUT\x05Heron\x09\0\0\0" + name).digest()
            for name in (b"reed", b"eelgate", b"x")
        ]
        text = draft_layout([*samples, b"\xf3\x81 nothing"], names=("a", "b", "c", "torn.mfsv"))
        self.assertTrue(text.startswith("# torn.mfsv does not fit the others"), text)
        self.assertIn("md5 of start to here  ", text)
        cut = draft_layout([samples[0], samples[1][:-3], samples[2]])
        self.assertTrue(cut.startswith("# sample 2 does not fit the others"), cut)
        self.assertEqual(draft_layout(samples).partition("layout")[0], "")

    @side_law
    @given(st.sampled_from(sorted(set(DIGESTS) - {"sum8", "xor8"})), st.booleans(), st.integers())
    def test_every_checksum_is_found(self, method: str, big: bool, seed: int) -> None:
        """At the end, behind bytes that nothing else tells; and what follows the rest is found again."""
        rng = random.Random(seed)
        samples = [rng.randbytes(rng.randrange(30, 60)) for _ in range(3)]
        samples = [data + digest(method, data, big=big) for data in samples]
        text = draft_layout(samples)
        self.assertRegex(text, rf"check +{method} of start to here")
        self.assertIn("rest ", text)

    def test_a_directory_is_found(self) -> None:
        """Tags, offsets, sizes before and after compression, in either order of bytes; one sample is torn."""
        for big in (True, False):
            for packed in (True, False):
                samples = [self._with_directory(seed, big, packed) for seed in range(6)]
                samples[3] = samples[3][:-7]
                text = draft_layout(samples, names=("a", "b", "c", "torn", "e", "f"))
                self.assertTrue(text.startswith("# torn does not fit the others"), text)
                raw = "raw u32, c2 u16" if packed else "c2 u32, c3 u16"
                self.assertIn(f"table u16 {{ tag bytes 4, at u32, size u32, {raw} }}  # sure", text)
                unpacked = " unpacked raw block to end zlib" if packed else ""
                self.assertIn(f"each field3 at at size size{unpacked} bytes to end  # sure", text)
                self.assertIn("big endian" if big else "little endian", text)
                self.assertRegex(text, r"check +crc32 of start to here +# sure")

    def _with_directory(self, seed: int, big: bool, packed: bool) -> bytes:
        rng, order = random.Random(seed), ">" if big else "<"
        count = rng.randrange(2, 5)
        index = parts = b""
        for _ in range(count):
            body = rng.randbytes(rng.randrange(9, 40))
            stored = zlib.compress(body) if packed else body
            places = 10 + 18 * count + len(parts), len(stored), len(body), rng.randrange(9)
            index += rng.choice((b"HEAD", b"CREW")) + struct.pack(f"{order}IIIH", *places)
            parts += stored
        out = b"BOGS" + struct.pack(f"{order}IH", 3, count) + index + parts
        return out + struct.pack(f"{order}I", zlib.crc32(out))

    def test_samples_that_do_not_differ_are_refused(self) -> None:
        """And it is said how to get some that do."""
        with self.assertRaisesRegex(UsageError, "two samples that differ(.|\n)*Save twice"):
            draft_layout([b"MFSV", b"MFSV"])


class Language(unittest.TestCase):
    def test_errors_show_the_line_and_a_caret(self) -> None:
        """What was expected, and what may have been meant."""
        for text, words in (
            ("a u17", "there is no type 'u17'; did you mean 'u"),
            ("a table u16 {\n b u8", "a closing brace is missing"),
            ("a u8\na u16", "stands twice in the same version"),
            ("a u8 since 9", "versions 1 to 3"),
            ("a u8 =", "expected a value"),
            ("a text u8 encoding marsh-9", "there is no encoding"),
            ("a enum u8 { x }", "expected '='"),
            ("a bits u8 { x 9 }", "beyond the 8 bits"),
            ("a crc32 over start", "expected 'of'"),
            ("a u8 b u8", "expected the end of the line"),
            ("§", "has no meaning here"),
            ("a { " * 40, "nested deeper"),
        ):
            with self.subTest(text), self.assertRaises(LayoutError) as caught:
                Layout.parse(f"layout t\nversions 1 to 3\n{text}\n", "t.layout")
            self.assertIn(words, str(caught.exception))
            self.assertRegex(str(caught.exception), r"t\.layout, line \d+(.|\n)*\|\s*\^")
        with self.assertRaisesRegex(LayoutError, "no field format"):
            Layout.parse("layout t\nversions 1 to 3 from format\na u8")

    @side_law
    @given(st.text('layoute ab{}=,\n0123u8"#-.', max_size=60))
    def test_any_text_is_a_layout_or_an_error(self, text: str) -> None:
        """Never a crash."""
        try:
            Layout.parse("layout t\n" + text)
        except LayoutError as error:
            self.assertTrue(error.where)

    def test_a_version_the_layout_does_not_know(self) -> None:
        """Named, with those it knows."""
        data = everything(3)
        with self.assertRaisesRegex(FormatError, "format version 4; the layout knows 1 to 3"):
            LayoutDocument(data[:5] + b"\4" + data[6:], Layout.parse(EVERYTHING))
        self.assertEqual(np.dtype("V3").itemsize, 3)


class Reported(unittest.TestCase):
    """What was found by people who tried it: a layout, bytes, an edit, what is read again."""

    def made(self, text: str, data: bytes) -> LayoutDocument:
        return LayoutDocument(data, Layout.parse(f"layout x\nlittle endian\n{text}"))

    def test_what_is_made_of_other_bytes_follows_wherever_it_stands(self) -> None:
        """A checksum or a size in a group that nobody edited; also when it is written twice."""
        body = b"\x01\0\0\0\0\x05"
        check = struct.pack("<I", zlib.crc32(body))
        summed = "head {\n m u8\n c crc32 of start to end\n}\nv u8"
        document = self.made(summed, body[:1] + check + body[5:])
        document.set("v", 9)
        self.assertEqual(self.made(summed, document.encode()).get("v"), 9)
        sized = "sizes {\n n u8\n}\nbody bytes sizes.n"
        document = self.made(sized, b"\x03abc")
        document.set("body", b"abcde")
        for _ in range(2):
            self.assertEqual(document.encode(), b"\x05abcde")

    def test_wide_texts(self) -> None:
        """End marks and padding are units of the encoding; what is cut in a unit is refused."""
        for kind, encoding, data, new in (
            ("zero", "utf-16-le", "Aß".encode("utf-16-le") + b"\0\0", "Āx"),
            ("16", "utf-32-le", "Aß".encode("utf-32-le").ljust(16, b"\0"), "xyz"),
            ("8", "utf-16-le", "Ā".encode("utf-16-le").ljust(8, b"\0"), "xyz"),
            ("7", "utf-16-be", b"\0A".ljust(7, b"\0"), "Āy"),
        ):
            text = f"a text {kind} encoding {encoding}\nb u8"
            document = self.made(text, data + b"\x07")
            self.assertEqual((document.get("a")[0], document.get("b")), (document.get("a")[0], 7))
            document.set("a", new)
            again = self.made(text, document.encode())
            self.assertEqual(again.get(()), {"a": new, "b": 7})
        for text, data in (
            ("a text u8 encoding utf-16-le", b"\3A\0B"),
            ("a text zero encoding utf-16-le", b"A\0\0"),
        ):
            with self.assertRaisesRegex(FormatError, r"byte \d+ \(a\)"):
                self.made(text, data)

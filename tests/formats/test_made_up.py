"""Layouts against made-up formats: whatever an independent writer writes is read, kept and edited right."""

from __future__ import annotations

import os
import random
import re
import struct
import textwrap
import unittest
from decimal import Decimal
from typing import Any

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.cards import Format
from kindred_ledger.cards.models import FormatTable
from kindred_ledger.convert import convert_bytes
from kindred_ledger.errors import FormatError
from kindred_ledger.formats import Layout, LayoutDocument, Path
from kindred_ledger.formats.layouts import LayoutError, check_layout, dump, invent
from kindred_ledger.formats.layouts.checks import DIGESTS, digest
from kindred_ledger.merge import How, Three, merge_files
from kindred_ledger.versions import INTEGER
from tests.formats.made_up import (
    atlas,
    drydock,
    ledgerwood,
    logbook,
    quilt,
    signalbox,
    tidebook,
    warehouse,
)
from tests.support import ROOT, side_law

FORMATS: dict[str, Any] = {
    "atlas": atlas,
    "drydock": drydock,
    "ledgerwood": ledgerwood,
    "logbook": logbook,
    "quilt": quilt,
    "signalbox": signalbox,
    "tidebook": tidebook,
    "warehouse": warehouse,
}
LAYOUTS = {name: Layout.parse(each.LAYOUT, name) for name, each in FORMATS.items()}
FIXED = {"magic", "version", "format", "tag", "kind", "w", "h"}  # what others hang on
NAMES = {"goods": ("peat", "reed"), "state": ("open", "closed", "lost")}  # of enumerations
SEEDS = st.integers(0, 2**32)


def plain(value: Any) -> Any:
    """Return a value with floats as the decimals that layouts show."""
    if isinstance(value, dict):
        return {key: plain(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [plain(inner) for inner in value]
    return Decimal(repr(value)) if isinstance(value, float) else value


def other(value: Any, rng: random.Random) -> Any:
    """Return another value of the same kind that every field of the formats can hold."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, bytes):
        return rng.randbytes(len(value))
    if isinstance(value, Decimal):
        return value // 2
    if isinstance(value, int):
        return value // 2 if value else 1
    if value.startswith("#"):
        return f"#{rng.randbytes(len(value) // 2).hex()}"
    if len(value) == 36 and value.count("-") == 4:
        return value[::-1] if value[::-1].count("-") == 4 and value[27] == "-" else value
    if value[4:5] == "-":
        return "2026-11-30T18:05:00Z" if "T" in value else "2026-11-30"
    return rng.choice(("", "Mossferry", "reed " * 20))


def put(value: Any, path: Path, new: Any) -> None:
    """Set what is at a path of a plain value."""
    for part in path[:-1]:
        value = value[part]
    value[path[-1]] = new


def without(value: Any, names: set[str]) -> Any:
    """Return a plain value without what follows from other fields."""
    if isinstance(value, dict):
        return {key: without(inner, names) for key, inner in value.items() if key not in names}
    return [without(inner, names) for inner in value] if isinstance(value, list) else value


class Held(Format, frozen=True, dict=True):
    """A format whose layout stands in a test."""

    @property
    def layout(self) -> Layout | None:  # type: ignore[override]
        return LAYOUTS[self.name]


def common(one: Any, other: Any) -> Any:
    """Return what of one plain value the other has, too."""
    if isinstance(one, dict) and isinstance(other, dict):
        return {key: common(inner, other[key]) for key, inner in one.items() if key in other}
    if isinstance(one, list) and isinstance(other, list) and len(one) == len(other):
        return [common(*pair) for pair in zip(one, other, strict=True)]
    return one


TOLD: tuple[Path, ...] = (("offset",), ("head", "offset"), ("index", 0, "offset"))
FOLLOWS = {
    "atlas": {"size", "at", "raw", "pay", "check", "rows", "twice"},
    "ledgerwood": {"raw", "stored", "digest"},
    "drydock": {"fleet", "at", "size", "seal"},
    "logbook": {"check", "reach"},
    "quilt": {"count", "sum"},
    "signalbox": {"sections", "index", "at", "size", "count", "total", "check"},
    "tidebook": {"crc", "names", "first", "second", "size"},
    "warehouse": {"rows", "index", "note", "long", "deep", "at", "size", "check"},
}  # fmt: skip


class MadeUp(unittest.TestCase):
    @side_law
    @given(st.sampled_from(sorted(FORMATS)), SEEDS, st.integers(1, 3))
    def test_as_the_reader_reads_it(self, name: str, seed: int, version: int) -> None:
        """Every value, and the same bytes back; also when all is written anew."""
        data = FORMATS[name].made(random.Random(seed), version)
        document = LayoutDocument(data, LAYOUTS[name])
        self.assertEqual(document.get(()), plain(FORMATS[name].read(data)))
        self.assertEqual(document.encode(), data)
        report = check_layout(LAYOUTS[name], [(name, data)])
        self.assertEqual([f for f in report.findings if f.code.endswith(("bytes", "readable"))], [])

    @side_law
    @given(st.sampled_from(sorted(FORMATS)), SEEDS, st.integers(1, 3))
    def test_every_leaf(self, name: str, seed: int, version: int) -> None:
        """Edited one by one: the reader sees that one other, and what follows from it, and no more."""
        rng = random.Random(seed)
        data = FORMATS[name].made(rng, version)
        layout = LAYOUTS[name]
        leaves = [
            leaf
            for leaf in LayoutDocument(data, layout).leaves()
            if leaf.value not in ({}, [], None)
        ]
        for leaf in leaves if len(leaves) < 30 else rng.sample(leaves, 30):
            names = {part for part in leaf.path if isinstance(part, str)}
            if names & (FIXED | FOLLOWS[name]) - {"size"} or leaf.path[-1] == "size":
                continue
            new = rng.choice(NAMES.get(leaf.path[-1], (other(leaf.value, rng),)))
            document = LayoutDocument(data, layout)
            document.set(leaf.path, new)
            try:
                after = FORMATS[name].read(document.encode())
            except FormatError as error:
                self.assertRegex(error.what, "takes .* bytes, the field|is no row of")
                continue
            wanted = FORMATS[name].read(data)
            put(wanted, leaf.path, new)
            self.assertEqual(
                without(plain(after), FOLLOWS[name]),
                without(plain(wanted), FOLLOWS[name]),
                leaf.path,
            )

    @side_law
    @given(st.sampled_from(sorted(FORMATS)), SEEDS, st.integers(1, 3))
    def test_invented_files(self, name: str, seed: int, version: int) -> None:
        """What is made from a layout alone is read by the independent reader as well."""
        data = invent(LAYOUTS[name], version, random.Random(seed))
        document = LayoutDocument(data, LAYOUTS[name])
        self.assertEqual(document.get(()), plain(FORMATS[name].read(data)))

    @side_law
    @given(st.sampled_from(sorted(FORMATS)), SEEDS, st.integers(1, 3), st.integers(0, 10**6))
    def test_damage(self, name: str, seed: int, version: int, at: int) -> None:
        """One byte is another: it is refused with the byte, or it is a byte that says nothing."""
        data = bytearray(FORMATS[name].made(random.Random(seed), version))
        data[at % len(data)] ^= 1 << at % 8
        try:
            document = LayoutDocument(bytes(data), LAYOUTS[name])
        except FormatError as error:
            self.assertIn("byte", error.where or "")
            return
        self.assertEqual(document.get(()), plain(FORMATS[name].read(bytes(data))))

    @side_law
    @given(st.sampled_from(sorted(FORMATS)), SEEDS, st.integers(1, 3), st.integers(1, 3))
    def test_across_versions(self, name: str, seed: int, source: int, target: int) -> None:
        """Converted by the layout alone: the reader sees what both versions have, as it was."""
        data = FORMATS[name].made(random.Random(seed), source)
        key = ".".join(LAYOUTS[name].version_path or ())
        table = {
            "files": ["*"], "codec": "layout", "version": {"key": key},
            "builds": [{"builds": "*", "writes": "3", "reads": ["1", "2", "3"]}],
        }  # fmt: skip
        format = Held(name, msgspec.convert(table, FormatTable), INTEGER)
        made = convert_bytes(data, format, str(target), name=f"a.{name}")
        before = without(plain(FORMATS[name].read(data)), FOLLOWS[name] | {"version", "format"})
        after = without(plain(FORMATS[name].read(made.data)), FOLLOWS[name] | {"version", "format"})
        self.assertEqual(common(before, after), common(after, before))
        if source == target:
            self.assertEqual(made.data, data)


class Cases(unittest.TestCase):
    """Fields that come and go in parts that may be something else, or not there."""

    def converted(self, fields: str, data: bytes, target: str) -> bytes:
        layout = Layout.parse(f"layout t\nlittle endian\nversions 1 to 2 from v\nv u8\n{fields}")
        LAYOUTS["t"] = layout
        self.addCleanup(LAYOUTS.pop, "t", None)
        table = {
            "files": ["*"], "codec": "layout", "version": {"key": "v"},
            "builds": [{"builds": "*", "writes": "2", "reads": ["1", "2"]}],
        }  # fmt: skip
        format = Held("t", msgspec.convert(table, FormatTable), INTEGER)
        return convert_bytes(data, format, target, name="a.t").data

    def test_of_a_choice(self) -> None:
        """Each case has its own: one's new field does not come into the other, nor does one's go with it."""
        fields = (
            "rows table u8 { k u8, body choice k {\n1 { a u8, b u8 since 2 default 9 }\n"
            "2 { a u8 until 1 default 5, b u8 }\n} }"
        )
        old, new = b"\1\2\1\7\2\3\4", b"\2\2\1\7\x09\2\4"
        self.assertEqual(self.converted(fields, old, "2"), new)
        self.assertEqual(self.converted(fields, new, "1"), b"\1\2\1\7\2\5\4")

    def test_of_sections_and_parts(self) -> None:
        """None is made where there is none; several of one tag have it all."""
        fields = 'pages sections bytes 1 u8 to end {\n"W" wind { a u8, b u8 since 2 default 9 }\n}'
        self.assertEqual(self.converted(fields, b"\1N\1x", "2"), b"\2N\1x")
        self.assertEqual(self.converted(fields, b"\1W\1xW\1y", "2"), b"\2W\2x\x09W\2y\x09")
        fields = "at u8\npart at at or 0 { a u8, b u8 since 2 default 9 }"
        self.assertEqual(self.converted(fields, b"\1\0", "2"), b"\2\0")
        grown = self.converted(fields, b"\1\2x", "2")  # it goes behind where it was
        self.assertEqual(grown, b"\2\3xx\x09")


class Shared(unittest.TestCase):
    def test_parts_that_lie_in_others_are_told(self) -> None:
        """The dump says which have the very bytes of another, and which overlap one."""
        text = "layout t\nd table u8 { at u8, size u8 }\np each d at at size size bytes to end"
        rows = ((11, 2), (11, 2), (12, 3), (0, 0), (15, 1))
        data = bytes((5, *(n for row in rows for n in row))) + b"abcde"
        lines = dump(LayoutDocument(data, Layout.parse(text)))
        told = [line.remark for line in lines if line.name == "p"]
        self.assertEqual(told, ["[1] has the bytes of [0], [2] overlaps [0]"])


class Refused(unittest.TestCase):
    def test_paths_to_nothing(self) -> None:
        """When the layout is loaded, with its line; before any file is read."""
        for text, words in (
            ("a u8\nb bytes c", "there is no field 'c' before it"),
            ("a bytes b\nb u8", "there is no field 'b' before it"),
            ("head { size u8 }\nb bytes head.sise", "'head.sise'"),
            ("a u8 if open", "'open'"),
            ("a choice tag { 1 u8 }", "'tag'"),
            ("a crc32 of start to tail", "there is no field 'tail' in the file"),
            ("a u8 = size of b", "there is no field 'b' in the file"),
            ("a u8 = (b + 1)", "there is no field 'b'"),
            ("a bytes (b)", "there is no field 'b'"),
            ("t u8\nb each d at x u8", "there is no table 'd'"),
            ("d table u8 { at u8 }\nb each d at where u8", "d has no column 'where'; it has at"),
            ("d table u8 { at u8 }\nb each d at at size sice u8", "no column 'sice'"),
            ("d table u8 { at u8 }\nb each d at at from hed u8", "'hed'"),
        ):
            with self.subTest(text), self.assertRaisesRegex(LayoutError, re.escape(words)):
                Layout.parse(f"layout t\n{text}")

    def test_what_a_layout_cannot_say(self) -> None:
        """Each with what is expected."""
        for text, words in (
            ("a fixed u16 over 3", "power of two or ten"),
            ("a time u32 weeks", "days, seconds"),
            ('a time u32 seconds from "May"', "written like"),
            ("a colour rgbx", "channels"),
            ("a packed 3 of 99 bits", "1 to 63"),
            ("a varint = size of b\nb u8", "fixed width"),
            ('a block u8 xor "" u8', "one byte or more"),
            ("a block u8 xor 300 u8", "0 to 255"),
            ("a u8 = (1 +", "not closed"),
            ("a u8 = (1 + )", "cannot be read"),
            ("a runs u8 of u8 u8 default 0", "one number for all"),
            ("type a { b u8 since 1, c table u8 a }\nd a", "every field is in all versions"),
            ("a table f16 u8", "is a whole number, not f16"),
        ):
            with self.subTest(text), self.assertRaisesRegex(LayoutError, re.escape(words)):
                Layout.parse(f"layout t\n{text}")

    def test_hostile_files(self) -> None:
        """Trees without end, runs and bits without number, expressions that are no size: with their byte."""
        for text, data, words in (
            ("type a { n table u8 a }\nroot a", b"\1" * 999, "lies in itself more than 60 times"),
            ("type a { n u8, m u8, x at n from here or 255 a, y at m from here or 255 a }\nroot a",
             bytes(56) + b"\xff\xff", "more parts than a file of its size"),
            ("a u8\nb at a from here { c u8 }", b"\x09abc", "it lies at 10 to 10, outside 1 to 4"),
            ("a u8\nn u8\nb at a size n { c u8 }", b"\2\2ab", "1 bytes of it are not described"),
            ("a runs u16 of u32 u8", b"\1\0\xff\xff\xff\xff\0", "without bound"),
            ("a packed u32 of 1 bits", b"\xff\xff\xff\xff", "bits are announced"),
            ("a u8\nb bytes (0 - a)", b"\1", "is no size"),
            ("a u8\nb bytes (1 // a)", b"\0", "is no size"),
            ("a i8\nb bytes (9 ** 9 ** 9)", b"\0", ""),
            ("a u8 = size of b\nb bytes to end", b"\7ab", "is 7, and size of b is 2"),
            ("d table u8 { at u8 }\nb each d at at from end { x u8 }", b"\1\x09ab", "outside"),
            ("d table u8 { at u8, n u8 }\nb each d at at size n from here { x u8 }", b"\1\1\xffab",
             "outside"),
            ("d table u8 { at u8 }\nb each d at at { x u8 }\nc u32", b"\0ab", "4 bytes must follow"),
            ("a block to end lz4 { b u8 }", b"abcdefghi", "damaged"),
            ("a block to end lz4-block { b u8 }", b"\xff\xff\xff", "damaged"),
        ):  # fmt: skip
            with (
                self.subTest(text),
                self.assertRaisesRegex((FormatError, LayoutError), re.escape(words)),
            ):
                LayoutDocument(data, Layout.parse(f"layout t\nlittle endian\n{text}"))


class Written(unittest.TestCase):
    def test_values_that_have_no_place(self) -> None:
        """Refused with what would have one; nothing is rounded in silence."""
        for text, data, value, words in (
            ("a fixed i16 over 100", b"\0\0", Decimal("1.005"), "next to it are 1 and 1.01"),
            ("a time u32 seconds", b"\0\0\0\0", "2026-11-30T18:05:00.5Z", "more exact"),
            ("a time u32 seconds", b"\0\0\0\0", "yesterday", "is no moment"),
            ("a time u32 seconds", b"\0\0\0\0", "1969-12-31", "does not fit"),
            ("a time u16 days", b"\0\0", "2026-11-30T18:05:00Z", "more exact"),
            ("a colour rgb", b"\0\0\0", "#12345", "is no colour"),
            ("a uuid", bytes(16), "12", "is no id"),
            ("w u8\na bytes (w)", b"\1a", b"ab", "there are 2, and (w) is 1"),
        ):
            document = LayoutDocument(data, Layout.parse(f"layout t\nlittle endian\n{text}"))
            with self.subTest(text), self.assertRaisesRegex(FormatError, re.escape(words)):
                document.set(("a",), value)
                document.encode()

    def test_lists(self) -> None:
        """Bits and runs are edited like lists; runs are as long as they can be."""
        for text, data, list_after, wanted in (
            ("a runs u8 of u8 u8", b"\2\1\5\1\5", [5] * 300, b"\2\xff\5\x2d\5"),
            ("a runs to end of u8 u8", b"\1\5", [], b""),
            ("n u8\na runs n of u8 u8", b"\1\1\5", [1, 1, 2], b"\2\2\1\1\2"),
            ("a packed u8 of 3 bits", b"\3\x07\0", [7, 1], b"\2\x0f"),
            ("n u8\na packed n of 4 bits high", b"\1\xf0", [1, 2, 3], b"\3\x12\x30"),
        ):
            layout = Layout.parse(f"layout t\n{text}")
            document = LayoutDocument(data, layout)
            document.set(("a",), list_after)
            self.assertEqual(document.encode(), wanted, text)
            self.assertEqual(LayoutDocument(wanted, layout).get(("a",)), list_after)
            document.set(("a",), [999])
            self.assertRaisesRegex(FormatError, r"\[0\]: 999 does not fit", document.encode)

    def test_only_what_tells_of_a_part_is_computed(self) -> None:
        """A field of the same name elsewhere is a value like others: an edit of it is not lost in a merge."""
        wide = b"\1\3\0\2\4\0"
        row = "type row { id u8, offset u8 }\nindex table 1 row\n"
        for text, data in (
            ("offset u16\ncrew table 2 { id u8, offset u16 }\npart at offset u8", b"\x08\0" + wide),
            ("type row { id u8, offset u16 }\nhead { offset u16 }\ncrew table 2 row\npart at head.offset u8",
             b"\x08\0" + wide),
            (f"{row}crew table 2 {{ id u8, offset u16 }}\npart each index at offset u8", b"\1\x08" + wide),
            (f"{row}crew table 3 row\npart each index at offset u8", b"\1\x08\1\3\2\4\3\5"),
        ):  # fmt: skip
            layout = Layout.parse(f"layout t\nlittle endian\n{text}")
            document = LayoutDocument(data + b"\5", layout)
            self.assertFalse(document.is_computed(("crew", 0, "offset")), text)
            document.set("crew[1].offset", 7)
            told = next(path for path in TOLD if document.find(path))
            with self.assertRaisesRegex(FormatError, "tells where a part lies"):
                document.set(told, 7)
            mine = document.encode()
            how = How("a", codec="layout", decode=lambda data: LayoutDocument(data, layout))  # noqa: B023
            merged = merge_files(Three(data + b"\5", mine, data + b"\5"), how)
            self.assertEqual((merged.data, merged.counts.applied), (mine, 1), text)

    def test_a_type_in_two_places(self) -> None:
        """What follows it is another thing in each; types in types without end are refused at once."""
        layout = Layout.parse(
            "layout t\nlittle endian\ntype box { n u8, rest bytes to end }\na block u8 box\nb box\nc u32"
        )
        read = LayoutDocument(b"\3\1ab" + b"\2xyz" + bytes(4), layout).get(())
        self.assertEqual((read["a"]["rest"], read["b"]["rest"], read["c"]), (b"ab", b"xyz", 0))
        grown = "".join(f"type t{n} {{ x t{n - 1}, y t{n - 1} }}\n" for n in range(1, 40))
        with self.assertRaisesRegex(LayoutError, "too many fields"):
            Layout.parse(f"layout t\ntype t0 {{ x u8, y u8 }}\n{grown}a t39")

    def test_a_check_says_one_thing_once(self) -> None:
        """A field that no sample reaches, whatever the version; and the versions there are no samples of."""
        layout = Layout.parse(
            "layout t\nversions 1 to 6 from v\nv u8\nmore table u8 { a u8, b u16 since 2 }\nlast u8 until 3"
        )
        samples = [(f"{v}", bytes((v, 0)) + (b"\0" if v <= 3 else b"")) for v in (1, 2, 3, 5)]
        found = [(each.field, each.what) for each in check_layout(layout, samples).findings]
        self.assertEqual(found, [
            ("", "no sample is of versions 4, 6"),
            ("more.a", "no sample of versions 1 to 3, 5 reaches it (line 4)"),
            ("more.b", "no sample of versions 2 and 3, 5 reaches it (line 4)"),
        ])  # fmt: skip

    def test_texts_in_a_pool(self) -> None:
        """Before the table or behind it: what is there is used, other texts are put behind."""
        crew = struct.pack("<BHBHBH", 1, 0, 2, 9, 3, 0xFFFF)
        pool = "Ada\0Höf\0Reed Bank\0".encode()
        for text, data in (
            ("crew table 3 { id u8, name pooled u16 of names or 65535 }\nnames bytes u8",
             (crew, b"\x13", pool)),
            ("names bytes u8\ncrew table 3 { id u8, name pooled u16 of names or 65535 }",
             (b"\x13", pool, crew)),
            ("crew table 3 { id u8, name pooled u16 of box.names or 65535 }\nbox block u8 { names bytes u8 }",
             (crew, b"\x14\x13", pool)),
        ):  # fmt: skip
            layout = Layout.parse(f"layout t\nlittle endian\n{text}")
            document = LayoutDocument(b"".join(data), layout)
            names = [row["name"] for row in document.get(("crew",))]
            self.assertEqual(names, ["Ada", "Reed Bank", None], text)
            self.assertEqual(document.encode(), b"".join(data))
            for number, name in enumerate(("Höf", "Eelgate", "Bank")):
                document.set(("crew", number, "name"), name)
            after = document.encode()
            self.assertEqual(after.count(b"Eelgate\0"), 1)
            self.assertEqual(len(after), len(b"".join(data)) + 8)
            again = LayoutDocument(after, layout)
            self.assertEqual(
                [row["name"] for row in again.get(("crew",))], ["Höf", "Eelgate", "Bank"]
            )
            for number, name in ((99, "Ada"), (20, "x\0y")):
                with self.subTest(name), self.assertRaises(FormatError):
                    again.set(("crew", 0, "name"), name if number == 20 else 7)
                    again.encode()
            with self.assertRaisesRegex(FormatError, "there is no text at 900 of"):
                bad = b"".join(data).replace(b"\x09\0", b"\x84\3")
                LayoutDocument(bad, layout).get(("crew", 1, "name"))

    def test_parts_that_are_shared(self) -> None:
        """An edit of one row's part is that row's alone; of all, they go on sharing."""
        layout = Layout.parse(
            "layout t\nd table 3 { at u8, n u8 }\np each d at at size n { x u8, y u8 }\nend u8"
        )
        data = b"\x06\2\x06\2\x07\2" + b"abc" + b"."
        document = LayoutDocument(data, layout)
        self.assertEqual(document.encode(), data)
        document.set(("p", 1, "x"), 65)
        again = LayoutDocument(document.encode(), layout)
        told = [(part["x"], part["y"]) for part in again.get(("p",))]
        self.assertEqual(told, [(97, 98), (65, 98), (98, 99)])
        self.assertEqual(again.get(("end",)), 46)
        both = LayoutDocument(data, layout)
        for number in (0, 1):
            both.set(("p", number, "y"), 66)
        self.assertEqual(both.encode(), b"\x09\2\x09\2\x07\2" + b"abc" + b"aB" + b".")

    def test_offsets_from_anywhere(self) -> None:
        """A part grows: offsets from the start, from here, from a field and from the end lead to it."""
        for base, first, second in (
            ("start", 10, 12),
            ("here", 0, 2),
            ("head", 10, 12),
            ("end", 5, 3),
        ):
            layout = Layout.parse(
                "layout t\nhead { a bytes 6 }\nd table 2 { at u8, n u8 }\n"
                f"p each d at at size n from {base} {{ x bytes to end }}\nc bytes 1"
            )
            data = b"header" + bytes((first, 2, second, 2)) + b"abcd" + b"."
            document = LayoutDocument(data, layout)
            self.assertEqual([part["x"] for part in document.get(("p",))], [b"ab", b"cd"], base)
            document.set(("p", 0, "x"), b"longer")
            again = LayoutDocument(document.encode(), layout)
            self.assertEqual([part["x"] for part in again.get(("p",))], [b"longer", b"cd"], base)

    def test_blocks_of_every_kind(self) -> None:
        """What was not edited keeps other people's bytes; edited, a block is read again."""
        for how in ("lz4", "lz4-block", 'xor "key"', "xor 90", "xor 1 zlib xor 2", "zlib lz4"):
            layout = Layout.parse(
                f"layout t\nn u8 = size of b unpacked\nb block u32 {how} {{ t text zero }}"
            )
            data = LayoutDocument(invent(layout, 1, random.Random(4)), layout)
            data.set(("b", "t"), "reed " * 20)
            again = LayoutDocument(data.encode(), layout)
            self.assertEqual((again.get(("n",)), again.get(("b", "t"))), (101, "reed " * 20), how)

    def test_every_checksum(self) -> None:
        """By the check value of its catalogue: that of the nine digits."""
        for method, wanted in CHECKS.items():
            self.assertEqual(digest(method, b"123456789", big=True).hex(), wanted, method)
            layout = Layout.parse(f"layout t\nbig endian\na bytes 9\nb {method} of a to a")
            data = b"123456789" + bytes.fromhex(wanted)
            document = LayoutDocument(data, layout)
            document.set(("a",), b"987654321")
            self.assertEqual(LayoutDocument(document.encode(), layout).get(("a",)), b"987654321")
            with self.assertRaisesRegex(FormatError, "damaged"):
                LayoutDocument(b"923456789" + data[9:], layout)
        self.assertEqual(set(CHECKS), set(DIGESTS))


class Documented(unittest.TestCase):
    def test_the_hex_dumps_that_teach(self) -> None:
        """Each is read by the layout that stands below it, and edited as the page says."""
        with open(os.path.join(ROOT, "docs", "layouts.md"), encoding="utf-8") as file:
            page = file.read()
        found = {}
        for name in ("lower-fen.atlas", "haar.rumours", "berths.quays"):
            below = page.split(f"$ xxd {name}\n")[1]
            dump = "".join(
                re.findall(r"    [0-9a-f]{8}: ((?:[0-9a-f]{2,4} ){1,8})", below.split("\n\n")[0])
            )
            text = below[below.index("    layout ") :].split("\n\n")[0]
            found[name] = LayoutDocument(
                bytes.fromhex(dump), Layout.parse(textwrap.dedent(text), name)
            )
        atlas, rumours = found["lower-fen.atlas"], found["haar.rumours"]
        self.assertEqual(atlas.get(("parts",))[0], "Reed Bank, by the old quay")
        quays = found["berths.quays"]
        names = [row["name"] for row in quays.get(("quays",))]
        self.assertEqual(names, ["Eelgate", "Otter Pool", None, "gate"])
        quays.set(("quays", 2, "name"), "Pool")
        self.assertEqual(len(quays.encode()), quays.size)  # the end of another
        quays.set(("quays", 2, "name"), "Mill")
        self.assertEqual(len(quays.encode()), quays.size + 5)
        atlas.set(("parts", 1, 0, "name"), "Ada of Eelgate, ferrywoman")
        again = LayoutDocument(atlas.encode(), atlas.layout)
        self.assertEqual(again.get("directory[1].raw"), 33)
        text = "layout t\n" + page.split("stands `at` it")[1].split("\n\n")[1]
        data = b"WARE" + struct.pack("<HIIH", 1, 20, 16, 2) + b"hi.." + struct.pack("<IH", 18, 2)
        self.assertEqual(LayoutDocument(data, Layout.parse(text)).get("note"), "hi")
        self.assertEqual(rumours.get("root.body[1].value.body[0].value.body"), 17)


CHECKS = {
    "crc32": "cbf43926", "adler32": "091e01de", "sum8": "dd", "sum16": "01dd", "sum32": "000001dd",
    "xor8": "31",
    "crc16": "bb3d", "crc16-xmodem": "31c3", "crc16-ccitt-false": "29b1", "crc16-kermit": "2189",
    "crc16-modbus": "4b37", "crc16-usb": "b4c8", "crc16-x25": "906e", "crc32c": "e3069283",
    "crc32-bzip2": "fc891918", "crc32-mpeg2": "0376e6e7", "crc32-jam": "340bc6d9",
    "crc64": "6c40df5f0b497347", "crc64-xz": "995dc9bbdf1939fa",
    "xxh32": "937bad67", "xxh64": "8cb841db40e6ae83", "xxh3-64": "72dcb18b67a17dff",
    "fnv1-32": "24148816", "fnv1a-32": "bb86b11c", "fnv1-64": "a72ffc362bf916d6",
    "fnv1a-64": "06d5573923c6cdfc",
    "md5": "25f9e794323b453885f5181f1b624d0b", "sha1": "f7c3bc1d808e04732adf679965ccc34ca7ae3441",
    "sha256": "15e2b0d3c33891ebb0f1ef609ec419420c20e320ce94c65fbc8c3312448eb225",
    "blake3": "b7d65b48420d1033cb2595293263b6f72eabee20d55e699d0df1973b3c9deed1",
}  # fmt: skip


if __name__ == "__main__":
    unittest.main()

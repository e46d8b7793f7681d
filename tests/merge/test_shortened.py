"""Merging a large table without what all sides have alike gives what merging all of it gives."""

from __future__ import annotations

import json
import random
import struct
import unittest
import zlib
from collections.abc import Callable
from typing import Any
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from kindred_ledger.errors import KindredError
from kindred_ledger.formats import Layout, LayoutDocument, decode
from kindred_ledger.merge import How, Keys, Three, differences, document_files, merge_files
from kindred_ledger.merge import shortened as module
from kindred_ledger.merge import shortened_rows as by_rows
from tests.support import law, side_law

Row = dict[str, str]
_FEW_ROWS = mock.patch.object(by_rows, "_LEAST_ROWS", 10)
_FEW_BYTES = mock.patch.object(by_rows, "_LEAST_BYTES", 10)
_LEAST = mock.patch.object(module, "_LEAST", 10)


def rows(count: int) -> list[Row]:
    return [{"id": f"r{n}", "pay": str(n % 7), "home": f"quay {n % 5}"} for n in range(count)]


def as_xml(table: list[Row]) -> bytes:
    body = "".join(
        f"  <hand {' '.join(f'{k}={chr(34)}{v}{chr(34)}' for k, v in r.items())}/>\n" for r in table
    )
    return f"<?xml version='1.0'?>\n<crew n=\"1\">\n{body}</crew>\n".encode()


def as_elements(table: list[Row]) -> bytes:
    """Elements over several lines, named by a child or an attribute, with others of the tag elsewhere."""
    out = ["<crew>", "  <captain>", "    <hand>none</hand>", "  </captain>"]
    for row in table:
        out += [f'  <hand rank="{row["pay"]}">', f"    <id>{row['id']}</id>", "    <kit>"]
        out += [f"      <home>{row['home']}</home>", "      <oar/>", "    </kit>", "  </hand>"]
    return "\n".join((*out, "</crew>", "")).encode()


def as_csv(table: list[Row]) -> bytes:
    return "".join(
        ",".join(r) + "\n" for r in ({"id": 0, "pay": 0, "home": 0}, *(r.values() for r in table))
    ).encode()


def as_json(table: list[Row]) -> bytes:
    return json.dumps({"n": 1, "crew": table, "end": [1, 2]}, indent=1).encode()


def as_lines(table: list[Row]) -> bytes:
    return ("[\n" + ",\n".join(map(json.dumps, table)) + "\n]\n").encode()


def as_two_lists(table: list[Row]) -> bytes:
    """Two lists of elements, with comments among them; ids stand again in the second."""
    lines = [f'  <hand id="{row["id"]}" pay="{row["pay"]}"/>' for row in table]
    lines.insert(7, "  <!-- the best of them -->")
    more = [f'  <boat id="{row["id"]}" home="{row["home"]}"><oar n="2"/></boat>' for row in table]
    return "\n".join(("<crew>", *lines, " <boats>", *more, " </boats>", "</crew>", "")).encode()


def as_nested(table: list[Row]) -> bytes:
    """Records in records: goods in holds."""
    goods = [{"id": int(row["pay"]), "n": row["home"]} for row in table[:9]]
    holds = [{**row, "goods": goods[at % 5 : at % 5 + 2]} for at, row in enumerate(table)]
    return json.dumps({"holds": holds, "goods": goods}, indent=1).encode()


def as_renamed(table: list[Row]) -> bytes:
    """A column with another name, where somebody was paid much."""
    text = as_csv(table)
    return (
        text.replace(b"id,pay", b"id,wage") if any(len(row["pay"]) > 1 for row in table) else text
    )


def as_bare(table: list[Row]) -> bytes:
    """Rows without a head."""
    return as_csv(table).partition(b"\n")[2].replace(b"quay ", b"")


WRITERS: dict[str, tuple[str, Callable[[list[Row]], bytes]]] = {
    "xml": ("t.xml", as_xml),
    "csv": ("t.csv", as_csv),
    "elements": ("t.xml", as_elements),
    "json": ("t.json", as_json),
    "lines": ("t.json", as_lines),
    "two lists": ("t.xml", as_two_lists),
    "nested": ("t.json", as_nested),
    "renamed": ("t.csv", as_renamed),
    "bare": ("t.csv", as_bare),
}
PLAIN = ("xml", "csv", "json", "lines", "elements")


def edited(table: list[Row], draw: random.Random, number: int) -> list[Row]:
    """Return a table after some edits: cells, rows that come, go, move, stand twice, or lose a field."""
    out = [dict(row) for row in table]
    for _ in range(number):
        at = draw.randrange(len(out))
        match draw.randrange(12):
            case 0:
                out.insert(at, {"id": f"new{draw.randrange(4)}", "pay": "3", "home": "x"})
            case 1:
                del out[at]
            case 2:
                out.insert(draw.randrange(len(out)), out.pop(at))
            case 3 if draw.randrange(4) == 0:
                out[at] = dict(out[draw.randrange(len(out))])  # a key twice
            case _:
                out[at][draw.choice(("pay", "home"))] = str(draw.randrange(100))
    return out


def told(merge: Any) -> Any:
    """Return all that a merge says, but for which of what stayed the same has a line of its own."""
    totals = merge.statement.totals()
    base, mine, theirs, result = merge.sides
    seen = [
        sorted(map(str, differences(*two, told=merge.values)))
        for two in ((base, mine), (base, theirs), (mine, result)) if two[1] is not None
    ]  # fmt: skip
    return (
        seen,
        merge.data, sorted(map(str, merge.conflicts)), str(merge.counts), dict(totals), merge.named_by,
        sorted(merge.notes), merge.unnamed, merge.lost,
    )  # fmt: skip


def outcome(three: Three, how: How) -> Any:
    """Merge, and return what that says, or why it was refused."""
    try:
        return told(merge_files(three, how))
    except KindredError as error:
        return type(error), error.what


def _read(name: str) -> Callable[[bytes], Any]:
    return lambda data: decode(data, name.rpartition(".")[2])


class SameAsWhole(unittest.TestCase):
    @law
    @given(st.sampled_from(sorted(WRITERS)), st.integers(), st.integers(0, 9), st.integers(0, 9))
    def test_every_decision(self, kind: str, seed: int, mine: int, theirs: int) -> None:
        """The same bytes, conflicts, counts and names, whatever either side did."""
        draw = random.Random(seed)
        name, write = WRITERS[kind]
        base = rows(60)
        three = Three(
            write(base), write(edited(base, draw, mine)), write(edited(base, draw, theirs))
        )
        with mock.patch.object(document_files, "shortened", lambda *_: None):
            whole = outcome(three, How(name))
        with _LEAST:
            self.assertEqual(outcome(three, How(name)), whole)

    def test_it_is_shortened_at_all(self) -> None:
        """Of each kind; where the key stands twice in what would be left out, nothing is."""
        for kind in PLAIN:
            name, write = WRITERS[kind]
            base = rows(60)
            mine, theirs = [dict(row) for row in base], [dict(row) for row in base]
            mine[3]["pay"], theirs[40]["home"] = "100", "far"
            three = Three(write(base), write(mine), write(theirs))
            with _LEAST:
                small = module.shortened(three, name.rpartition(".")[2])
            assert small is not None, kind
            self.assertLess(len(small.three.theirs), len(three.theirs) // 2)
            self.assertEqual(small.restored(small.three.theirs, _read(name)), three.theirs)
            self.assertTrue(small.names("@id" if kind == "xml" else "id", {"r3", "r40"}), kind)
            self.assertFalse(small.names("@id" if kind == "xml" else "id", {"r20"}), kind)
            self.assertFalse(small.names("@pay" if kind == "xml" else "pay", set()), kind)
            self.assertFalse(small.names("nothing", set()), kind)

    def test_what_one_side_changed(self) -> None:
        """It needs no merging: unless it names the record, is laid out anew, or both changed it."""
        base = rows(60)
        for kind in ("xml", "csv"):
            name, write = WRITERS[kind]
            codec = name.rpartition(".")[2]
            mine, theirs = [dict(row) for row in base], [dict(row) for row in base]
            mine[3]["pay"], theirs[40]["home"] = "100", "far"
            mine[20]["pay"] = theirs[20]["pay"] = "9"  # alike
            mine[30]["pay"], theirs[30]["home"] = "9", "far"  # both, each its own
            mine[50]["id"] = "other"
            three = Three(write(base), write(mine), write(theirs))
            with _LEAST:
                small = module.shortened(three, codec, Keys())
            assert small is not None, kind
            for text in (b"100", b"r20", b"r40"):
                self.assertNotIn(text, small.three.mine + small.three.theirs, kind)
            for text in (b"r30", b"other"):
                self.assertIn(text, small.three.mine, kind)
            settled = small.settled("hand", "@id" if kind == "xml" else "id")
            assert settled is not None
            self.assertEqual(
                [each.case.name for each in settled.decided],
                ["I_CHANGED", "AGREED", "THEY_CHANGED"],
            )
            self.assertIsNone(small.settled("hand", "@pay" if kind == "xml" else "pay"), kind)
            spaced = Three(three.base, write(mine).replace(b"r10", b" r10 "), write(theirs))
            spaced = Three(spaced.base, spaced.mine.replace(b"/>", b" />", 12), spaced.theirs)
            with _LEAST, mock.patch.object(document_files, "shortened", lambda *_: None):
                whole = outcome(spaced, How(name))
            with _LEAST:
                self.assertEqual(outcome(spaced, How(name)), whole)

    def test_records_that_do_not_come_back(self) -> None:
        """Where a record ran into the next, or its neighbour is gone, the whole file is merged."""
        base = rows(60)
        mine, theirs = [dict(row) for row in base], [dict(row) for row in base]
        mine[3]["pay"], theirs[40]["home"] = "100", "far"
        for kind in PLAIN:
            name, write = WRITERS[kind]
            three = Three(write(base), write(mine), write(theirs))
            with mock.patch.object(document_files, "shortened", lambda *_: None):
                whole = outcome(three, How(name))
            with _LEAST:
                small = module.shortened(three, name.rpartition(".")[2])
            assert small is not None, kind
            first = small.runs[0]
            joined = replace(first, units=[unit.rstrip() for unit in first.units])
            for run in (joined, replace(first, before=b"gone")):
                broken = replace(small, runs=[run, *small.runs[1:]])
                self.assertIsNone(broken.restored(small.three.theirs, _read(name)), kind)
                with mock.patch.object(document_files, "shortened", lambda *_, it=broken: it):
                    self.assertEqual(outcome(three, How(name)), whole)

    def test_what_is_not_plain_is_left_whole(self) -> None:
        """Comments, quotes and text that only looks like records."""
        for name, text in (
            ("xml", as_xml(rows(60)).replace(b'<hand id="r5"', b'<!-- \n<hand id="r5"')),
            ("csv", as_csv(rows(60)).replace(b"r5", b'"r5\n')),
            ("json", as_json(rows(60)).replace(b'"r5"', b'"r5" /* a */')),
        ):
            with _LEAST:
                self.assertIsNone(module.shortened(Three(text, text, text), name), name)


LAYOUT = Layout.parse(
    "layout t\nlittle endian\nversion u16\nrows table u32 {\n id u32\n pay i16\n rank u16\n}\nnote text u8\n"
    "check crc32 of start to here\n"
)


class Rows(unittest.TestCase):
    @side_law
    @given(st.integers(), st.integers(0, 9), st.integers(0, 9))
    def test_every_decision(self, seed: int, mine: int, theirs: int) -> None:
        """Rows of a binary table with a checksum behind them: as if it was merged whole."""
        draw = random.Random(seed)
        kind = np.dtype([("id", "<u4"), ("pay", "<i2"), ("rank", "<u2")])
        table = np.zeros(200, kind)
        table["id"] = np.arange(200)

        def written(number: int) -> bytes:
            side = table.copy()
            for _ in range(number):
                side[draw.choice(("pay", "rank"))][draw.randrange(200)] = draw.randrange(9)
            if draw.randrange(9) == 0:
                side["id"][draw.randrange(200)] = draw.randrange(210)  # a key twice, or a new one
            body = struct.pack("<HI", 1, len(side)) + side.tobytes() + b"\x02hi"
            return body + struct.pack("<I", zlib.crc32(body))

        three = Three(written(0), written(mine), written(theirs))
        how = How("t.bin", decode=lambda data: LayoutDocument(data, LAYOUT), keys={("rows",): "id"})
        with mock.patch.object(document_files, "shortened_rows", lambda *_: None):
            whole = outcome(three, how)
        with _FEW_ROWS, _FEW_BYTES:
            self.assertIsNotNone(by_rows.shortened_rows(three, how.decode))
            self.assertEqual(outcome(three, how), whole)


if __name__ == "__main__":
    unittest.main()

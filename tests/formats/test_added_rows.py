"""Rows of one table added behind those of another, by columns: the same as one by one."""

from __future__ import annotations

import json
import random
import struct
import unittest
from typing import Any

import numpy as np

from kindred_ledger.errors import FormatError
from kindred_ledger.formats import Layout, LayoutDocument, as_tabular, decode

_FIXED = "layout t\nlittle endian\nhead u8\nrows table u16 { id u16, name text 6, x i16 }\n"
_RAGGED = "layout t\nlittle endian\nhead u8\nrows table u16 { id u16, name text u8, x i16 }\n"


def _packed(rows: list[dict[str, Any]], *, fixed: bool) -> bytes:
    out = struct.pack("<BH", 9, len(rows))
    for row in rows:
        name = row["name"].encode()
        name = name.ljust(6, b"\0") if fixed else bytes((len(name),)) + name
        out += struct.pack("<H", row["id"]) + name + struct.pack("<h", row["x"])
    return out


def _rows(rng: random.Random, many: int) -> list[dict[str, Any]]:
    return [
        {
            "id": rng.randrange(60_000),
            "name": rng.choice(("reed", "ö", "")),
            "x": rng.randrange(-9, 9),
        }
        for _ in range(many)
    ]


class AddedRows(unittest.TestCase):
    def both(self, one: Any, other: Any, order: list[int], path: str = "rows") -> Any:
        """Add rows to `one`, and return what it is read as again."""
        mine, theirs = (as_tabular(each) for each in (one, other))
        assert mine is not None and theirs is not None
        columns, source = mine.open_columns((path,)), theirs.open_columns((path,))
        if columns is None:
            columns = one.open_like((path,), source)
        assert columns is not None and source is not None
        columns.extend(source, np.array(order, np.intp))
        if columns.count:
            self.assertEqual(columns.count, len(columns.read("id")))
        return one.encode_unread()

    def test_json_of_any_style(self) -> None:
        """Each table keeps its own space; values keep their text; an empty list takes the other's style."""
        for seed in range(60):
            rng = random.Random(seed)
            mine, theirs = _rows(rng, rng.randrange(4)), _rows(rng, rng.randrange(1, 5))
            for row in [*mine, *theirs]:
                row["links"] = [rng.randrange(9) for _ in range(rng.randrange(3))]
            order = [rng.randrange(len(theirs)) for _ in range(rng.randrange(4))]
            indent = [rng.choice((None, 1)) for _ in range(2)]
            one = decode(json.dumps({"rows": mine, "n": 1.50}, indent=indent[0]).encode(), "json")
            other = decode(json.dumps({"rows": theirs}, indent=indent[1]).encode(), "json")
            data = self.both(one, other, order)
            wanted = {"rows": mine + [theirs[at] for at in order], "n": 1.5}
            self.assertEqual(json.loads(data), wanted, data)

    def test_layouts_of_fixed_and_of_ragged_rows(self) -> None:
        for text in (_FIXED, _RAGGED):
            layout, fixed = Layout.parse(text), text == _FIXED
            for seed in range(40):
                rng = random.Random(seed)
                mine, theirs = _rows(rng, rng.randrange(4)), _rows(rng, rng.randrange(1, 5))
                order = [rng.randrange(len(theirs)) for _ in range(3)]
                one, other = (
                    LayoutDocument(_packed(rows, fixed=fixed), layout) for rows in (mine, theirs)
                )
                wanted = _packed([*mine, *(theirs[at] for at in order)], fixed=fixed)
                self.assertEqual(self.both(one, other, order), wanted)

    def test_texts_in_a_pool_come_along(self) -> None:
        """An offset means something in its own file only: the text goes into the pool of the other."""
        layout = Layout.parse(
            "layout t\nlittle endian\nsize u16\nnames bytes size\n"
            "rows table u16 { id u16, name pooled u16 of names or 65535 }\n"
        )
        for seed in range(40):
            rng = random.Random(seed)
            games = []
            for many in (rng.randrange(4), rng.randrange(1, 5)):
                pool, rows = b"", b""
                for _ in range(many):
                    name = rng.choice((b"reed", b"peat", b"ada"))
                    rows += struct.pack("<HH", rng.randrange(99), len(pool))
                    pool += name + b"\0"
                games.append(struct.pack("<H", len(pool)) + pool + struct.pack("<H", many) + rows)
            one, other = (LayoutDocument(data, layout) for data in games)
            wanted = [row["name"] for row in LayoutDocument(games[0], layout).get("rows")]
            theirs = [row["name"] for row in LayoutDocument(games[1], layout).get("rows")]
            data = self.both(one, other, list(range(len(theirs))))
            found = [row["name"] for row in LayoutDocument(data, layout).get("rows")]
            self.assertEqual(found, wanted + theirs, seed)

    def test_a_row_that_is_put_brings_its_text_into_the_pool(self) -> None:
        layout = Layout.parse(
            "layout t\nlittle endian\nsize u16\nnames bytes size\n"
            "rows table u16 { id u16, name pooled u16 of names or 65535 }\n"
        )
        document = LayoutDocument(struct.pack("<HH", 0, 0), layout)
        rows = [{"id": 4, "name": "reed"}, {"id": 5, "name": None}, {"id": 6, "name": "reed"}]
        for at, row in enumerate(rows):
            document.set(("rows", at), row)
        self.assertEqual(LayoutDocument(document.encode(), layout).get("rows"), rows)

    def test_what_is_refused(self) -> None:
        """Other columns, a look at the rows afterwards, a list with something in it."""
        one = decode(b'{"rows": [{"id": 1}], "odd": [1]}', "json")
        other = decode(b'{"rows": [{"id": 1, "x": 2}]}', "json")
        mine, theirs = one.open_columns(("rows",)), other.open_columns(("rows",))  # type: ignore[attr-defined]
        with self.assertRaises(FormatError):
            mine.extend(theirs, np.array([0]))
        mine.extend(mine, np.array([0]))
        with self.assertRaises(FormatError):
            one.get("rows[1]")
        self.assertIsNone(one.open_like(("odd",), theirs))  # type: ignore[attr-defined]


if __name__ == "__main__":
    unittest.main()

"""Tables in and out: what nobody touched keeps its bytes, whatever a spreadsheet did to its text."""

from __future__ import annotations

import csv
import io
import json
import os
import sqlite3
import unittest
from decimal import Decimal
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import kindred_ledger as kl
from kindred_ledger.edits.cells import Kinds, cell_of, value_of
from kindred_ledger.merge import ABSENT
from tests.support import Case, PlayCase, kindred, law, side_law, write

SCALARS = st.one_of(
    st.text(st.sampled_from("ab07.,;=+-#\"'\\\r\n\t \ufeffé🛶"), max_size=8),
    st.integers(-(10**22), 10**22),
    st.decimals(allow_nan=False, allow_infinity=False, places=3),
    st.booleans(),
    st.none(),
    st.lists(st.integers(0, 9), max_size=2),
)
# Texts and numbers as a spreadsheet saves them when nobody touched them.
REWRITTEN = (
    ("007", "7"), ("1.10", "1.1"), ("12345678901234567890", "1.23456789012346E+19"),
    ("12345678901234567890", "12345678901234600000"), ("0.30000000000000004", "0.3"),
    ("+5", "5"), ("1e5", "100000"), (Decimal("55.0"), "55"), (True, "TRUE"), ("a\r\nb", "a\nb"),
)  # fmt: skip
# Texts that look alike and say something else.
EDITED = (
    ("007", "8"),
    ("1.23456789", "1.23"),
    ("Ada", "ada"),
    ("1.10", "1.2"),
    ("12", "12.5"),
    ("", "0"),
)


def frames() -> Any:
    import pandas

    return pandas


def edited(text: str, change: Any) -> str:
    """Return CSV after a change of its rows, written as a spreadsheet would: with semicolons."""
    rows = list(csv.reader(io.StringIO(text.removeprefix("\ufeff"), newline="")))
    out = io.StringIO()
    csv.writer(out, delimiter=";", lineterminator="\r\n").writerows(change(rows))
    return "\ufeff" + out.getvalue()


class Cells(unittest.TestCase):
    @law
    @given(SCALARS)
    def test_untouched_is_the_very_value(self, value: Any) -> None:
        """And of the same kind: no number becomes a text, and no text a number."""
        again, otherwise = value_of(cell_of(value), value, Kinds({type(value)}))
        self.assertIs(again, value)
        self.assertFalse(otherwise)

    def test_what_a_spreadsheet_wrote_otherwise(self) -> None:
        """Is no edit; what says something else is one."""
        for old, text in REWRITTEN:
            self.assertEqual(value_of(text, old, Kinds({type(old)})), (old, True), (old, text))
        for old, text in EDITED:
            self.assertEqual(value_of(text, old, Kinds({str})), (text, False), (old, text))

    def test_a_cell_that_says_no_value(self) -> None:
        """Is refused with what is expected; a float stays a float."""
        for text, kinds in (("abc", {int}), ("1,5", {Decimal}), ("", {int}), ("maybe", {bool})):
            with self.assertRaises(kl.FormatError):
                value_of(text, ABSENT, Kinds(set(kinds)))
        self.assertEqual(str(value_of("6", Decimal("5.5"), Kinds({Decimal}))[0]), "6.0")


class Files(Case):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()

    def write_rows(self, name: str, rows: Any, table: str = "") -> bytes:
        """Put rows into a file, apply that, and return the bytes."""
        change = kl.write_table(self.path(name), rows, table, ledger=self.kept)
        change.apply(self.kept, allow_loss=bool(change.losses))
        with open(self.path(name), "rb") as file:
            return file.read()

    @side_law
    @given(st.lists(st.dictionaries(st.sampled_from("abc"), SCALARS), min_size=1, max_size=5))
    def test_untouched_the_bytes_are_the_same(self, records: list[Any]) -> None:
        """Of JSON with any values, through CSV and through a data frame; rows may be sorted."""
        records = [{"k": number, **record} for number, record in enumerate(records)]
        data = json.dumps({"x": records}, default=float, indent=1).encode()
        with open(self.path("a.json"), "wb") as file:
            file.write(data)
        table = kl.read_table(self.path("a.json"))
        turned = edited(table.to_csv(), lambda rows: [rows[0], *reversed(rows[1:])])
        for rows in (table.to_csv(), turned, table.to_frame()):
            self.assertEqual(self.write_rows("a.json", rows), data)

    def test_whole_numbers_beside_gaps(self) -> None:
        """A data frame does not make floats of them."""
        data = b'[{"id": 1, "n": 1152921504606846977}, {"id": 2}, {"id": 3, "n": null}]'
        write(self.folder, {"a.json": data})
        frame = kl.read_table(self.path("a.json")).to_frame()
        self.assertEqual(frame["n"][0], 2**60 + 1)
        self.assertEqual(self.write_rows("a.json", frame), data)

    def test_edits_reach_their_places(self) -> None:
        """A cell, a new row behind its neighbour, a row that goes; of every kind, and nothing else."""
        texts = {
            "t.json": '{"t": [\n {"id": 7, "n": "Ada"},\n {"id": 8, "n": "Bo"},\n {"id": 9, "n": "Cy"}\n]}',
            "t.csv": "id,n\n7,Ada\n8,Bo\n9,Cy\n",
            "t.xml": '<t>\n <r id="7" n="Ada"/>\n <r id="8" n="Bo"/><!-- a note -->\n <r id="9" n="Cy"/></t>',
            "t.yaml": "t:\n- id: 7\n  n: Ada\n- id: 8 # a note\n  n: Bo\n- id: 9\n  n: Cy\n",
        }

        def change(rows: list[list[str]]) -> list[list[str]]:
            rows[2][2] = "Bob"
            return [rows[0], rows[2], ["", "20", "New"], rows[1]]  # 9 goes

        for name, text in texts.items():
            write(self.folder, {name: text.encode()})
            self.write_rows(name, edited(kl.read_table(self.path(name)).to_csv(), change))
            again = kl.read_table(self.path(name))
            columns = [list(map(str, column)) for column in again.columns.values()]
            self.assertEqual(columns, [["7", "8", "20"], ["Ada", "Bob", "New"]], name)
        for name in ("t.xml", "t.yaml"):
            with open(self.path(name), encoding="utf-8") as file:
                self.assertIn("a note", file.read())

    def test_a_database(self) -> None:
        """Rows of SQLite, with nothing where a cell is empty."""
        with sqlite3.connect(self.path("a.db")) as made:
            made.execute("create table good (id integer primary key, name text, price real)")
            made.executemany(
                "insert into good values (?, ?, ?)", [(1, "007", 1.5), (2, "=x", None)]
            )
        made.close()
        table = kl.read_table(self.path("a.db"))
        self.assertEqual(
            [one.what.rpartition(": ")[0] for one in table.findings()],
            [
                "in a spreadsheet zeros in front or behind go",
                "in a spreadsheet taken for a formula",
            ],
        )
        mangled = table.to_csv().replace("007", "7").replace("1.5", "2.25")
        self.write_rows("a.db", mangled)
        with sqlite3.connect(self.path("a.db")) as made:
            rows = made.execute("select * from good").fetchall()
        made.close()
        self.assertEqual(rows, [(1, "007", 2.25), (2, "=x", None)])

    def test_what_cannot_be_meant(self) -> None:
        """Says the line and the column, and writes nothing."""
        data = b'[{"id": 7, "n": "Ada"}, {"id": 8, "n": "Bo"}]'
        write(self.folder, {"a.json": data})
        for rows, says in (
            ("id,n\n7,Ada\n", "the first column is not #"),
            ("#,id,n\n0,seven,Ada\n1,8,Bo\n", "line 2, column id: 'seven' is no number"),
            ("#,id,n\n0,7,Ada\n0,8,Bo\n", "line 3, column #: row 0 is there twice"),
            ("#,id,n\n5,7,Ada\n", "'5' is no row of the file"),
            ("#,id,m\n0,7,Ada\n1,8,Bo\n", "no column 'm'"),
            ("#,id,id\n0,7,7\n1,8,8\n", "twice"),
            ("#,id,n\n0,7,Ada,more\n1,8,Bo\n", "line 2: it has more cells"),
        ):
            with self.assertRaisesRegex(kl.KindredError, says.replace("(", r"\(")):
                kl.write_table(self.path("a.json"), rows, ledger=self.kept, source="rows.csv")
        gone = kl.write_table(self.path("a.json"), "#,id,n\n0,7,Ada\n", ledger=self.kept)
        self.assertEqual([one.code for one in gone.losses], ["rows-removed"])
        frame = frames().DataFrame({"#": [0, 1], "id": [7, 8.0], "n": ["Ada", None]})
        with self.assertRaises(kl.KindredError):
            kl.write_table(self.path("a.json"), frame.drop(columns="#"), ledger=self.kept)


class Layouts(PlayCase):
    def test_a_binary_table_through_the_command_line(self) -> None:
        """Listed, exported, edited, put back, loaded, taken back."""
        name = "server/voyages/long-haul.mfsv"
        with open(self.path(*name.split("/")), "rb") as file:
            before = file.read()
        told = self.kindred("file", "table", name)
        self.assertEqual([one["name"] for one in told["tables"]], ["crew", "holds.goods"])
        refused = kindred("file", "table", name, "crow", "--out", "x.csv", folder=self.folder)
        self.assertEqual((refused.returncode, "crew" in refused.stderr), (2, True))
        self.kindred("file", "table", name, "crew", "--out", "crew.csv")
        with open(self.path("crew.csv"), encoding="utf-8-sig") as file:
            text = file.read()
        put = ("file", "table", name, "crew", "--from", "crew.csv", "--yes")
        self.assertIsNone(self.kindred(*put).get("applied"))
        with open(self.path("crew.csv"), "w", encoding="utf-8") as file:
            file.write(text.replace("Cass", "Cassandra"))
        self.assertTrue(self.kindred(*put)["applied"])
        crew = kl.read_table(self.path(*name.split("/")), "crew", card=self.card).columns
        self.assertEqual(crew["name"][1], "Cassandra")
        self.kindred("undo", "--yes")
        with open(self.path(*name.split("/")), "rb") as file:
            self.assertEqual(file.read(), before)
        self.assertFalse(os.path.exists(self.path("x.csv")))


if __name__ == "__main__":
    unittest.main()

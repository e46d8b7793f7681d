"""Steps: every kind on documents, and on large tables by columns the same as row by row."""

from __future__ import annotations

import json
import re
import struct
import unittest
import zlib
from collections import Counter
from typing import Any

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.cards import Format
from kindred_ledger.cards.models import FormatTable
from kindred_ledger.convert import Converted, Converter, Sample, convert_bytes, hops_of
from kindred_ledger.convert.bookkeeper import Bookkeeper
from kindred_ledger.convert.checking import FormatCheck
from kindred_ledger.convert.fields import Fields
from kindred_ledger.errors import BooksUnbalanced, KindredError, PreconditionUnmet, UsageError
from kindred_ledger.formats import Layout, decode
from kindred_ledger.versions import INTEGER, NUMBER
from tests.support import law, texts

LAYOUT = """layout ferry
little endian
versions 1 to 3 from format
format  u16
coins   u32
crew    table u16 {
    id      u32
    rank    i16
    name    text 8
    pay     f64
    mood    enum u8 { calm = 0, merry = 1, cross = 2 }
    glow    u8              until 1
    home    u16             since 2 default 1
    marks   flags u8 { lit = 0 }
}
notes   table u16 { day u16, line text u8, wet u8 until 2, mud u16 since 3 default 4 }
check   crc32 of start to here
"""
TABLES = {
    "homes": {"0": "Ashwater", "1": "Eelgate", "2": "Reed Bank"},
    "later": {"7": "Reed Bank", "8": "Ashwater", "9": "Eelgate"},
}


class Held(Format, frozen=True, dict=True):
    """A format whose layout stands in the test."""

    @property
    def layout(self) -> Layout | None:  # type: ignore[override]
        return Layout.parse(LAYOUT) if self.table.codec == "layout" else None


def made(codec: str, steps: list[tuple[str, str, list[dict[str, Any]]]]) -> Format:
    rows = [{"from": source, "to": target, "do": do} for source, target, do in steps]
    table = {
        "files": ["*"],
        "codec": codec,
        "version": {"key": "format"},
        "steps": rows,
        "builds": [{"builds": "*", "writes": "2", "reads": ["1", "2", "3"]}],
    }
    return Held("test", msgspec.convert(table, FormatTable), NUMBER, "", TABLES)


def ferry(crew: list[Any], notes: list[Any]) -> bytes:
    """Write a file of version 1 by hand."""
    out = struct.pack("<HIH", 1, 900, len(crew))
    for id, rank, name, pay, mood, marks in crew:
        out += struct.pack("<Ih8sdBBB", id, rank, name.encode(), pay, mood, 5, marks)
    out += struct.pack("<H", len(notes))
    for day, line in notes:
        out += struct.pack("<HB", day, len(line)) + line.encode() + b"\1"
    return out + struct.pack("<I", zlib.crc32(out))


def pattern(name: str) -> str:
    """Return a name for all rows; by columns, bits are one value."""
    return re.sub(r"(crew|notes)\[\d+\]", r"\1[*]", name).removesuffix(".lit")


def counted(done: Converted) -> Counter[Any]:
    """Return the lines of a statement with the rows of tables taken together."""
    out: Counter[Any] = Counter()
    for line in done.statement.lines:
        after = pattern(line.became or line.item)
        out[line.outcome, pattern(line.item), after] += line.count
    return out


_hands = st.lists(
    st.tuples(
        st.integers(0, 1 << 32).map(lambda n: n % (1 << 32)),
        st.integers(-9, 2000),
        st.sampled_from(("Ada", "Bo Reed", "")),
        st.sampled_from((0.5, 2.0, -3.25)),
        st.integers(0, 2),
        st.integers(0, 1),
    ),
    max_size=5,
)
_lines = st.lists(
    st.tuples(st.integers(0, 3), st.sampled_from(("fog", "", "reed bank"))), max_size=4
)
_expressions = st.sampled_from(
    (
        "value + 1",
        "rank * 2",
        "value * 2 - rank",
        "when(rank > 3, value, 0)",
        "coins - 1",
        "length(name)",
        'when(mood == "merry", 1, 2)',
        "round(value / 2)",
        "1 / rank",
        "nobody",
    )
)
_where = st.sampled_from(
    ("rank > 3", 'name == ""', "pay < 0 or rank == 0", "marks.lit", "day in (1, 2)")
)
_numeric = st.sampled_from(("crew[*].rank", "crew[*].pay", "crew[*].id", "notes[*].day"))
_worded = st.sampled_from(("crew[*].name", "notes[*].line"))
_rows = st.one_of(
    st.builds(lambda p, e: {"set": p, "by": e}, _numeric, _expressions),
    st.builds(lambda p, e, w: {"set": p, "by": e, "where": w}, _numeric, _expressions, _where),
    st.builds(
        lambda p: {"set": p, "by": 'part(value + " x", " ", 0)', "loses": "what came after"},
        _worded,
    ),
    st.builds(
        lambda p: {"map": p, "table": {"Ada": "Adah", "0": 9, "1": 8, "merry": "cross"}},
        st.one_of(_numeric, _worded, st.just("crew[*].mood")),
    ),
    st.builds(
        lambda p: {
            "map": p,
            "table": {"calm": "merry", "merry": "calm", "cross": "cross"},
            "otherwise": "fail",
        },
        st.sampled_from(("crew[*].mood", "crew[*].name")),
    ),
    st.builds(lambda p: {"rescale": p, "times": 2, "plus": 1, "round": 0}, _numeric),
    st.builds(lambda w: {"drop": "crew[*]", "where": w, "reason": "no place for them"}, _where),
    st.builds(
        lambda w: {"drop": "notes[*]", "where": w, "reason": "old", "lossless": True}, _where
    ),
    st.builds(lambda e: {"reorder": "crew", "by": e}, st.sampled_from(("rank", "name", "-pay"))),
    st.builds(
        lambda p, v: {"require": p, "at_least": v, "otherwise": "hire somebody"},
        _numeric,
        st.integers(-3, 1),
    ),
    st.just({"require": "crew[*].rank", "holds": "value > 0 or pay > 0", "otherwise": "pay them"}),
    st.just({"rename": "crew[*].glow", "to": "home"}),
    st.just({"drop": "crew[*].glow", "reason": "lanterns do not glow"}),
    st.just({"retype": "crew[*].pay", "as": "integer", "loses": "what is behind the point"}),
)


class Columns(unittest.TestCase):
    @law
    @given(_hands, _lines, st.lists(_rows, max_size=4), st.integers(2, 3))
    def test_by_columns_as_row_by_row(
        self, hands: list[Any], notes: list[Any], do: list[Any], last: int
    ) -> None:
        """The same bytes, the same counts of what became of each field, the same losses; or both refuse."""
        data = ferry(hands, notes)
        format = made("layout", [("1", "2", do)])
        told: list[Any] = []
        for column_threshold in (0, 1 << 40):
            try:
                done = Converter(format, column_threshold=column_threshold)(
                    data, INTEGER.parse(str(last)), name="f"
                )
                told.append((done.data, counted(done), len(done.losses) > 0))
                leaves = 3 + (7 * len(hands) or 1) + (3 * len(notes) or 1)
                self.assertEqual(done.statement.counted_before, leaves)
            except BooksUnbalanced:
                raise
            except KindredError as error:
                told.append(type(error))
        if isinstance(told[0], tuple) and isinstance(told[1], tuple):
            self.assertEqual(told[0][0], told[1][0])
            if hands and notes:
                self.assertEqual(told[0][1], told[1][1])
        else:
            computed_for_all = any("when" in str(row) or "or" in str(row) for row in do)
            self.assertTrue(told[0] == told[1] or computed_for_all or not (hands and notes), told)


_pays = st.sampled_from(("0.50", "2", "-3.25", "1e2", "null", '"none"'))
_records = st.lists(
    st.tuples(
        st.sampled_from(("1", "2", "-0", "907199254740993000", "99999999999999999999")),
        st.integers(-3, 6),
        st.sampled_from(("Ada", "Bo Reed", "", "a\\u00e9", "100%, [x]: {y}")),
        _pays,
        st.sampled_from(('{"x": 1, "y": [2, 3]}', '{"x": 4}', "[]", "{}")),
    ),
    min_size=1,
    max_size=5,
)
_columns = st.sampled_from(
    ("crew[*].rank", "crew[*].pay", "crew[*].id", "crew[*].name", "crew[*].at")
)
_sums = st.sampled_from(
    ("rank * 2", "rank - coins", "length(name)", "round(rank / 2)", "rank * 0.1", "when(rank > 3, rank, 0)",
     'name + "!"', "text(id)", "value", "number(id) // 2", "rank > 2", "1 / rank", "none")
)  # fmt: skip
_tests = st.sampled_from(("rank > 3", 'name == ""', "rank in (1, 2) or id == 1", "rank * 0.5 < 1"))
_in_json = st.one_of(
    st.builds(lambda p, e: {"set": p, "by": e}, _columns, _sums),
    st.builds(lambda p, e, w: {"set": p, "by": e, "where": w}, _columns, _sums, _tests),
    st.builds(lambda p, e, w: {"set": p, "by": e, "where": w, "loses": "x"}, _columns, _sums, _tests),
    st.builds(lambda w: {"drop": "crew[*]", "where": w, "reason": "no place for them"}, _tests),
    st.builds(lambda e, d: {"reorder": "crew", "by": e, "descending": d},
              st.sampled_from(("rank", "name", "-rank", "id * 0.5")), st.booleans()),
    st.builds(lambda e: {"default": "crew[*].new", "by": e}, _sums),
    st.builds(lambda p, e: {"set": p, "by": e}, _columns, _expressions),
    st.builds(lambda p, e, w: {"set": p, "by": e, "where": w}, _columns, _expressions, _where),
    st.builds(lambda p, t: {"rename": p, "to": t}, _columns, st.sampled_from(("x", "sp ace%b"))),
    st.builds(lambda p: {"drop": p, "reason": "none"}, _columns),
    st.builds(lambda v: {"default": "crew[*].home", "value": v}, st.sampled_from((0.50, "ß", True))),
    st.builds(lambda p: {"map": p, "table": {"Ada": 9, "2": "two", "0.50": True}}, _columns),
    st.builds(lambda p: {"rescale": p, "times": 0.1}, _columns),
    st.builds(lambda p: {"retype": p, "as": "text"}, _columns),
    st.just({"split": "crew[*].name", "into": ["first", "name"]}),
    st.just({"join": ["crew[*].name", "crew[*].rank"], "into": "crew[*].title"}),
    st.just({"drop": "crew[*]", "where": "rank >= 0", "reason": "no place for them"}),
    st.just({"set": "crew[*].rank", "by": "1 / value", "where": "value > 0"}),
    st.just({"rename": "crew", "to": "hands"}),
)  # fmt: skip
_styles = st.sampled_from(
    (
        ("", "", ", ", ": "),
        ("", "", ",", ":"),
        ("\n  ", "\n    ", ",", ": "),
        ("\r\n", "\r\n\t", " ,", " : "),
        ("\n", "\n  // mine\n  ", ",", ": "),
    )
)


def in_json(records: list[Any], style: Any, odd: int) -> bytes:
    """Write a file by hand; the record of number `odd` is written otherwise than the others."""
    outer, inner, comma, colon = style
    rows = []
    for number, (id, rank, name, pay, at) in enumerate(records):
        pairs = [("id", id), ("rank", rank), ("name", f'"{name}"'), ("pay", pay), ("at", at)]
        if number == odd:
            pairs[1] = (" rank", rank) if odd % 2 else ("rank", "null")
        members = comma.join(f'{inner}"{key.strip()}"{colon}{value}' for key, value in pairs)
        rows.append(f"{outer}{{{members}{outer}}}")
    crew = f"[{comma.join(rows)}{outer}]"
    notes = '[{"day": 1, "line": "fog"}, {"day": 2, "line": "", "wet": 1}]'
    return f'{{"format": 1, "crew": {crew}, "coins": 5, "notes": {notes}}}\n'.encode()


class JsonColumns(unittest.TestCase):
    @law
    @given(_records, st.lists(_in_json, min_size=1, max_size=4), _styles, st.integers(0, 30))
    def test_by_columns_as_record_by_record(
        self, records: list[Any], do: list[Any], style: Any, odd: int
    ) -> None:
        """The same bytes, counts and losses, whatever the style; values of any kind; or both refuse."""
        data = in_json(records, style, odd)
        told: list[Any] = []
        for column_threshold in (0, 1 << 40):
            try:
                done = Converter(made("json", [("1", "2", do)]), column_threshold=column_threshold)(
                    data, INTEGER.parse("2"), name="f"
                )
                told.append((done.data, in_pattern(done), len(done.losses) > 0))
            except BooksUnbalanced:
                raise
            except KindredError as error:
                told.append(error)
        refused = [isinstance(each, KindredError) for each in told]
        self.assertEqual(refused[0], refused[1], told)
        if not any(refused):
            self.assertEqual(told[0], told[1])


def in_pattern(done: Converted) -> Counter[Any]:
    """Return the lines of a statement, all places in lists as one."""
    out: Counter[Any] = Counter()
    for line in done.statement.lines:
        names = (re.sub(r"\[\d+\]", "[*]", name) for name in (line.item, line.became or line.item))
        out[line.outcome, *names] += line.count
    return out


class Each(unittest.TestCase):
    def run_steps(self, document: Any, *do: dict[str, Any]) -> Any:
        data = json.dumps({"format": 1, **document}, indent=2).encode()
        self.done = convert_bytes(
            data, made("json", [("1", "2", list(do))]), INTEGER.parse("2"), name="f"
        )
        got = decode(self.done.data, "json").get(())
        del got["format"]
        return json.loads(json.dumps(got, default=str))

    def test_what_each_kind_does(self) -> None:
        """Set by expression, split, join, retype, rescale, reorder, renumber, drop where: each read back."""
        for document, row, wanted in (
            ({"a": 2, "b": 5}, {"set": "a", "by": "value * b + 1"}, {"a": 11, "b": 5}),
            (
                {"a": [{"n": 1}, {"n": 4}]},
                {"set": "a[*].n", "by": "0", "where": "value > 2"},
                {"a": [{"n": 1}, {"n": 0}]},
            ),
            (
                {"r": [{"n": 2}], "k": 3},
                {"default": "r[*].m", "by": "n * k"},
                {"r": [{"n": 2, "m": 6}], "k": 3},
            ),
            (
                {"name": "Ada Reed"},
                {"split": "name", "into": ["first", "last"]},
                {"first": "Ada", "last": "Reed"},
            ),
            (
                {"at": "3,4"},
                {
                    "split": "at",
                    "into": {
                        "x": 'number(part(value, ",", 0))',
                        "y": 'number(part(value, ",", 1))',
                    },
                },
                {"x": 3, "y": 4},
            ),
            ({"x": 3, "y": 4}, {"join": ["x", "y"], "into": "at", "with": ","}, {"at": "3,4"}),
            ({"x": 3, "y": 4}, {"join": ["x", "y"], "into": "x", "by": "x * 10 + y"}, {"x": 34}),
            ({"a": "7"}, {"retype": "a", "as": "integer"}, {"a": 7}),
            ({"a": 7}, {"retype": "a", "as": "text"}, {"a": "7"}),
            ({"a": "yes"}, {"retype": "a", "as": "truth"}, {"a": True}),
            ({"v": 70}, {"rescale": "v", "times": 0.01}, {"v": "0.70"}),
            ({"v": 0.333}, {"rescale": "v", "times": 100, "round": 0}, {"v": 33}),
            ({"l": [{"n": 3}, {"n": 1}]}, {"reorder": "l", "by": "n"}, {"l": [{"n": 1}, {"n": 3}]}),
            (
                {"m": {"a": 1, "b": 2, "c": 3}},
                {"reorder": "m", "keys": ["c", "a"]},
                {"m": {"c": 3, "a": 1, "b": 2}},
            ),
            ({"h": [0, 2]}, {"renumber": "h[*]", "old": "homes", "new": "later"}, {"h": [8, 7]}),
            ({"h": 1}, {"renumber": "h", "old": ["a", "b"], "new": ["b"]}, {"h": 0}),
            (
                {"l": [{"n": 3}, {"n": 1}]},
                {"drop": "l[*]", "where": "n > 2", "reason": "x"},
                {"l": [{"n": 1}]},
            ),
            ({"w": "Ashwater"}, {"set": "w", "by": "lookup(homes, 1)"}, {"w": "Eelgate"}),
        ):
            with self.subTest(str(row)):
                got = self.run_steps(document, row)
                self.assertEqual(got, wanted)
                self.assertEqual(list(got.get("m", {})), list(wanted.get("m", {})))  # type: ignore[attr-defined]

    def test_a_value_of_another_kind_for_some_rows(self) -> None:
        """Refused by columns as row by row, with a place."""
        row = {"set": "crew[*].pay", "by": "name", "where": "rank > 3"}
        data = ferry([(1, 9, "Ada", 0.5, 1, 1), (2, 1, "Bo", 2.0, 0, 0)], [])
        for column_threshold in (0, 1 << 40):
            convert = Converter(
                made("layout", [("1", "2", [row])]), column_threshold=column_threshold
            )
            with self.assertRaisesRegex(KindredError, "f: "):
                convert(data, INTEGER.parse("2"), name="f")

    def test_what_is_lost_is_told(self) -> None:
        """A change marked as losing something is a loss for each value that it changes."""
        self.run_steps({"a": [1.5, 2]}, {"set": "a[*]", "by": "floor(value)", "loses": "fractions"})
        self.assertEqual(texts(self.done.losses), ["f: a[0]: 1.5 is now 1: fractions"])
        self.run_steps({"a": "moss" * 10**5}, {"drop": "a", "reason": "old"})
        self.assertLess(len(self.done.losses[0].what), 200)
        format = made("json", [("1", "2", [{"retype": "a", "as": "integer", "loses": "x"}])])
        self.assertTrue(hops_of(format)[0].loses)

    def test_what_does_not_hold_stops_with_its_place(self) -> None:
        """Conditions by expression; tables that have no such value; rows that say nothing."""
        for row, kind, words in (
            (
                {"require": "a[*].n", "holds": "value < 3", "otherwise": "land some"},
                PreconditionUnmet,
                r"a\[1\]\.n",
            ),
            (
                {"map": "a[*].n", "table": {"1": 2}, "otherwise": "fail"},
                PreconditionUnmet,
                r"a\[1\]\.n: is 4",
            ),
            (
                {"renumber": "a[*].n", "old": ["x", "y"], "new": ["x"]},
                PreconditionUnmet,
                "is 1, which",
            ),
            ({"reorder": "a"}, UsageError, "`by`, to sort rows, or `keys`"),
            ({"set": "a", "by": "n +"}, UsageError, "cannot be read"),
            ({"retype": "a", "as": "colour"}, UsageError, "there is no kind"),
            ({"join": ["a", "b.c"], "into": "d"}, UsageError, "several records"),
            ({"map": "a", "table": "towns"}, UsageError, "no table 'towns'"),
        ):
            with self.subTest(str(row)), self.assertRaisesRegex(kind, words):
                self.run_steps({"a": [{"n": 1}, {"n": 4}]}, row)


class ByLayout(unittest.TestCase):
    def test_up_and_down_without_a_step(self) -> None:
        """What goes is a loss, what comes has its default; there is no way to what has none."""
        format = made("layout", [])
        data = ferry([(1, 2, "Ada", 0.5, 1, 1), (2, 9, "Bo", 2.0, 0, 0)], [(3, "fog")])
        singly = {"crew[0].glow", "crew[1].glow", "notes[0].wet"}
        for column_threshold, lost in ((0, {"crew[*].glow", "notes[*].wet"}), (1000, singly)):
            convert = Converter(format, column_threshold=column_threshold)
            up = convert(data, INTEGER.parse("3"), name="f")
            self.assertEqual({loss.field for loss in up.losses}, lost)
            read = decode(up.data, "layout", layout=Layout.parse(LAYOUT))
            self.assertEqual(read.get(("crew", 1, "home")), 1)
            self.assertEqual(read.get(("notes", 0, "mud")), 4)
            with self.assertRaisesRegex(KindredError, "no route leads back"):  # no default for glow
                convert(up.data, INTEGER.parse("1"), name="f")

    def test_fields_of_one_name_and_another_kind(self) -> None:
        """Widened, renumbered, in another encoding: by rows and by columns the values stay, or do not fit."""
        text = (
            "layout ferry\nlittle endian\nversions 1 to 2 from format\nformat u16\n"
            "coins u16 until 1\ncoins i64 since 2\nsky enum u8 { calm = 0, haar = 1 } until 1\n"
            "sky enum u8 { haar = 0, calm = 1 } since 2\ncrew table u16 {\nid u8 until 1\nid u32 since 2\n"
            "mood enum u8 { merry = 0, cross = 1 } until 1\nmood enum u8 { cross = 0, merry = 1 } since 2\n"
            "name text 6 encoding latin-1 until 1\nname text 8 since 2\nkey u8\n"
            "pay f32 until 1\npay f64 since 2\n}"
        )
        layout = Layout.parse(text)
        rows = b"".join(
            struct.pack(
                "<BB6sBf", n, n % 2, "K\xe4se".encode("latin-1"), n, n * -0.1 if n % 2 else n * 40
            )
            for n in range(9)
        )
        data = struct.pack("<HHBH", 1, 60_000, 1, 9) + rows
        table = made("layout", []).table

        class One(Format, frozen=True, dict=True):
            @property
            def layout(self) -> Layout | None:  # type: ignore[override]
                return layout

        format = One("test", table, NUMBER)
        wanted = decode(data, "layout", layout=layout).get(())
        for column_threshold in (0, 1000):
            convert = Converter(format, column_threshold=column_threshold)
            up = convert(data, INTEGER.parse("2"), name="f")
            told = decode(up.data, "layout", layout=layout).get(())
            self.assertEqual(told, {**wanted, "format": 2}, column_threshold)
            wider = [line for line in up.statement.lines if line.item.endswith("pay")]
            self.assertEqual({line.outcome for line in wider}, {"unchanged"})
            self.assertEqual(convert(up.data, INTEGER.parse("1"), name="f").data, data)
            large = decode(up.data, "layout", layout=layout)
            large.set(("crew", 3, "id"), 256)
            with self.assertRaisesRegex(KindredError, "256 does not fit"):
                convert(large.encode(), INTEGER.parse("1"), name="f")


class Checking(unittest.TestCase):
    """What card check finds of numbers that do not follow, and of steps that change nothing."""

    def test_a_place_that_does_not_follow(self) -> None:
        """A number that is where something begins in all samples, described as a plain number."""
        rows = ("v u8", "at u32", "name text u8", "mood u8 since 2 default 7", "body bytes to end")
        format = described("\n".join(("versions 1 to 2 from v", *rows)))

        def sample(name: bytes) -> bytes:
            return b"\1" + struct.pack("<IB", 6 + len(name), len(name)) + name + b"body"

        samples = [Sample(f"{n}.sav", sample(n)) for n in (b"Ada", b"Bo Reed")]
        report = check_format(format, samples)
        self.assertIn("at: it is where body begins", report)
        self.assertNotIn(
            "at: it is", check_format(format, samples[:1])
        )  # one alone may be by chance

    def test_a_step_without_changes_was_tried(self) -> None:
        """Only the number changes; a sample went through it all the same."""
        report = check_format(made("json", [("1", "2", [])]), [Sample("a", b'{"format": 1}')])
        self.assertNotIn("not tried", report)

    def test_a_route_counts_what_the_layout_loses(self) -> None:
        """Where a step leads, too: a field that goes by the layout alone is a loss of its hop."""
        text = "versions 1 to 2 from v\nv u8\nold u8 until 1\nkept u8 until 1\nnew u8 since 2"
        step = {"from": "1", "to": "2", "do": [{"rename": "kept", "to": "new"}]}
        self.assertEqual([hop.loses for hop in hops_of(described(text, step))], [True])
        text = text.replace("old u8 until 1\n", "")
        self.assertEqual([hop.loses for hop in hops_of(described(text, step))], [False])


def described(text: str, *steps: dict[str, Any]) -> Format:
    """Return a format that a layout describes."""
    table: dict[str, Any] = {"files": ["*"], "codec": "layout", "layout": "x", "version": {"key": "v"},
             "steps": list(steps), "builds": [{"builds": "*", "writes": "2", "reads": ["2"]}]}  # fmt: skip
    format = Format("x", msgspec.convert(table, FormatTable), NUMBER)
    format.__dict__["layout"] = Layout.parse(f"layout x\nlittle endian\n{text}")
    return format


def check_format(format: Format, samples: list[Sample]) -> str:
    """Return what card check says of a format."""
    return "\n".join(texts(FormatCheck(format, samples, 0).findings()))


class PathsAsText(unittest.TestCase):
    def test_documents_and_hooks_take_them(self) -> None:
        """A path written as text is a path, and not a row of letters; what is neither is refused."""
        for codec, data in (
            ("json", b'{"coins": 5}'),
            ("toml", b"coins = 5\n"),
            ("yaml", b"coins: 5\n"),
        ):
            document = decode(data, codec)
            document.set("coins", 9)
            document.set("ship.name", "Tern")
            again = decode(document.encode(), codec)
            self.assertEqual(again.get(()), {"coins": 9, "ship": {"name": "Tern"}})
            document.move("ship.name", "name")
            document.remove("coins")
            self.assertEqual(document.find("*"), [("ship",), ("name",)])
            with self.assertRaisesRegex(UsageError, "is no path"):
                document.set(5, 1)  # type: ignore[arg-type]
        document = decode(b'{"hp": 7, "crew": [{"pay": 1}, {"pay": 2}]}', "json")
        fields = Fields(document, Bookkeeper())
        fields.change("hp", 9, "a hook")
        fields.change("crew[*].pay", 3, "a hook")
        fields.move("hp", "body.hp")
        self.assertEqual(document.get(()), {"crew": [{"pay": 3}, {"pay": 3}], "body": {"hp": 9}})


class Optionals(unittest.TestCase):
    def test_an_optional_part_that_is_not_there(self) -> None:
        """Fields that came since need no place in it; where it is there, they get their default."""
        text = "versions 1 to 2 from v\nv u8\npart optional u8 {\n a u8\n b u8 since 2 default 7\n}"
        format = described(text)
        for data, after in ((b"\1\0", b"\2\0"), (b"\1\1\x05", b"\2\1\x05\7")):
            made = convert_bytes(data, format, INTEGER.parse("2"), name="f")
            self.assertEqual(made.data, after)

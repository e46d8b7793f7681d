"""Files that both sides changed: merged by what is in them, as edits of theirs, or refused."""

from __future__ import annotations

import contextlib
import io
import json
import os
import random
import sqlite3
import sys
import types
import unittest
import zipfile
from collections import Counter
from decimal import Decimal
from typing import Any
from unittest import mock

import msgspec

from kindred_ledger.errors import BooksUnbalanced, FormatError
from kindred_ledger.finding import Sides
from kindred_ledger.formats import ANY, Layout, LayoutDocument, Path, decode
from kindred_ledger.merge import (
    Choice,
    FileMerge,
    How,
    Policy,
    Rule,
    Three,
    document_files,
    files,
    merge_files,
    merge_values,
)
from kindred_ledger.merge.keys import Keys, frozen, same
from kindred_ledger.merge.lines import merge_lines
from kindred_ledger.statement import ALL_OTHERS
from tests.support import LONG, PlayCase, write

_JSON = b"""{
  // how the ferry is steered
  "speed": 1.10,
  "keys": {"jump": "space", "horn": "h"},
  "crew": [
    {"id": 1, "name": "Ada", "morale": 3},
    {"id": 2, "name": "Bo", "morale": 4},
    {"id": 5, "name": "Cy", "morale": 5}
  ],
  "routes": ["moss", "reed", "fen"]
}
"""
_INI = b"""; how the water moves
[tides]
spring = 2.40
neap = 1.10

[wind]
north = 3
east = 4
"""
_TOML = b"""title = "Mossferry" # the game
speed = 1.10

[keys]
jump = "space"
horn = "h"

[[crew]]
id = 1
name = "Ada"

[[crew]]
id = 2
name = "Bo"
"""
_YAML = b"""title: Mossferry
keys:
  jump: space  # up
  horn: h
crew:
  - id: 1
    name: Ada
  - id: 2
    name: Bo
"""
_XML = b"""<?xml version="1.0"?>
<!-- the table of servers -->
<servers>
  <server name="reed"><port>21</port><slots>8</slots></server>
  <server name="moss"><port>22</port><slots>9</slots></server>
  <limit>5</limit>
</servers>
"""
_CSV = b"id,name,depth\n1,Moss,3\n2,Reed,4\n3,Fen,5\n"
SAMPLES = {"json": _JSON, "ini": _INI, "toml": _TOML, "yaml": _YAML, "xml": _XML, "csv": _CSV}
_TRIES = 400 if LONG else 40


def merged(name: str, base: bytes | None, mine: bytes, theirs: bytes, **how: Any) -> FileMerge:
    return merge_files(Three(base, mine, theirs), How(name, **how))


def edited(data: bytes, kind: str, draw: random.Random) -> tuple[bytes, dict[Path, Any]]:
    """Change one to three values; return the bytes and what was set."""
    document = decode(data, kind)
    named = ("id", "name", "routes")
    leaves = [
        leaf
        for leaf in document.leaves()
        if str(leaf.path[-1]).lstrip("@") not in named and leaf.path[0] not in named
    ]
    done: dict[Path, Any] = {}
    for leaf in draw.sample(leaves, draw.randint(1, min(3, len(leaves)))):
        value = (
            str(draw.randint(100, 999)) if isinstance(leaf.value, str) else draw.randint(100, 999)
        )
        document.set(leaf.path, value)
        done[leaf.path] = value
    return document.encode(), done


def stirred(data: bytes, kind: str, draw: random.Random) -> bytes:
    """Set, remove and add some values and records."""
    document = decode(data, kind)
    for _ in range(draw.randint(1, 3)):
        leaf = draw.choice(list(document.leaves()))
        record = next(
            (leaf.path[:n] for n in range(len(leaf.path), 0, -1) if is_record(leaf.path[:n])), ()
        )
        what = draw.choice(("set", "remove", "key", "record"))
        with contextlib.suppress(FormatError):  # what such files cannot hold
            if what == "set":
                document.set(leaf.path, "7" if isinstance(leaf.value, str) else 7)
            elif what == "remove":
                document.remove(leaf.path)
            elif what == "key":
                document.set((*(record or leaf.path[:1]), f"new{draw.randint(0, 3)}"), "1")
            elif record:
                fields = document.get(record)
                if isinstance(fields, dict):
                    named = {
                        n: draw.randint(50, 60) for n in fields if n.lstrip("@") in ("id", "name")
                    }
                    text = {n: str(v) for n, v in named.items() if isinstance(fields[n], str)}
                    number = len(document.get(record[:-1]))
                    document.set((*record[:-1], number), {**fields, **named, **text})
    return document.encode()


def is_record(path: Path) -> bool:
    return isinstance(path[-1], int)


class EachKind(PlayCase):
    def test_what_comes_and_goes(self) -> None:
        """Values, keys and records set, removed and added on both sides: the file holds what they come to."""
        draw = random.Random(22)
        for kind, base in SAMPLES.items():
            ends: Counter[str] = Counter()
            for _ in range(_TRIES):
                sides = base, stirred(base, kind, draw), stirred(base, kind, draw)
                wanted = merge_values(*(decode(side, kind).get(()) for side in sides))
                try:
                    found = merged(f"a.{kind}", *sides)
                except (FormatError, BooksUnbalanced) as error:  # it is asked for then
                    ends[error.what] += 1
                    continue
                ends["conflict" if found.conflicts else "merged"] += 1
                self.assertEqual(bool(found.conflicts), bool(wanted.questions), sides)
                if not found.conflicts:
                    self.assertTrue(same(decode(found.data, kind).get(()), wanted.value), sides)
            self.assertGreater(ends["merged"], _TRIES // 3, (kind, ends))
            self.assertGreater(ends["merged"] + ends["conflict"], _TRIES * 8 // 10, (kind, ends))

    def test_edits_of_both_sides(self) -> None:
        """Each value is the one the table asks for; a conflict is named; my file alone changes nothing."""
        draw = random.Random(20)
        for kind, base in SAMPLES.items():
            conflicts = 0
            for number in range(_TRIES):
                mine, my_edits = edited(base, kind, draw)
                theirs, their_edits = edited(base, kind, draw)
                with self.subTest(kind=kind, number=number):
                    found = merged(f"a.{kind}", base, mine, theirs)
                    both = my_edits.keys() & their_edits.keys()
                    torn = {path for path in both if my_edits[path] != their_edits[path]}
                    self.assertEqual(len(found.conflicts), len(torn), found.conflicts)
                    conflicts += bool(torn)
                    if not torn:
                        result = decode(found.data, kind)
                        for leaf in decode(base, kind).leaves():
                            wanted = my_edits.get(leaf.path, their_edits.get(leaf.path, leaf.value))
                            self.assertEqual(result.get(leaf.path), wanted, leaf.name)
                        self.assertEqual(
                            len(list(result.leaves())), len(list(decode(base, kind).leaves()))
                        )
                        self.assertEqual(found.counts.applied, len(my_edits.keys() - both))
                        self.assertEqual(found.counts.taken, len(their_edits.keys() - both))
            self.assertTrue(0 < conflicts < _TRIES, kind)

    def test_one_side_alone(self) -> None:
        """What only they changed is theirs, byte for byte; what only I changed is mine by value."""
        draw = random.Random(21)
        for kind, base in SAMPLES.items():
            other, _ = edited(base, kind, draw)
            self.assertEqual(merged(f"a.{kind}", base, base, other).data, other)
            self.assertEqual(merged(f"a.{kind}", base, other, other).data, other)
            mine = merged(f"a.{kind}", base, other, base).data
            self.assertEqual(decode(mine, kind).get(()), decode(other, kind).get(()))

    def test_the_books(self) -> None:
        """A line for each field of mine and of the result, with who changed it; both sides counted."""
        mine = _JSON.replace(b'"space"', b'"w"').replace(
            b'"Cy", "morale": 5}', b'"Cy", "morale": 5},\n    {"id": 9, "name": "Mine"}'
        )
        theirs = _JSON.replace(b"1.10", b"1.5").replace(
            b'    {"id": 2, "name": "Bo", "morale": 4},\n', b""
        )
        found = merged("a.json", _JSON, mine, theirs)
        assert found.statement is not None
        lines = {line.item: (line.outcome.value, line.reason) for line in found.statement.lines}
        self.assertEqual(lines["keys.jump"], ("unchanged", "you changed it"))
        self.assertEqual(lines["speed"], ("changed", "they changed it"))
        self.assertEqual(lines["crew[id=2].name"], ("removed", "they removed it"))
        self.assertEqual(lines["crew[id=9].name"], ("unchanged", "you added it"))
        self.assertEqual(lines["keys.horn"], ("unchanged", ""))
        self.assertEqual(found.statement.counted_before, 17)
        self.assertEqual(found.statement.counted_after, 14)
        self.assertEqual(str(found.counts), "2 of your changes applied, 2 of theirs taken")

    def test_other_kinds(self) -> None:
        """Packs by their members and what is in them, binary values, databases; plain text by lines."""

        def pack(**files: bytes) -> bytes:
            held = io.BytesIO()
            with zipfile.ZipFile(held, "w") as made:
                for name, data in files.items():
                    made.writestr(name.replace("_", "."), data)
            return held.getvalue()

        base = pack(a_json=b'{"x": 1, "y": 1}', b_txt=b"one\n", c_bin=b"\0\1")
        mine = pack(a_json=b'{"x": 2, "y": 1}', b_txt=b"one\n", c_bin=b"\0\1", d_bin=b"\0mine")
        theirs = pack(a_json=b'{"x": 1, "y": 3}', b_txt=b"one\n", c_bin=b"\0\2")
        found = decode(merged("p.zip", base, mine, theirs).data, "zip")
        self.assertEqual(found.get(("a.json",)), {"x": 2, "y": 3})
        self.assertEqual((found.get(("c.bin",)), found.get(("d.bin",))), (b"\0\2", b"\0mine"))
        sides = [
            msgspec.msgpack.encode({"a": a, "b": [b, {"c": b""}]})
            for a, b in ((1, 1), (2, 1), (1, 5))
        ]
        made = merged("x.msgpack", *sides).data
        self.assertEqual(msgspec.msgpack.decode(made), {"a": 2, "b": [5, {"c": b""}]})
        coded = (
            bytes.fromhex(f"a26161{a:02x}6162a16163{b:02x}") for a, b in ((1, 1), (2, 1), (1, 5))
        )
        made = decode(merged("x.cbor", *coded).data, "cbor").get(())
        self.assertEqual(made, {"a": 2, "b": {"c": 5}})
        tables = (
            self.database(
                "update crew set hp = 9 where id = 2", "insert into crew values (7, 'Mine', 1)"
            ),
            self.database(
                "update crew set name = 'Ann' where id = 1", "delete from crew where id = 3"
            ),
        )
        write(self.folder, {"made.db": merged("x.sqlite", self.database(), *tables).data})
        with contextlib.closing(sqlite3.connect(self.path("made.db"))) as db:
            rows = db.execute("select * from crew").fetchall()
            self.assertEqual(rows, [(1, "Ann", 3), (2, "Bo", 9), (7, "Mine", 1)])
            self.assertEqual(db.execute("pragma integrity_check").fetchall(), [("ok",)])
        self.assertEqual(
            merged("notes", b"a\nb\n", b"a\nb\nm\n", b"t\na\nb\n").data, b"t\na\nb\nm\n"
        )

    def database(self, *changes: str) -> bytes:
        path = self.path("a.db")
        with contextlib.suppress(FileNotFoundError):
            os.remove(path)
        with contextlib.closing(sqlite3.connect(path)) as db:
            db.execute("create table crew (id integer primary key, name text, hp int)")
            db.execute("insert into crew values (1, 'Ada', 3), (2, 'Bo', 4), (3, 'Cy', 5)")
            for change in changes:
                db.execute(change)
            db.commit()
        with open(path, "rb") as file:
            return file.read()

    def test_binary_files(self) -> None:
        """By their layout: what is computed is nobody's edit; members by number where they never move."""
        layout = Layout.load(os.path.join(self.folder, "world.layout"))
        with open(os.path.join(self.folder, "server/worlds/northbog.bog"), "rb") as file:
            base = file.read()

        def read(data: bytes) -> LayoutDocument:
            return LayoutDocument(data, layout)

        def with_tile(number: int, at: int, value: int) -> bytes:
            document = read(base)
            document.set(("ground", number, "ids", at), value)
            return document.encode()

        ground = read(base).get(("ground",))
        one = next(at for at, tile in enumerate(ground) if tile and ground[at + 1])
        mine, theirs = with_tile(one, 1, 2), with_tile(one + 1, 7, 3)
        torn = merged("a.bog", base, mine, theirs, codec="layout", decode=read)
        self.assertEqual(len(torn.conflicts), 1)  # blocks side by side, which nothing names
        keys = {("ground",): "#", ("ground", ANY, "ids"): "#"}
        found = read(
            merged("a.bog", base, mine, theirs, codec="layout", decode=read, keys=keys).data
        )
        self.assertEqual(found.get(("ground", one, "ids", 1)), 2)
        self.assertEqual(found.get(("ground", one + 1, "ids", 7)), 3)
        before, after = (
            {leaf.path: leaf.value for leaf in d.leaves()} for d in (read(base), found)
        )
        changed = {
            path for path in before if before[path] != after[path] and not found.is_computed(path)
        }
        self.assertEqual(changed, {("ground", one, "ids", 1), ("ground", one + 1, "ids", 7)})

    def test_a_policy_answers(self) -> None:
        """By file and field; what it decided is counted, and only what it speaks of."""

        def rules(choice: Choice, *fields: Path, always: bool = False) -> Policy:
            return Policy((Rule(choice, lambda path: path == "a.ini", fields, always=always),))

        mine, theirs = (
            _INI.replace(b"2.40", b"3").replace(b"= 4", b"= 6"),
            _INI.replace(b"2.40", b"5").replace(b"1.10", b"7"),
        )
        self.assertEqual(len(merged("a.ini", _INI, mine, theirs).conflicts), 1)
        for choice, value in ((Choice.MINE, "3"), (Choice.THEIRS, "5")):
            found = merged("a.ini", _INI, mine, theirs, policy=rules(choice, ("tides",)))
            result = decode(found.data, "ini")
            self.assertEqual([result.get(("tides", k)) for k in ("spring", "neap")], [value, "7"])
            self.assertEqual(result.get(("wind", "east")), "6")
        found = merged(
            "a.ini", _INI, mine, theirs, policy=rules(Choice.MINE, ("tides",), always=True)
        )
        self.assertEqual(decode(found.data, "ini").get(("tides", "neap")), "1.10")
        self.assertEqual(found.counts.overridden, 2)


class Texts(unittest.TestCase):
    def test_what_comes_along(self) -> None:
        """My comments stay where the lines allow it; where they do not, each is told."""
        mine = _INI.replace(b"north = 3", b"; the cold one\nnorth = 3").replace(
            b"east = 4", b"east = 6"
        )
        theirs = _INI.replace(b"spring = 2.40", b"spring = 2.50")
        found = merged("a.ini", _INI, mine, theirs)
        self.assertEqual(found.lost, ())
        self.assertIn(b"; the cold one\nnorth = 3", found.data)
        torn = _INI.replace(b"north = 3", b"north = 5")
        mine = _INI.replace(
            b"neap = 1.10\n\n[wind]\n", b"neap = 1.10\n\n[wind]\n; the cold one\n"
        ).replace(b"east = 4", b"east = 6")
        found = merged("a.ini", _INI, mine, torn)
        self.assertEqual((found.lost, b"cold" in found.data), (("the cold one",), False))

    def test_ends_marks_and_encodings(self) -> None:
        """They are theirs'; a file that differs in them only changed nothing; what is a guess is refused."""
        base, mine = b"a\nb\nc\nd\n", b"a\nb\nc\nd\nm\n"
        theirs = b"\xef\xbb\xbft\r\na\r\nb\r\nc\r\nd"
        self.assertEqual(
            merge_lines(base, mine, theirs).data, b"\xef\xbb\xbft\r\na\r\nb\r\nc\r\nd\r\nm"
        )
        same = base.replace(b"\n", b"\r\n")
        self.assertEqual(merge_lines(base, same, theirs).data, theirs)
        with self.assertRaisesRegex(FormatError, "different encodings"):
            merge_lines("é\n".encode(), b"\xe9\n", "é\nx\n".encode())
        self.assertEqual(merge_lines(b"\xe9\n", b"\xe9\nm\n", b"t\n\xe9\n").data, b"t\n\xe9\nm\n")
        with self.assertRaisesRegex(FormatError, "no text"):
            merge_lines(b"\0", b"\0", b"\0")

    def test_lines_that_touch(self) -> None:
        """Changes with a common line between them come together; those without are a question."""
        self.assertEqual(merge_lines(b"a\nb\nc\n", b"A\nb\nc\n", b"a\nb\nC\n").data, b"A\nb\nC\n")
        (torn,) = merge_lines(b"a\nb\nc\n", b"A\nb\nc\n", b"a\nB\nc\n").conflicts
        self.assertEqual(
            (torn.where, torn.base, torn.mine, torn.theirs), ("line 1", "a\nb", "A\nb", "a\nB")
        )
        self.assertIn("line 1: both changed it: A b and a B", str(torn))

    def test_lines_that_are_decided(self) -> None:
        """Typed as `PATTERN:line N`, or by what the sides had; what gives way of mine is told as lost."""
        three = Three(b"a\nb\nc\nd\n", b"A\nb\nc\nmine\n", b"a\nb\nc\ntheirs\n")
        sides = Sides("d", "mine", "theirs")
        for choice, end in ((Choice.MINE, b"mine"), (Choice.THEIRS, b"theirs")):
            for rule in (
                Rule.read(choice, "*.txt:line 4"),
                Rule(choice, "a.txt".__eq__, ("line 4",), when=sides),
            ):
                found = merge_files(three, How("a.txt", policy=Policy((rule,))))
                self.assertEqual(found.data, b"A\nb\nc\n" + end + b"\n")
                lost = [each.field for each in found.losses("a.txt")]
                self.assertEqual(lost, ["line 4"] if choice is Choice.THEIRS else [])
                self.assertEqual(
                    (found.statement.counted_before, found.statement.counted_after), (4, 4)
                )
        stale = Rule(Choice.MINE, "a.txt".__eq__, ("line 4",), when=Sides("d", "else", "theirs"))
        for rule in (stale, Rule.read(Choice.MINE, "a.txt:line 3")):
            found = merge_files(three, How("a.txt", policy=Policy((rule,))))
            self.assertEqual([each.where for each in found.conflicts], ["line 4"])

    def test_large_texts(self) -> None:
        """Tens of thousands of lines, many of them equal, take no time without bound."""
        base = [b"%d" % (n % 7) if n % 3 else b"line %d" % n for n in range(60_000)]
        mine, theirs = list(base), list(base)
        mine[10], theirs[50_000] = b"mine", b"theirs"
        del theirs[20_000:20_100]
        found = merge_lines(*(b"\n".join(side) + b"\n" for side in (base, mine, theirs)))
        theirs[10] = b"mine"
        self.assertEqual(found.data, b"\n".join(theirs) + b"\n")


class Many(unittest.TestCase):
    def test_thousands_of_records(self) -> None:
        """Half of them new on either side, in front, between and behind: each in its place, once."""

        def table(*ids: int, **changed: int) -> bytes:
            rows = [{"id": id, "n": changed.get(f"n{id}", 0)} for id in ids]
            return b"[\n" + b",\n".join(map(msgspec.json.encode, rows)) + b"\n]\n"

        base = table(*range(0, 4000, 2))
        mine = table(*range(4000), n100=1)
        theirs = table(*range(10_000, 12_000), *range(0, 4000, 2), n200=2)
        found = merged("a.json", base, mine, theirs)
        rows = json.loads(found.data)
        wanted = [*range(10_000, 12_000), *range(4000)]
        self.assertEqual([row["id"] for row in rows], wanted)
        self.assertEqual({row["id"]: row["n"] for row in rows if row["n"]}, {100: 1, 200: 2})

    def test_a_key_that_would_stand_twice(self) -> None:
        """Both moved a key, each elsewhere: the lines would hold it twice, so they are not taken."""
        keys = [b'  "k%d": %d' % (n, n) for n in range(8)]

        def with_first_at(at: int, value: bytes = b'  "k0": 0') -> bytes:
            return b"{\n" + b",\n".join([*keys[1:at], value, *keys[at:]]) + b"\n}\n"

        found = merged("a.json", with_first_at(1), with_first_at(4, b'  "k0": 9'), with_first_at(6))
        self.assertEqual(found.data.count(b'"k0"'), 1)
        self.assertEqual(json.loads(found.data), {f"k{n}": n or 9 for n in range(8)})


class Names(unittest.TestCase):
    def test_a_record_with_another_name(self) -> None:
        """One side changed it, the other gave it a new name: a conflict, with the record it may be now."""

        def crew(**changed: Any) -> dict[str, Any]:
            hand = {"id": 7, "name": "Ada", "pay": 5, "home": "Reed"} | changed
            return {"crew": [hand, {"id": 8, "name": "Bo", "pay": 6, "home": "Fen"}]}

        keys = Keys({("crew",): "id"})
        for mine, theirs in ((crew(pay=9), crew(id=70)), (crew(id=70), crew(pay=9))):
            merged = merge_values(crew(), mine, theirs, keys=keys)
            self.assertEqual([each.where for each in merged.questions], ["crew[id=7]"])
            self.assertEqual(merged.alike, {"crew[id=7]": "crew[id=70]"})
        other = crew(id=70, name="Cass")
        self.assertEqual(merge_values(crew(), crew(pay=9), other, keys=keys).alike, {})

    def test_a_field_that_does_not_name(self) -> None:
        """It is said which, why, and on which side; a declared one as well as one that is called so."""
        base = [{"id": n, "x": n} for n in range(4)]
        twice = [*base[:3], {"id": 1, "x": 9}]
        theirs = [{"id": n, "x": n + (n == 2)} for n in range(4)]
        told = merge_values({"a": base}, {"a": twice}, {"a": theirs}).unnamed
        self.assertEqual(told, {"a": "id does not name them: 1 stands 2 times in yours"})
        keys = Keys({("a",): "key"})
        told = merge_values({"a": base}, {"a": theirs}, {"a": base[:2]}, keys=keys).unnamed
        self.assertEqual(told, {"a": "key does not name them: 4 of 4 have none in the base"})


class Counted(unittest.TestCase):
    """What nobody touched is counted, not listed, where there is much of it."""

    def sides(self, draw: random.Random, size: int) -> tuple[bytes, bytes, bytes]:
        """Return three texts with records that come, go and change on both sides, in other places."""
        rows = [
            {
                "id": n,
                "on": n % 2 == 0,
                "at": [n, {"deep": n}],
                "pay": draw.choice((1, "1", None, 1.5)),
            }
            for n in range(size)
        ]
        mine, theirs = json.loads(json.dumps(rows)), json.loads(json.dumps(rows))
        for n in draw.sample(range(0, size, 2), size // 10):
            mine[n]["pay"] = "mine"
        for n in draw.sample(range(1, size, 2), size // 10):
            theirs[n]["at"][1]["deep"] = -n
        del mine[size // 2], theirs[size // 3 | 1]
        mine.append({"id": size, "on": True, "at": [], "pay": {}})
        return tuple(json.dumps({"crew": side}).encode() for side in (rows, mine, theirs))  # type: ignore[return-value]

    def test_the_same_with_and_without(self) -> None:
        """Same bytes, same totals, same counts; the lines that are listed are those of what was touched."""
        for seed in range(12 if not LONG else 200):
            three = self.sides(random.Random(seed), 40)
            listed = merged("a.json", *three)
            with mock.patch("kindred_ledger.merge.document_files.MANY", 1):
                counted = merged("a.json", *three)
            self.assertEqual((counted.data, counted.counts), (listed.data, listed.counts))
            totals = [each.statement.totals() for each in (counted, listed)]
            self.assertEqual(*totals)
            sides = [
                (s.counted_before, s.counted_after) for s in (counted.statement, listed.statement)
            ]
            self.assertEqual(*sides)
            lines = {(x.outcome, x.item, x.reason) for x in listed.statement.lines}
            some = {(x.outcome, x.item, x.reason) for x in counted.statement.lines}
            self.assertEqual({x for x in some if x[1] != ALL_OTHERS} - lines, set())
            told = {x for x in lines if x[0] != "unchanged" or x[2]}
            self.assertEqual(told - some, set())

    def test_one_that_is_lost_is_missed(self) -> None:
        """What is only counted is counted on both sides: a field that went would not balance."""
        three = self.sides(random.Random(1), 2000)
        self.assertIn(ALL_OTHERS, [x.item for x in merged("a.json", *three).statement.lines])
        real = document_files._Fields.compare

        def careless(fields: Any, name: str, mine: Any, result: Any, unit: str = "") -> None:
            real(fields, name, mine, result, unit)
            fields.alike[1] -= name == ""

        with (
            mock.patch.object(document_files._Fields, "compare", careless),
            self.assertRaises(BooksUnbalanced),
        ):
            merged("a.json", *three)

    def test_equal_values(self) -> None:
        """As `frozen` tells it, also where Python's own comparison says something else."""
        nan = float("nan")
        values = [1, True, 1.0, Decimal("1.0"), "1", None, nan, [1], [True], [nan], b"1", "null",
                  {"a": 1, "b": nan}, {"b": nan, "a": 1}, {"a": True}, {"b": 2, "a": 1}]  # fmt: skip
        for one in values:
            for other in values:
                self.assertEqual(same(one, other), frozen(one) == frozen(other), (one, other))


class Kinds(unittest.TestCase):
    def test_a_kind_is_a_module_and_a_line(self) -> None:
        """The whole of it: a function `merge(three, how)` somewhere, and its codec in the table."""
        kind = types.ModuleType("kindred_ledger.merge.longest_files")

        def merge(three: Three, how: How) -> FileMerge:
            return FileMerge(max(three.mine, three.theirs, key=len))

        kind.merge = merge  # type: ignore[attr-defined]
        with (
            mock.patch.dict(sys.modules, {kind.__name__: kind}),
            mock.patch.dict(files._KINDS, {"text": ".longest_files"}),
        ):
            self.assertEqual(merged("notes", b"a\n", b"b\n", b"ccc\n").data, b"ccc\n")
        self.assertEqual(len(merged("notes", b"a\n", b"b\n", b"ccc\n").conflicts), 1)


class Refused(unittest.TestCase):
    def test_what_is_not_merged(self) -> None:
        """Unknown and damaged content, keys that stand twice: an error, and no bytes."""
        for name, sides in (
            ("a.bin", (b"\0a", b"\0b", b"\0c")),
            ("a.json", (b'{"a": 1}\0', b'{"a": 2}\0', b'{"a": 3}\0')),
        ):
            with self.assertRaises(FormatError):
                merged(name, *sides)
        twice = b'{"a": 1, "a": 2, "b": 1}'
        with self.assertRaises(FormatError):
            merged(
                "a.json",
                twice,
                twice.replace(b'"a": 1', b'"a": 9').replace(b'"a": 2', b'"a": 7'),
                twice.replace(b'"b": 1', b'"b": 5'),
                codec="json",
                decode=lambda data: decode(data, "json"),
            )

    def test_both_added_a_file(self) -> None:
        """What they have in common agrees, what one has alone stands, the rest is a question."""
        found = merged("a.json", None, b'{"a": 1, "b": 2}', b'{"a": 1, "c": 3}')
        self.assertEqual(decode(found.data, "json").get(()), {"a": 1, "b": 2, "c": 3})
        self.assertEqual(len(merged("a.json", None, b'{"a": 1}', b'{"a": 2}').conflicts), 1)
        self.assertEqual(len(merged("a", None, b"mine\n", b"theirs\n").conflicts), 1)

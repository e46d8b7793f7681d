"""Conversion: every field accounted for, nothing else disturbed, and no way around the books."""

from __future__ import annotations

import json
import os
import shutil
import unittest
from typing import Any
from unittest import mock

import msgspec
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from kindred_ledger.cards import Card, Format
from kindred_ledger.cards.models import FormatTable
from kindred_ledger.cards.steps import Editing, Step
from kindred_ledger.convert import (
    Hop,
    convert_bytes,
    convert_install,
    find_route,
    format_version,
    unread_by,
)
from kindred_ledger.errors import (
    BooksUnbalanced,
    DecisionNeeded,
    FormatError,
    KindredError,
    LossNotAllowed,
    NoRoute,
    PreconditionUnmet,
    UsageError,
    VersionUntold,
)
from kindred_ledger.formats import Path, decode
from kindred_ledger.places import FolderPlace, read_bytes, scan
from kindred_ledger.releases.shelving import shelve
from kindred_ledger.versions import INTEGER, NUMBER, Version
from tests.support import PlayCase, law, snapshot, write


def made(codec: str, *steps: list[dict[str, Any]], key: str = "format") -> Format:
    """Return a format with versions 1, 2, …, each step leading from one to the next."""
    import msgspec

    rows = [{"from": str(n), "to": str(n + 1), "do": do} for n, do in enumerate(steps, 1)]
    last = str(len(steps) + 1)
    table = {
        "files": ["*"], "codec": codec, "version": {"key": key}, "steps": rows,
        "builds": [{"builds": "*", "writes": last, "reads": [last]}],
    }  # fmt: skip
    return Format("test", msgspec.convert(table, FormatTable), NUMBER)


def run(data: bytes, *do: dict[str, Any], codec: str = "json", key: str = "format") -> Any:
    return convert_bytes(data, made(codec, list(do), key=key), INTEGER.parse("2"), name="a.sav")


# Random documents and random steps on the few names they share.
_names = st.sampled_from(("a", "b", "c", "d"))
_values = st.recursive(
    st.one_of(st.integers(-5, 99), st.booleans(), st.none(), st.sampled_from(("x", "rain"))),
    lambda inner: st.one_of(
        st.lists(inner, max_size=3), st.dictionaries(_names, inner, max_size=3)
    ),
    max_leaves=6,
)
_documents = st.dictionaries(_names, _values, max_size=4).map(lambda d: {"format": 1, **d})
_paths = st.one_of(
    _names, st.tuples(_names, _names).map(".".join), st.tuples(_names, _names).map("[*].".join)
)
_steps = st.one_of(
    st.builds(lambda p, n: {"rename": p, "to": n}, _paths, _names),
    st.builds(lambda p, q: {"move": p, "to": q}, _paths, st.tuples(_names, _names).map(".".join)),
    st.builds(lambda p: {"set": p, "value": 7}, _paths),
    st.builds(lambda p: {"default": p, "value": "new"}, _paths),
    st.builds(lambda p: {"map": p, "table": {"x": "y", "true": False, "5": 6}}, _paths),
    st.builds(lambda p, q: {"drop": p, "reason": "gone", "lossless": q}, _paths, st.booleans()),
)


class Books(unittest.TestCase):
    @law
    @given(_documents, st.lists(_steps, max_size=5))
    def test_the_books_of_any_conversion_balance(
        self, document: dict[str, Any], do: list[dict[str, Any]]
    ) -> None:
        """Any steps on any document: refused with a reason, or every leaf is accounted for."""
        data = json.dumps(document, indent=1).encode()
        try:
            done = run(data, *do)
        except BooksUnbalanced:
            raise
        except KindredError as error:
            self.assertIn("a.sav", str(error))
            return
        before, after = decode(data, "json"), decode(done.data, "json")
        self.assertEqual(done.statement.counted_before, len(list(before.leaves())))
        self.assertEqual(done.statement.counted_after, len(list(after.leaves())))
        self.assertEqual(after.get(("format",)), 2)
        dropped = {line.item for line in done.statement.lines if line.outcome == "removed"}
        self.assertLessEqual({loss.field for loss in done.losses}, dropped)
        for line in done.statement.lines:
            if line.outcome in ("removed", "added"):
                self.assertTrue(line.reason, line)

    @law
    @given(_documents, st.data())
    def test_a_field_that_a_step_forgets_is_caught(
        self, document: dict[str, Any], data: st.DataObject
    ) -> None:
        """A step that removes or adds a leaf without a word does not get through."""
        text = json.dumps(document).encode()
        leaves = [leaf.path for leaf in decode(text, "json").leaves() if leaf.path != ("format",)]
        path = data.draw(st.sampled_from([*leaves, ("unheard", "of")]))

        class Careless(Step, frozen=True):
            def run(self, fields: Editing) -> None:
                found = fields.document
                if found.find(path):
                    found.remove(path)
                else:
                    found.set(path, 1)
                    found.remove(("format",))

        with mock.patch("kindred_ledger.convert.converter.read_step", return_value=Careless()):
            parent = path[:-1]
            siblings = [p for p in leaves if p[: len(parent)] == parent]
            if path in leaves and isinstance(path[-1], int) and path[-1] < len(siblings) - 1:
                return  # the later items take its index: told as changed, not lost
            with self.assertRaises(BooksUnbalanced):
                run(text, {"set": "a", "value": 1})

    def test_what_is_written_is_read_again(self) -> None:
        """An encoder that writes something else than was meant is caught, in Python as in steps."""
        from kindred_ledger.formats.json_text import JsonDocument

        whole = JsonDocument.encode_unread

        def wrong(document: Any) -> bytes:
            return whole(document).replace(b"7", b"8")

        with mock.patch.object(JsonDocument, "encode_unread", wrong):
            with self.assertRaisesRegex(BooksUnbalanced, "does not read back"):
                run(b'{"format": 1, "a": 1}', {"set": "a", "value": 7})
            document = decode(b'{"a": 1}', "json")
            document.set(("a",), 7)
            with self.assertRaisesRegex(FormatError, "reads back as something else"):
                document.encode()

    def test_a_value_that_only_moved_stays_what_it_was(self) -> None:
        """A codec that moves another value than the one that was meant is caught."""
        from kindred_ledger.formats.json_text import JsonDocument

        def wrong(document: Any, path: Path, to: Path) -> None:
            move(document, path, to)
            document.set(to, "garbage")

        move = JsonDocument.move
        with (
            mock.patch.object(JsonDocument, "move", wrong),
            self.assertRaisesRegex(BooksUnbalanced, "no step changed it"),
        ):
            run(b'{"format": 1, "a": 1}', {"move": "a", "to": "b"})


class Steps(unittest.TestCase):
    def test_each_verb(self) -> None:
        """What it makes of a document, and the lines it leaves in the books."""
        for do, before, after, line in (
            ({"rename": "a", "to": "b"}, {"a": 1}, {"b": 1}, ("changed", "a", "b")),
            ({"rename": "r[*].a", "to": "b"}, {"r": [{"a": 1}]}, {"r": [{"b": 1}]},
             ("changed", "r[0].a", "r[0].b")),
            ({"move": "a", "to": "s.t"}, {"a": 1}, {"s": {"t": 1}}, ("changed", "a", "s.t")),
            ({"set": "a", "value": 2}, {"a": 1}, {"a": 2}, ("changed", "a", "")),
            ({"set": "n", "value": 2}, {}, {"n": 2}, ("added", "n", "")),
            ({"default": "n", "value": 2}, {"n": 1}, {"n": 1}, ("unchanged", "n", "")),
            ({"default": "r[*].n", "value": 2}, {"r": [{"n": 1}, {}]}, {"r": [{"n": 1}, {"n": 2}]},
             ("added", "r[1].n", "")),
            ({"map": "w", "table": {"haar": "fog"}}, {"w": "haar"}, {"w": "fog"}, ("changed", "w", "")),
            ({"map": "w", "table": {"true": 1}}, {"w": True}, {"w": 1}, ("changed", "w", "")),
            ({"drop": "a", "reason": "x"}, {"a": 1}, {}, ("removed", "a", "")),
            ({"drop": "a", "reason": "x"}, {"a": {"b": 1}}, {}, ("removed", "a.b", "")),
        ):  # fmt: skip
            done = run(json.dumps({"format": 1, **before}).encode(), do)
            self.assertEqual(json.loads(done.data), {"format": 2, **after}, do)
            lines = [(x.outcome, x.item, x.became) for x in done.statement.lines]
            self.assertIn(line, lines, do)

    def test_requirements(self) -> None:
        """One that does not hold says where, what is there, and what to do in the game."""
        otherwise = "Moor at a quay and save again."
        for require, value in (
            ({"equals": True}, False), ({"one_of": [1, 2]}, 3), ({"at_least": 5}, 4),
            ({"at_most": 0.5}, 0.75), ({"exists": False}, 1), ({"equals": 1}, True),
        ):  # fmt: skip
            data = json.dumps({"format": 1, "ship": {"x": value}}).encode()
            with self.assertRaisesRegex(PreconditionUnmet, "ship.x") as caught:
                run(data, {"require": "ship.x", "otherwise": otherwise, **require})
            self.assertIn(otherwise, str(caught.exception))
            self.assertIn("a.sav", str(caught.exception))
        with self.assertRaisesRegex(PreconditionUnmet, "is not there"):
            run(b'{"format": 1}', {"require": "ship", "otherwise": otherwise})
        run(b'{"format": 1, "n": 0.50}', {"require": "n", "otherwise": "x", "equals": 0.5})

    def test_a_strict_map(self) -> None:
        """A value that the table does not have fails, where the card says so."""
        do = {"map": "w", "table": {"haar": "fog"}, "otherwise": "fail"}
        with self.assertRaisesRegex(PreconditionUnmet, "hail, which the card's table"):
            run(b'{"format": 1, "w": "hail"}', do)

    def test_what_no_step_touches_is_carried_verbatim(self) -> None:
        """Number text, comments, order, line ends and marks survive a conversion."""
        data = b'\xef\xbb\xbf{\r\n  "format": 1, // mine\r\n  "x": 1.10,\r\n  "old": -0\r\n}\r\n'
        done = run(data, {"rename": "old", "to": "new"})
        self.assertEqual(
            done.data, data.replace(b'"format": 1', b'"format": 2').replace(b"old", b"new")
        )
        ini = b"; top\r\n[General]\r\nFormat = 1\r\nx=1.10 \r\n"
        done = run(ini, {"set": "General.y", "value": 2}, codec="ini", key="General.Format")
        self.assertEqual(done.data, ini.replace(b"Format = 1", b"Format = 2") + b"y=2\r\n")

    def test_a_move_onto_something_is_refused(self) -> None:
        """Two values never end up as one."""
        with self.assertRaisesRegex(FormatError, "there already"):
            run(b'{"format": 1, "a": 1, "b": 2}', {"rename": "a", "to": "b"})


class Routes(unittest.TestCase):
    def test_lossless_before_short(self) -> None:
        """Two hops without loss are better than one with; none is told with what can be reached."""
        v = [INTEGER.parse(str(n)) for n in range(6)]
        hops = [Hop(v[1], v[3], True), Hop(v[1], v[2]), Hop(v[2], v[3]), Hop(v[3], v[4], True)]
        self.assertEqual([h.target for h in find_route(hops, v[1], v[3])], [v[2], v[3]])
        self.assertEqual(len(find_route(hops, v[1], v[4])), 3)
        self.assertEqual(find_route(hops, v[2], v[2]), ())
        with self.assertRaisesRegex(
            NoRoute, "(?s)no route leads from format 1 to 5.*reach 2, 3, 4"
        ):
            find_route(hops, v[1], v[5])
        with self.assertRaisesRegex(NoRoute, "(?s)leads back.*no steps from 4"):
            find_route(hops, v[4], v[1])

    @law
    @given(st.lists(st.tuples(st.integers(1, 6), st.integers(1, 6), st.booleans()), max_size=14))
    def test_the_best_route_is_found(self, drawn: list[tuple[int, int, bool]]) -> None:
        """No other chain of hops loses less, or as little in fewer hops."""
        versions = {n: INTEGER.parse(str(n)) for n in range(1, 7)}
        hops = [Hop(versions[a], versions[b], loses) for a, b, loses in drawn]
        best: dict[int, tuple[int, int]] = {1: (0, 0)}
        for _ in range(6):  # Bellman and Ford's way, to have another one
            for a, b, loses in drawn:
                if a in best:
                    cost = best[a][0] + loses, best[a][1] + 1
                    best[b] = min(best.get(b, cost), cost)
        for n in range(2, 7):
            try:
                route = find_route(hops, versions[1], versions[n])
            except NoRoute:
                self.assertNotIn(n, best)
                continue
            self.assertEqual((sum(h.loses for h in route), len(route)), best[n])
            self.assertEqual([h.source for h in route[1:]], [h.target for h in route[:-1]])


class Files(PlayCase):
    def test_damaged_and_unknown_files(self) -> None:
        """Cut short, another number, no number, no text: each refused with its place."""
        voyage = self.card.formats["voyage"]
        data = read_bytes(self.install().place, "user/saves/midwinter.voyage")
        for bad, words in (
            (data[: len(data) // 2], "cut short"),
            (data.replace(b'"format": 4', b'"format": 44'), "does not know"),
            (data.replace(b'"format": 4', b'"format": "x"'), "no format version"),
            (data.replace(b'"format": 4,', b""), "does not say which format"),
            (b"\x00\x01\x02", "expected a value"),
        ):
            with self.assertRaisesRegex(FormatError, words):
                format_version(bad, voyage)

    def test_an_install_is_converted_and_the_game_agrees(self) -> None:
        """2.0 loads every voyage; each file's books are counted; the ledger has what it was."""
        install = self.install(version="2.0")
        ledger = self.ledger()
        change = convert_install(install, ledger=ledger)
        self.assertEqual(change.conflicts, ())
        self.assertTrue(all(s.counted_before is not None for s in change.statements))
        with self.assertRaises(LossNotAllowed):
            change.apply(ledger)
        change.apply(ledger, allow_loss=True)
        for path in scan(install.place).files:
            if path.endswith(".voyage"):
                voyage = json.loads(read_bytes(install.place, path))
                self.assertEqual(voyage["format"], 5)
                self.assertIn("peat", voyage["ship"]["stores"])
        again = convert_install(install, ledger=ledger)
        self.assertEqual(again.actions, ())

    def test_there_and_back(self) -> None:
        """Forward and back again: all but what the forward step lost is as it was."""
        voyage = self.card.formats["voyage"]
        data = read_bytes(self.install().place, "user/saves/midwinter.voyage")
        there = convert_bytes(data, voyage, INTEGER.parse("5"), name="m")
        back = convert_bytes(there.data, voyage, INTEGER.parse("4"), name="m")
        old, new = json.loads(data), json.loads(back.data)
        lost = {loss.field.partition(".")[2] for loss in there.losses} | {"lantern_glow"}
        for name in lost:
            old["ship"].pop(name, None)
        old["scratch"] = new["scratch"] = {}
        self.assertEqual(new, old)

    def test_a_file_that_cannot_be_converted_is_a_conflict(self) -> None:
        """The ship at sea is a question to the person; the others wait, unless it may be left."""
        path = self.path("mossferry", "userdata", "saves", "midwinter.voyage")
        with open(path, "rb") as file:
            data = file.read()
        with open(path, "wb") as file:
            file.write(data.replace(b'"moored": true', b'"moored": false'))
        before = snapshot(self.path("mossferry"))
        ledger = self.ledger()
        install = self.install(version="2.0")
        change = convert_install(install, ledger=ledger)
        with self.assertRaisesRegex(DecisionNeeded, "(?s)midwinter.*moor at a quay.*leave=PATTERN"):
            change.apply(ledger, allow_loss=True)
        self.assertEqual(snapshot(self.path("mossferry")), before)
        leaving = convert_install(install, ledger=ledger, leave=lambda p: "midwinter" in p)
        leaving.apply(ledger, allow_loss=True)
        self.assertTrue(any("midwinter.voyage: it stays" in str(note) for note in leaving.notes))
        unread = unread_by(
            self.card, install.place, scan(install.place), build=Version.parse("2.0")
        )
        self.assertEqual(unread, {"voyage format 4": ["user/saves/midwinter.voyage"]})

    def test_only_some_files(self) -> None:
        """By path; to another build than the install's; never to one without a route."""
        ledger = self.ledger()
        some = convert_install(
            self.install(), Version.parse("2.0"), ledger=ledger, only=lambda p: p.endswith(".ini")
        )
        self.assertEqual([a.path for a in some.actions], ["user/settings.ini"])
        with open(self.path("mossferry.card.toml"), encoding="utf-8") as file:
            text = file.read().replace('from = "4"\nto = "3"', 'from = "4"\nto = "2"')
        write(self.folder, {"other.card.toml": text.encode()})
        install = Card.load(self.path("other.card.toml")).open(self.path("mossferry"))
        none = convert_install(install, Version.parse("1.2"), ledger=ledger)
        self.assertEqual(len(none.conflicts), 3)
        self.assertIn("no route leads back", none.conflicts[0].what)
        self.assertEqual(os.listdir(self.path("ledger", "work")), [])


class Untold(PlayCase):
    """Files that do not say which format version they are in."""

    SETTINGS = "userdata/settings.ini"  # format 1 of the demo has no version key, format 2 has one

    def settings(self, name: str = "mossferry") -> bytes:
        with open(self.path(name, *self.SETTINGS.split("/")), "rb") as file:
            return file.read()

    def lose_the_key(self, name: str) -> bytes:
        """Take the version key out of a settings file, as a title without one has it."""
        data = b"".join(
            line for line in self.settings(name).splitlines(True) if b"SettingsFormat" not in line
        )
        write(self.path(name), {self.SETTINGS: data})
        return data

    def test_a_newer_builds_file_without_a_version_is_not_taken_for_the_oldest(self) -> None:
        """The build would have written another version than the card's default: that is a question."""
        data = self.lose_the_key("second/mossferry")
        install, kept = self.install("second/mossferry"), self.ledger()
        change = convert_install(install, ledger=kept)
        told = {conflict.where: conflict.what for conflict in change.conflicts}
        self.assertEqual(list(told), ["user/settings.ini"])
        self.assertIn("the build would have written 2; the card takes such files for 1", str(told))
        with self.assertRaises(DecisionNeeded):
            change.apply(kept, allow_loss=True)
        self.assertEqual(self.settings("second/mossferry"), data)

    def test_who_says_it_is_believed(self) -> None:
        """`source=` or --from: then it is converted from that version, or is in the right one."""
        self.lose_the_key("second/mossferry")
        install, kept = self.install("second/mossferry"), self.ledger()
        for source, changed in (("1", 1), ("2", 0)):
            change = convert_install(install, ledger=kept, source=source)
            self.assertEqual((len(change.actions), change.conflicts), (changed, ()))
        args = ("convert", "second/mossferry", "--dry-run")
        self.assertIn("settings.ini", str(self.kindred(*args, status=3)))
        self.kindred(*args, "--from-format", "2")

    def test_the_build_it_was_first_kept_under_tells_it(self) -> None:
        """After an update the install's build is another one; the entry from before it knows better."""
        kept = self.ledger()
        before = self.lose_the_key("mossferry")
        kept.backup(self.install())
        with open(self.path("mossferry", "version.txt"), "w") as file:
            file.write("Mossferry build 2.0\n")
        os.remove(self.path("mossferry", "build.json"))
        install = self.install()
        self.assertEqual(install.sure_version.text, "2.0")
        change = convert_install(install, ledger=kept)
        self.assertEqual(change.conflicts, ())
        self.assertIn("settings 1 is now 2", {a.reason for a in change.actions})
        alone = convert_install(install, ledger=self.ledger("other"))
        self.assertEqual([c.where for c in alone.conflicts], ["user/settings.ini"])
        self.assertEqual(self.settings(), before)

    def test_a_pack_without_a_version_is_a_question_too(self) -> None:
        """A mod that says no pack version, in an install whose build writes another than the default."""
        shutil.copytree(self.path("mossferry", "mods"), self.path("second", "mossferry", "mods"))
        install, kept = self.install("second/mossferry"), self.ledger()
        newer = install.card.build("2.1")
        change = convert_install(replace(install, chosen=newer), newer, ledger=kept)
        self.assertEqual([c.where for c in change.conflicts], ["program/mods/reedlight"])
        self.assertIn("the build would have written 2", change.conflicts[0].what)

    def test_what_the_release_ships_is_left_alone(self) -> None:
        """A file just as the release of this build has it is as that build wants it."""
        kept = self.ledger()
        release = self.path("release")
        write(
            release,
            {
                "version.txt": b"2.0",
                "mossferry.py": b"",
                "data/preset.ini": b"[Sound]\nVolume=80\n",
            },
        )
        place = self.path("plain")
        write(
            place,
            {
                "version.txt": b"2.0",
                "mossferry.py": b"",
                "portable.txt": b"",
                "data/preset.ini": b"[Sound]\nVolume=80\n",
            },
        )
        text = open(self.path("mossferry.card.toml"), encoding="utf-8").read()  # noqa: SIM115
        text = text.replace('files = ["/user/settings.ini"]', 'files = ["*.ini"]')
        with open(self.path("mossferry.card.toml"), "w", encoding="utf-8") as file:
            file.write(text)
        card = Card.load(self.path("mossferry.card.toml"))
        shelve([FolderPlace(release)], card, ledger=kept, version="2.0")
        install = card.open(place, version="2.0")
        change = convert_install(install, ledger=kept)
        self.assertEqual((change.actions, change.conflicts), ((), ()))
        self.assertIn("as the release of this build has it", str(list(map(str, change.notes))))

    def test_signs(self) -> None:
        """What a file has or lacks tells its version, and no version key is written where none is."""
        format = Format("test", msgspec.convert({
            "files": ["*"], "codec": "json",
            "steps": [{"from": "1", "to": "2", "do": [{"rename": "a", "to": "b"}]}],
            "version": {"signs": {"1": {"has": "a"}, "2": {"has": "b", "lacks": "c"}}},
            "builds": [{"builds": "*", "writes": "2", "reads": ["2"]}],
        }, FormatTable), NUMBER)  # fmt: skip
        done = convert_bytes(b'{"a": 7}', format, INTEGER.parse("2"), name="f")
        self.assertEqual((done.data, done.source.text), (b'{"b": 7}', "1"))
        for data in (b'{"a": 7, "b": 1}', b'{"z": 1}', b"{}"):
            with self.assertRaises(VersionUntold):
                convert_bytes(data, format, INTEGER.parse("2"), name="f")

    def test_values_of_a_key(self) -> None:
        """A key that names an engine, say: its values mean versions, and are written as such."""
        format = Format("test", msgspec.convert({
            "files": ["*"], "codec": "json",
            "steps": [{"from": "1", "to": "2", "do": [{"rename": "a", "to": "b"}]}],
            "version": {"key": "engine", "values": {"Peat": "1", "Haar": "2", "Haar II": "2"}},
            "builds": [{"builds": "*", "writes": "2", "reads": ["2"]}],
        }, FormatTable), NUMBER)  # fmt: skip
        done = convert_bytes(b'{"engine": "Peat", "a": 7}', format, INTEGER.parse("2"), name="f")
        self.assertEqual((done.data, done.source.text), (b'{"engine": "Haar", "b": 7}', "1"))
        document = format.decode(done.data)
        told = format.evidence_of(document, INTEGER.parse("2"))
        self.assertEqual(told, "engine = Haar, which means 2")
        with self.assertRaisesRegex(
            FormatError, "engine is 'Moss', which the card gives no version"
        ):
            convert_bytes(b'{"engine": "Moss"}', format, INTEGER.parse("2"), name="f")
        with self.assertRaisesRegex(UsageError, "does not say what engine is in format 3"):
            format.text_of(INTEGER.parse("3"))

    def test_signs_by_kind_and_name(self) -> None:
        """The kind of a value, or what the file is called; a file keeps no name that says another version."""
        format = Format("test", msgspec.convert({
            "files": ["*"], "codec": "json",
            "steps": [{"from": "1", "to": "2", "do": []}, {"from": "2", "to": "3", "do": []}],
            "version": {"signs": {"1": {"has": "a", "kind": "text", "name": "*.json"},
                                  "2": {"has": "a", "kind": "number"}, "3": {"name": "*.v3"}}},
            "builds": [{"builds": "*", "writes": "2", "reads": ["2"]}],
        }, FormatTable), NUMBER)  # fmt: skip
        for data, name, version in (
            (b'{"a": "x"}', "saves/f.json", "1"), (b'{"a": 1.5}', "f", "2"), (b"{}", "C:\\x\\f.v3", "3"),
        ):  # fmt: skip
            self.assertEqual(str(format_version(data, format, name=name)), version)
        for data, name in ((b'{"a": "x"}', "f"), (b'{"a": true}', "f.json"), (b'{"a": 1}', "f.v3")):
            with self.assertRaises(VersionUntold):
                format_version(data, format, name=name)
        told = format.evidence_of(format.decode(b'{"a": 1}'), INTEGER.parse("2"), "f")
        self.assertEqual(told, "there is a, a number, which means 2")
        with self.assertRaisesRegex(KindredError, "would say that it is in format 3"):
            convert_bytes(b'{"b": 1}', format, "2", name="f.v3", source="2")

    def test_signs_by_expression(self) -> None:
        """A scale told by its values: what holds in none, or in two, is a question."""
        format = Format("test", msgspec.convert({
            "files": ["*"], "codec": "json",
            "steps": [{"from": "1", "to": "2", "do": [{"rescale": "volume", "times": 0.01}]}],
            "version": {"signs": {"1": {"holds": "volume > 1"},
                                  "2": {"holds": "volume < 1 or file.scale == 1"}}},
            "builds": [{"builds": "*", "writes": "2", "reads": ["2"]}],
        }, FormatTable), NUMBER)  # fmt: skip
        done = convert_bytes(b'{"volume": 80}', format, INTEGER.parse("2"), name="f")
        self.assertEqual((done.data, done.source.text), (b'{"volume": 0.80}', "1"))
        already = convert_bytes(b'{"volume": 0.5}', format, INTEGER.parse("2"), name="f")
        self.assertEqual((already.data, already.source.text), (b'{"volume": 0.5}', "2"))
        for data in (b'{"volume": 1}', b'{"volume": "loud"}', b'{"volume": 80, "scale": 1}', b"{}"):
            with self.assertRaises(VersionUntold):
                convert_bytes(data, format, INTEGER.parse("2"), name="f")
        with self.assertRaisesRegex(KindredError, "would say that it is in format 1"):
            convert_bytes(b'{"volume": 800}', format, INTEGER.parse("2"), name="f")

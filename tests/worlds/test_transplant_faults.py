"""Long games with damage, cards that are wrong, and a machine that fails: refused or told, all or nothing."""

from __future__ import annotations

import contextlib
import json
import os
import random
import shutil
import signal
import sqlite3
import struct
import subprocess
import sys
import time
import unittest
from collections.abc import Sequence
from typing import Any

import cbor2
import msgpack

import kindred_ledger as kl
from kindred_ledger.demo.fleets_files import play, release_files
from tests.support import LONG, ROOT, Case, files_in, kindred, write
from tests.worlds.voyages import CARD, Game, VoyageCase, add, mine

_POINTS = 100 if LONG else 10
_CHANGES = os.path.join(ROOT, "tests", "changes")
_DEMO = os.path.join(ROOT, "src", "kindred_ledger", "demo")


class FaultCase(VoyageCase):
    def setUp(self) -> None:
        super().setUp()
        _, self.old, self.fresh = self.games(4, boats=5)

    def plan(self, **options: Any) -> kl.TransplantPlan:
        self.put("old/long", self.old)
        self.put("new/fresh", self.fresh)
        return kl.transplant(
            self.installed("old"), self.installed("new"), ledger=self.ledger(), **options
        )

    def refused(self, code: str, word: str) -> None:
        """Check that a conflict stops it, whatever is allowed, and says what to do."""
        change = self.plan().change
        told = [each for each in change.conflicts if each.code == code]
        self.assertTrue(told, change.conflicts)
        self.assertIn(word, told[0].what)
        self.assertTrue(told[0].remedy)
        before = files_in(self.path("new"))
        with self.assertRaises(kl.DecisionNeeded):
            change.apply(self.ledger(), allow_loss=True)
        self.assertEqual(files_in(self.path("new")), before)

    def raises(self, kind: type[kl.KindredError], word: str, **options: Any) -> None:
        with self.assertRaises(kind) as raised:
            self.plan(**options)
        text = f"{raised.exception.where} {raised.exception.what} {raised.exception.remedy}"
        self.assertIn(word, text)

    def lost(self, plan: kl.TransplantPlan) -> dict[str, list[str]]:
        out: dict[str, list[str]] = {}
        for each in plan.change.findings:
            out.setdefault(each.code, []).append(each.what)
        return out


class Links(FaultCase):
    def test_links_that_led_nowhere_already(self) -> None:
        """They are told and lead nowhere still; what cannot be without one waits."""
        mine_ = [row for row in self.old["boats"] if row["who"] == self.old["player"]]
        mine_[0]["sister"] = 99_999
        chest = next(row for row in self.old["chests"] if row["name"].startswith("mine"))
        chest["holder"] = 88_888
        plan = self.plan(choices=kl.TransplantChoices(also=(f"chests:{chest['name']}",)))
        told = self.lost(plan)
        self.assertTrue(
            any("sister" in what and "already" in what for what in told["link-nowhere"])
        )
        self.assertTrue(
            any(chest["name"] in what and "nowhere" in what for what in told["cannot-be-set-in"])
        )
        plan.change.apply(self.ledger(), allow_loss=True)
        there = self.got("new/long")
        boat = next(row for row in there["boats"] if row["name"] == mine_[0]["name"])
        self.assertEqual(boat["sister"], 0)
        mine(there)

    def test_links_of_the_new_game_that_lead_nowhere_lead_to_nothing_of_mine(self) -> None:
        """Ids that only a link names are not given to what is set in."""
        add(self.fresh, random.Random(1), who=self.fresh["player"] % 3 + 1, boats=1, word="odd")
        boat = self.fresh["boats"][-1]
        boat["sister"] = self.fresh["next"] + 1
        plan = self.plan()
        told = [f for f in plan.change.findings if f.code == "link-nowhere" and "sister" in f.what]
        self.assertTrue(told and told[0].remedy)
        plan.change.apply(self.ledger(), allow_loss=True)
        there = self.got("new/long")
        self.assertNotIn(boat["sister"], [row["id"] for row in there["boats"] + there["hands"]])
        self.assertEqual(
            next(r for r in there["boats"] if r["id"] == boat["id"])["sister"], boat["sister"]
        )

    def test_an_id_of_two_kinds(self) -> None:
        """Where nothing tells which kind is meant, and both have the id, it is asked."""
        self.rewrite_card(
            (', by = "of", kinds = { b = "boats", h = "hands" }', ""),
            ('id = "id"\nspace = "all"\nnext = "next"\nname = "name"\nmine = "who == player"\nwith',
             'id = "id"\nname = "name"\nmine = "who == player"\nwith'),
        )  # fmt: skip
        hand = next(row for row in self.old["hands"] if row["who"] == self.old["player"])
        hand["id"] = next(c["holder"] for c in self.old["chests"] if c["of"] == "b")
        for row in self.old["hands"]:
            row["friend"] = None
        self.refused("link-ambiguous", "boats and hands")

    def test_ids_that_two_things_have(self) -> None:
        for game in ("old", "fresh"):
            with self.subTest(game):
                super().setUp()
                some: Game = getattr(self, game)
                some["houses"].append({"id": 1, "name": "another"})
                self.refused("id-twice", "another")

    def test_names_that_two_ports_have_are_no_match(self) -> None:
        """On whichever side: a link to one of them leads nowhere, which is told."""
        for double in ("old", "fresh"):
            with self.subTest(double):
                FaultCase.setUp(self)
                ports = getattr(self, double)["world"]["ports"]
                ports[1]["name"] = ports[0]["name"]
                used = next(p for p in self.old["world"]["ports"] if p["name"] == ports[0]["name"])
                for boat in self.old["boats"]:
                    boat["port"] = used["id"]
                told = self.lost(self.plan(name=f"of-{double}"))["link-left"]
                self.assertTrue(any("called alike" in what for what in told), told)

    def test_text_ids_that_the_new_game_has(self) -> None:
        """Nobody knows how the game makes such; so they stay, or it is asked."""
        key = next(row["key"] for row in self.old["tours"] if row["who"] == self.old["player"])
        other = next(
            house["id"] for house in self.fresh["houses"] if house["id"] != self.fresh["player"]
        )
        self.fresh["tours"] = [{"key": key, "who": other, "name": "t", "legs": [], "after": None}]
        self.refused("id-taken", "mine tour")


class Surroundings(FaultCase):
    def test_a_game_that_is_not_fresh(self) -> None:
        self.fresh["day"] = 2
        self.refused("not-fresh", "day == 1")
        plan = self.plan(choices=kl.TransplantChoices(played=True))
        self.assertEqual(plan.change.conflicts, ())

    def test_builds_that_no_rules_are_for(self) -> None:
        """Another build, or the other direction: told what the rules were written for."""
        write(self.folder, {"new/version.txt": b"build 1.5\n"})
        self.raises(kl.UsageError, "from reach <2 to >=2")
        write(self.folder, {"new/version.txt": b"nothing\n"})
        with self.assertRaises(kl.DecisionNeeded):
            self.plan()

    def test_more_things_than_ids(self) -> None:
        self.rewrite_card(
            ('next = "next"\nname = "name"\nmine = "who == player"\nx = "x"',
             'next = "next"\nbits = 8\nname = "name"\nmine = "who == player"\nx = "x"'),
        )  # fmt: skip
        self.fresh["next"] = 254
        self.refused("ids-too-wide", "255")

    def test_totals_that_are_not_what_the_card_says(self) -> None:
        self.fresh["load"] += 1
        self.refused("total-differs", "load is")

    def test_the_thing_that_is_the_same_is_one(self) -> None:
        self.old["player"] = 77
        self.raises(kl.FormatError, "not of one", name="one")

    def test_a_card_that_is_wrong_about_a_save(self) -> None:
        """A link or list that is not there, an id that is none, a terrain of no whole rows."""
        for old, new, word in (
            ('sister = { to = "boats", none = [0] }', 'sistre = { to = "boats" }', "sistre"),
            ('"escorts[*]" = {', '"name[*]" = {', "name"),
            ('at = "hands"', 'at = "handz"', "no list handz"),
            ('id = "key"', 'id = "legs"', "legs"),
            ('width = 40', 'width = 39', "rows of 39"),
            ('mine = "who == player"\nx', 'mine = "whose == player"\nx', "whose"),
            ('mine = "who == player"\nx', 'mine = "who + 1"\nx', "neither true nor false"),
        ):  # fmt: skip
            with self.subTest(new):
                self.rewrite_card((old, new))
                self.raises(kl.KindredError, word, name="odd")

    def test_names_and_saves(self) -> None:
        """A name that is taken, a save that is not there, the same file twice, a damaged one."""
        self.plan().change.apply(self.ledger(), allow_loss=True)
        self.raises(kl.UsageError, "fresh.json, long.json")
        self.raises(kl.UsageError, "a save long.json already", fresh="fresh")
        self.raises(kl.UsageError, "fresh.json", fresh="frehs", name="x")
        self.raises(kl.UsageError, "is a path", fresh="fresh", name="../x")
        self.raises(kl.UsageError, "no save", save="other", fresh="fresh")
        self.old = {**self.old, "format": 7}
        self.raises(kl.KindredError, "7", fresh="fresh", name="x")
        write(self.folder, {"old/user/long.json": b'{"format": 1,'})
        with self.assertRaises(kl.FormatError) as raised:
            kl.transplant(
                self.installed("old"), self.installed("new"), ledger=self.ledger(), fresh="fresh"
            )
        self.assertIn("long.json", raised.exception.where)

    def test_what_the_card_may_have_forgotten_is_told(self) -> None:
        """A field that is called like a link, a value that is not there, a baked group that is nowhere."""
        for row in self.old["hands"]:
            row["bunk_id"] = 3
        self.rewrite_card(('fresh = ["day == 1"]', 'fresh = ["day == 1"]\ncarry = ["purse"]'))
        told = self.lost(self.plan())
        self.assertTrue(any("bunk_id of hands" in what for what in told["perhaps-a-link"]))
        self.assertTrue(any("purse" in what for what in told["nothing-to-carry"]))
        self.fresh["tour_count"] = len(self.fresh["tours"]) or 1
        self.fresh["tours"] = self.fresh["tours"] or [
            {"key": "k", "who": 1, "name": "t", "legs": [], "after": None}
        ]
        told = self.lost(self.plan(name="counted"))
        self.assertTrue(any("tour_count" in what for what in told["perhaps-a-total"]))
        self.rewrite_card(('at = "rates"', 'at = "raets"'))
        self.raises(kl.FormatError, "raets")
        twice = CARD.replace('at = "hands"', 'at = "boats"')
        write(self.folder, {"bad.toml": twice.encode()})
        with self.assertRaises(kl.CardError):
            kl.Card.load(self.path("bad.toml"))

    def test_what_is_mine_by_place_by_list_and_by_kind(self) -> None:
        """Any expression of a thing and of its save."""
        names = [row["name"] for row in self.old["boats"]]
        self.old["fleet"] = [row["id"] for row in self.old["boats"][-2:]]
        for text, wanted in (
            ("x < 20 and z >= 5", [r["name"] for r in self.old["boats"] if r["x"] < 20 and r["z"] >= 5]),
            ("id in fleet", names[-2:]), ("true", names), ("false", []),
        ):  # fmt: skip
            rule = f'mine = "{text}"\nwhen_linked = "leave"\nx = "x"'
            self.rewrite_card(
                ('mine = "who == player"\nx = "x"', rule),
                ('who = { to = "houses", required = true }\nport', 'port'),
            )  # fmt: skip
            counts = {each.kind: each for each in self.plan(name="by").forecast.counts}
            boats = counts["boats"].moved + counts["boats"].bundled
            self.assertEqual(boats, len(wanted), text)

    def test_a_port_of_mine_that_the_new_game_has_too(self) -> None:
        """It moves, as it is mine; that there are two of the name then is told."""
        name = self.fresh["world"]["ports"][0]["name"]
        self.rewrite_card(('match = ["name"]', f'match = ["name"]\nmine = "name == \'{name}\'"'))
        plan = self.plan()
        self.assertIn(name, self.lost(plan)["named-alike"][0])
        plan.change.apply(self.ledger(), allow_loss=True)
        names = [port["name"] for port in self.got("new/long")["world"]["ports"]]
        self.assertEqual(names.count(name), 2)

    def test_our_own_write_is_no_start(self) -> None:
        """Evidence that the save is newer: only what the game writes counts."""
        evidence = 'first_start = [{ file = "/user/{save}", newer = true }]'
        self.rewrite_card(('fresh = ["day == 1"]', f'fresh = ["day == 1"]\n{evidence}'))
        self.plan().change.apply(self.ledger(), allow_loss=True)
        new = self.installed("new")
        self.assertFalse(kl.first_start(new, ledger=self.ledger()).started)
        done = kindred("--json", folder=self.folder)
        self.assertIn("world started", done.stdout)
        played = self.got("new/long")
        played["day"] += 1
        self.put("new/long", played)
        self.assertTrue(kl.first_start(new, ledger=self.ledger()).started)
        done = kindred("--json", folder=self.folder)
        self.assertNotIn("world started", done.stdout)

    def test_an_entry_is_a_source(self) -> None:
        """The old program is gone, its save is in the ledger."""
        self.put("old/long", self.old)
        self.put("new/fresh", self.fresh)
        entry = kindred("backup", "old", "--json", folder=self.folder)
        id = json.loads(entry.stdout)["entry"]["id"]
        shutil.rmtree(self.path("old"))
        done = kindred(
            "world", "transplant", f"entry:{id}", "new", "--yes", "--allow-loss", folder=self.folder
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertEqual(mine(self.got("new/long")), mine(self.old))

    def test_faults_of_a_card_are_all_told(self) -> None:
        bad = CARD.replace('to = ">=2" }, {', 'to = "x" }, {').replace(
            'with = ["boat"]', 'with = ["bota"]'
        )
        bad = bad.replace('"escorts[*]" = { to = "boats" }', '"escorts[*]" = { to = "bats" }')
        bad = bad.replace('match = ["name"]', 'when_linked = "match"').replace(
            'near = "port"', 'near = "prot"'
        )
        bad = bad.replace('where = "boat == 0 and who == player"', 'where = "boat = 0"')
        write(self.folder, {"bad.toml": bad.encode()})
        with self.assertRaises(kl.CardError) as raised:
            kl.Card.load(self.path("bad.toml"))
        text = " ".join(f"{each.where} {each.what}" for each in raised.exception.findings)
        for word in ("'x'", "bota", "bats", "match", "prot", "expression"):
            self.assertIn(word, text)


_NARROW = """card = 1
title = "narrow"
[program]
markers = ["narrow.bin"]
[[detect]]
file = "version.txt"
pattern = "build {version}"
[locations.user]
portable = { marker = "narrow.bin", folder = "user" }
[formats.save]
files = ["/user/*"]
codec = "layout"
layout = "narrow.layout"
builds = [{ builds = "*", writes = "1", reads = ["1"] }]
[transplants.narrow]
format = "save"
ways = [{ from = "1", to = "2" }]
[transplants.narrow.things.boats]
at = "boats"
id = "id"
mine = "mine == 1"
[transplants.narrow.things.boats.links]
sister = { to = "boats", none = [0] }
"""


class Rooms(Case):
    """Binary saves in which a number, or a count, has too little room: refused, never cut off."""

    def refused(self, count: str, id: str, link: str, *, old: int, new: int) -> str:
        layout = (
            f"layout n\nlittle endian\nversions 1 to 1 from format\nformat u8\nboats table {count}"
        )
        layout += f" {{ id {id}, mine u8, sister {link} }}\n"
        forms = {"u8": "B", "u16": "H"}
        row = struct.Struct(f"<{forms[id]}B{forms[link]}").pack
        files = {"narrow.card.toml": _NARROW.encode(), "narrow.layout": layout.encode()}
        for top, many, build in (("old", old, 1), ("new", new, 2)):
            rows = b"".join(row(n, build == 1, n) for n in range(1, many + 1))
            files[f"{top}/user/{top}"] = struct.pack(f"<B{forms[count]}", 1, many) + rows
            files |= {f"{top}/narrow.bin": b"", f"{top}/version.txt": f"build {build}\n".encode()}
        write(self.folder, files)
        card = kl.Card.load(self.path("narrow.card.toml"))
        try:
            change = kl.transplant(
                card.open(self.path("old")), card.open(self.path("new")), ledger=self.ledger()
            ).change
        except kl.FormatError as error:
            return str(error)
        return " ".join(f"{each.code} {each.what}" for each in change.conflicts)

    def test_ids_counts_and_links(self) -> None:
        self.assertIn("ids-too-wide", self.refused("u16", "u8", "u8", old=200, new=100))
        self.assertIn("boats", self.refused("u8", "u16", "u16", old=200, new=100))
        self.assertIn("sister", self.refused("u16", "u16", "u8", old=200, new=100))
        self.assertEqual(self.refused("u8", "u8", "u8", old=155, new=100), "")

    def test_rows_in_rows(self) -> None:
        """Of a layout such are taken one by one: links in lists are mended there, too, or go."""
        layout = (
            "layout n\nlittle endian\nversions 1 to 1 from format\nformat u8\n"
            "quays table u8 { id u16, name text u8 }\n"
            "boats table u8 { id u16, mine u8, sister u16, stops table u8 { quay u16, hours f32 },"
            " calls table u8 u16, bits flags u8 { night = 0, fog = 1 } }\n"
        )
        rules = _NARROW.replace("[transplants.narrow.things.boats]", (
            '[transplants.narrow.things.quays]\nat = "quays"\nid = "id"\nname = "name"\nmatch = ["name"]\n'
            "[transplants.narrow.things.boats]"
        ), 1) + '"stops[*].quay" = { to = "quays" }\n"calls[*]" = { to = "quays" }\n'  # fmt: skip
        files = {"narrow.card.toml": rules.encode(), "narrow.layout": layout.encode()}
        old = [(5, 6, [(1, 0.8), (2, 2.5)], [1, 3, 2]), (6, 5, [], [3])]
        new = [(5, 0, [(12, 9.0)], [12])]
        for top, quays, boats, build in (
            ("old", ((1, b"Ash"), (2, b"Bog"), (3, b"Gone")), old, 1),
            ("new", ((11, b"Bog"), (12, b"Ash")), new, 2),
        ):
            data = bytes((1, len(quays)))
            for id, name in quays:
                data += struct.pack("<HB", id, len(name)) + name
            data += bytes((len(boats),))
            for id, sister, stops, calls in boats:
                data += struct.pack("<HBHB", id, build == 1, sister, len(stops))
                data += b"".join(struct.pack("<Hf", *stop) for stop in stops) + bytes((len(calls),))
                data += b"".join(struct.pack("<H", call) for call in calls) + b"\x02"
            files[f"{top}/user/{top}"] = data
            files |= {f"{top}/narrow.bin": b"", f"{top}/version.txt": f"build {build}\n".encode()}
        write(self.folder, files)
        card = kl.Card.load(self.path("narrow.card.toml"))
        plan = kl.transplant(
            card.open(self.path("old")), card.open(self.path("new")), ledger=self.ledger()
        )
        self.assertEqual(plan.forecast.links_left, 2)
        plan.change.apply(self.ledger(), allow_loss=True)
        with open(self.path("new", "user", "old"), "rb") as file:
            boats = card.formats["save"].decode(file.read()).get("boats")
        told = [
            (
                row["id"],
                row["sister"],
                [(s["quay"], str(s["hours"])) for s in row["stops"]],
                row["calls"],
            )
            for row in boats
        ]
        self.assertEqual(told, [
            (5, 0, [(12, "9.0")], [12]), (6, 7, [(12, "0.8"), (11, "2.5")], [12, 11]), (7, 6, [], []),
        ])  # fmt: skip

    def test_counts_that_stand_elsewhere_and_texts_in_pools(self) -> None:
        """What counts the things, and what holds their names, grows with them; the rest is proven to stay."""
        for nothing in (b"reed", b""):  # of rows without a text there are no columns
            layout = (
                "layout n\nlittle endian\nversions 1 to 1 from format\nformat u8\nboats_in_all u16\n"
                "size u16\nnames bytes size\nday u8\nboats table boats_in_all { id u16, mine u8, sister u16,"
                " name pooled u16 of names or 65535 }\n"
            )
            files = {"narrow.card.toml": _NARROW.encode(), "narrow.layout": layout.encode()}
            for top, names, build in (
                ("old", (b"reed", nothing, b"peat"), 1),
                ("new", (b"eel",), 2),
            ):
                pool, rows = b"", b""
                for n, name in enumerate(names, 1):
                    rows += struct.pack("<HBHH", n, build == 1, n, len(pool) if name else 65535)
                    pool += name + b"\0" if name else b""
                head = struct.pack("<BHH", 1, len(names), len(pool))
                files[f"{top}/user/{top}"] = head + pool + b"\x07" + rows
                files |= {
                    f"{top}/narrow.bin": b"",
                    f"{top}/version.txt": f"build {build}\n".encode(),
                }
            write(self.folder, files)
            card = kl.Card.load(self.path("narrow.card.toml"))
            installs = card.open(self.path("old")), card.open(self.path("new"))
            name = f"made-{nothing.decode()}"
            plan = kl.transplant(*installs, ledger=self.ledger(), name=name, fresh="new")
            plan.change.apply(self.ledger())
            with open(self.path("new", "user", name), "rb") as file:
                found = card.formats["save"].decode(file.read()).get(())
            self.assertEqual((found["boats_in_all"], found["day"]), (4, 7))
            names = [row["name"] for row in found["boats"]]
            self.assertEqual(names, ["eel", "reed", nothing.decode() or None, "peat"])
            self.assertEqual([row["sister"] for row in found["boats"]], [1, 2, 3, 4])


class Files(Case):
    """The same small game in the formats that games keep saves in."""

    GAMES: tuple[tuple[dict[str, Any], ...], ...] = (
        ({"id": 1, "name": "Ada", "friend": 2}, {"id": 2, "name": "Bo", "friend": 0},
         {"id": 3, "name": "x", "friend": 1}),
        ({"id": 1, "name": "x", "friend": 0},),
    )  # fmt: skip
    THERE = (("1", "x", "0"), ("2", "Ada", "3"), ("3", "Bo", "0"))

    def written(self, codec: str, rows: Sequence[dict[str, Any]]) -> bytes:
        if codec == "xml":
            row = '<hand id="{id}" name="{name}" friend="{friend}"/>'
            return (
                f"<game><crew>{''.join(row.format(**each) for each in rows)}</crew></game>".encode()
            )
        if codec == "yaml":
            return ("crew:\n" + "".join(
                f"  - id: {row['id']}\n    name: {row['name']}\n    friend: {row['friend']}  # who\n"
                for row in rows
            )).encode()  # fmt: skip
        if codec == "toml":
            return "".join(
                f'[[crew]]\nid = {row["id"]}\nname = "{row["name"]}"\nfriend = {row["friend"]}\n'
                for row in rows
            ).encode()
        if codec == "cbor":
            return cbor2.dumps({"crew": list(rows)})
        if codec == "msgpack":
            packed: bytes = msgpack.packb({"crew": list(rows)})
            return packed
        path = self.path("made.db")
        with contextlib.closing(sqlite3.connect(path)) as base:
            base.execute("create table crew (id integer, name text, friend integer)")
            base.executemany("insert into crew values (:id, :name, :friend)", rows)
            base.commit()
        with open(path, "rb") as file:
            data = file.read()
        os.unlink(path)
        return data

    def test_each(self) -> None:
        for codec in ("xml", "yaml", "toml", "cbor", "msgpack", "sqlite"):
            with self.subTest(codec):
                mark, at = ("@", "crew.hand") if codec == "xml" else ("", "crew")
                mine_ = 'this[\\"@name\\"]' if mark else "name"
                card = _NARROW.partition("[formats.save]")[0] + (
                    f'[formats.save]\nfiles = ["/user/*"]\ncodec = "{codec}"\n'
                    'version = { key = "none", default = "1" }\n'
                    'builds = [{ builds = "*", writes = "1", reads = ["1"] }]\n'
                    '[transplants.n]\nformat = "save"\nways = [{ from = "1", to = "2" }]\n'
                    f'[transplants.n.things.crew]\nat = "{at}"\nid = "{mark}id"\nname = "{mark}name"\n'
                    f"mine = \"{mine_} != 'x'\"\n[transplants.n.things.crew.links]\n"
                    f'"{mark}friend" = {{ to = "crew", none = [0, "0"] }}\n'
                )
                top = f"of-{codec}"
                files = {f"{top}/narrow.card.toml": card.encode()}
                for name, rows, build in zip(("old", "new"), self.GAMES, (1, 2), strict=True):
                    files |= {
                        f"{top}/{name}/user/{name}": self.written(codec, rows),
                        f"{top}/{name}/narrow.bin": b"",
                        f"{top}/{name}/version.txt": f"build {build}\n".encode(),
                    }
                write(self.folder, files)
                found = kl.Card.load(self.path(top, "narrow.card.toml"))
                installs = (found.open(self.path(top, name)) for name in ("old", "new"))
                kl.transplant(*installs, ledger=self.ledger()).change.apply(self.ledger())
                with open(self.path(top, "new", "user", "old"), "rb") as file:
                    crew = found.formats["save"].decode(file.read()).get(at)
                told = [
                    tuple(str(row[f"{mark}{key}"]) for key in ("id", "name", "friend"))
                    for row in crew
                ]
                self.assertEqual(tuple(told), self.THERE)


class Bundles(FaultCase):
    def waiting(self) -> bytes:
        self.old["hands"][-1]["boat"] = 0
        plan = self.plan()
        plan.change.apply(self.ledger(), allow_loss=True)
        assert plan.bundle is not None
        return plan.bundle.packed()

    def test_one_that_was_changed_is_refused(self) -> None:
        data = self.waiting()
        for old, new, word in (
            (b'"name": "mine', b'"name": "nine', "digest"), (b'"bundle": 1', b'"bundle": 2', "format 1"),
            (b"{", b"[", "no bundle"),
        ):  # fmt: skip
            self.assertIn(old, data)
            with self.assertRaises(kl.FormatError) as raised:
                kl.read_bundle(data.replace(old, new, 1))
            self.assertIn(word, str(raised.exception))

    def test_the_same_bundle_is_not_set_in_twice(self) -> None:
        """The ledger offers what still waits; a file that was set in already would make twins."""
        data = self.waiting()
        write(self.folder, {"waits.json": data})
        for command in (("new", "waits.json"), ("new",)):
            done = kindred(
                "world", "bundle", *command, "--save", "long", "--yes", "--allow-loss", folder=self.folder
            )  # fmt: skip
            self.assertIn(done.returncode, (0, 2), done.stdout + done.stderr)
        there = self.got("new/long")
        self.assertEqual(mine(there).keys(), mine(self.old).keys())
        done = kindred(
            "world", "bundle", "new", "waits.json", "--save", "long", "--yes", folder=self.folder
        )
        self.assertEqual(done.returncode, 3, done.stdout)
        self.assertIn("set in already", done.stdout + done.stderr)

    def test_links_that_lead_elsewhere_by_now_stay(self) -> None:
        hand = self.old["hands"][-1]
        others = [row for row in self.old["hands"] if row["who"] == hand["who"] and row is not hand]
        for row in others[:2]:
            row["friend"] = hand["id"]
        others[-1]["friend"] = None  # a save in which nobody is without one shows no way to be so
        data = self.waiting()
        there = self.got("new/long")
        friend = next(row for row in there["hands"] if row["name"] == others[0]["name"])
        self.assertIsNone(friend["friend"])
        friend["friend"] = friend["id"]
        self.put("new/long", there)
        plan = kl.set_in_bundle(
            self.installed("new"), kl.read_bundle(data), ledger=self.ledger(), save="long"
        )
        self.assertIn("link-elsewhere", self.lost(plan))
        plan.change.apply(self.ledger(), allow_loss=True)
        rows = {row["name"]: row for row in self.got("new/long")["hands"]}
        self.assertEqual(rows[others[0]["name"]]["friend"], friend["id"])
        self.assertEqual(rows[others[1]["name"]]["friend"], rows[hand["name"]]["id"])


@unittest.skipIf(os.name == "nt", "there is no SIGKILL on Windows")
class Killed(Case):
    """A game that is large enough that finished parts are kept; made by the simulated program."""

    def setUp(self) -> None:
        super().setUp()
        old, new = release_files("Fleets", "1.4"), release_files("Fleets", "2.1")
        old |= play(old, ("--long", "long.fleet", "500", "8", "12"))
        new |= play(new, ("--new", "fresh.fleet"))
        files = {f"old/{path}": data for path, data in old.items()}
        files |= {f"new/{path}": data for path, data in new.items()}
        for name in ("fleets.card.toml", "fleet.layout"):
            with open(os.path.join(_DEMO, name), "rb") as file:
                files[name] = file.read()
        write(self.folder, files)
        self.command = ("world", "transplant", "old", "new", "--yes", "--allow-loss")
        kindred("backup", "new", folder=self.folder)
        self.before = self.saves(self.folder)
        self.environment = {
            **os.environ, "KINDRED_LEDGER": "ledger", "PYTHONPATH": ROOT, "PYTHONDONTWRITEBYTECODE": "1",
        }  # fmt: skip

    def saves(self, folder: str) -> dict[str, bytes]:
        return files_in(os.path.join(folder, "new", "userdata", "saves"))

    def copy(self, name: str) -> str:
        folder = f"{self.folder}-{name}"
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        shutil.copytree(self.folder, folder)
        return folder

    def run_in(self, folder: str, script: str, *numbers: int) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, os.path.join(_CHANGES, script), *map(str, numbers), *self.command],
            cwd=folder, capture_output=True, text=True, check=False, env=self.environment,
        )  # fmt: skip

    def test_killed_at_random_points_it_goes_on_to_the_same_bytes(self) -> None:
        """At moments of all phases and at changes to the disk; the old save is never touched."""
        whole = self.copy("whole")
        begun = time.monotonic()
        done = self.run_in(whole, "killed.py", 0)
        took = time.monotonic() - begun
        self.assertEqual(done.returncode, 0, done.stderr)
        changes, after = int(done.stdout.rpartition("changes: ")[2]), self.saves(whole)
        self.assertEqual(len(after), 2)
        rng, killed = random.Random("killed"), 0
        for point in range(_POINTS):
            folder = self.copy("cut")
            if point % 2:
                done = self.run_in(folder, "killed.py", rng.randrange(1, changes))
                killed += done.returncode == -signal.SIGKILL
            else:
                command = [sys.executable, "-m", "kindred_ledger.cli.main", *self.command]
                with open(os.devnull, "wb") as quiet:
                    process = subprocess.Popen(
                        command, cwd=folder, env=self.environment, stdout=quiet, stderr=quiet
                    )
                    time.sleep(rng.random() * took)
                    process.kill()
                    killed += process.wait() == -signal.SIGKILL
            kl.recover(kl.Ledger.open(os.path.join(folder, "ledger")))
            found = self.saves(folder)
            self.assertIn(found, (self.before, after), point)
            if found == self.before:
                again = kindred(*self.command, folder=folder)
                self.assertEqual(again.returncode, 0, again.stdout + again.stderr)
            self.assertEqual(self.saves(folder), after, point)
            old = os.path.join("old", "userdata", "saves")
            self.assertEqual(files_in(os.path.join(folder, old)), files_in(self.path(old)))
            shutil.rmtree(folder)
        self.assertGreater(killed, _POINTS // 2)

    def test_finished_parts_are_not_done_twice(self) -> None:
        """What a dry run made is taken; damaged, it is made again; afterwards it is cleared away."""
        kept = os.path.join(self.folder, "ledger", "work", "converted")
        done = kindred(*self.command, "--dry-run", folder=self.folder)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        kept = os.path.join(kept, *os.listdir(kept))
        names = {name for name in os.listdir(kept) if not name.endswith(".json")}
        self.assertTrue(names)
        times = {name: os.stat(os.path.join(kept, name)).st_mtime_ns for name in names}
        kindred(*self.command, "--dry-run", folder=self.folder)
        self.assertEqual(
            times, {name: os.stat(os.path.join(kept, name)).st_mtime_ns for name in names}
        )
        for name in names:
            with open(os.path.join(kept, name), "ab") as file:
                file.write(b"damage")
        done = kindred(*self.command, folder=self.folder)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertEqual(os.listdir(kept), [])
        program = self.path("new", "fleets.py")
        self.assertEqual(subprocess.run([sys.executable, program], check=False).returncode, 0)

    def test_a_disk_that_fills(self) -> None:
        """The saves are as they were, and the reason is said."""
        whole = self.copy("whole")
        changes = int(self.run_in(whole, "killed.py", 0).stdout.rpartition("changes: ")[2])
        after, refused = self.saves(whole), 0
        for point in range(1, changes, max(1, changes // 8)):
            folder = self.copy("full")
            done = self.run_in(folder, "failing.py", point, 28)
            if done.returncode:
                refused += 1
                self.assertIn("No space left", done.stdout + done.stderr)
            kl.recover(kl.Ledger.open(os.path.join(folder, "ledger")))
            wanted = (self.before,) if done.returncode else (self.before, after)
            self.assertIn(self.saves(folder), wanted)
            shutil.rmtree(folder)
        self.assertGreater(refused, 0)


if __name__ == "__main__":
    unittest.main()

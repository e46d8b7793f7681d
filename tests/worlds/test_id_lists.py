"""Id lists: where they are found, what contradicts itself in them, and that they are written as they were."""

from __future__ import annotations

import json
import os
import unittest

import kindred_ledger as kl
from kindred_ledger.cards import Card
from kindred_ledger.cards.world_models import IdSourceTable
from kindred_ledger.cards.worlds import IdList, read_id_list, with_id_list
from kindred_ledger.errors import CardError, FormatError, IdListError
from tests.support import write
from tests.worlds.support import CARD, WorldCase, flat, list_json


class Sources(unittest.TestCase):
    def test_every_form(self) -> None:
        """A table either way round, a list from 0, records, and a log, of which the last lines count."""
        wanted = {"bog:peat": 3, "bog:bell": 1}
        names = IdSourceTable(file="a", codec="json", names="ids")
        for data, table in (
            (b'{"ids": {"bog:peat": 3, "bog:bell": 1}}', names),
            (b'{"ids": {"3": "bog:peat", "1": "bog:bell"}}', IdSourceTable(file="a", codec="json",
            names="ids")), (b'{"ids": ["", "bog:bell", "", "bog:peat"]}', IdSourceTable(file="a",
            codec="json", names="ids")), (b'{"l": [{"n": "bog:peat", "i": 3}, {"n": "bog:bell", "i": 1}]}',
             IdSourceTable(file="a", codec="json", records="l", name="n", number="i")),
            (b"[ids]\nbog:peat = 3\nbog:bell = 1\n", IdSourceTable(file="a", codec="ini", names="ids")),
            (b"x id 3 is bog:bell\nnoise\nid 3 is bog:peat\nid 1 is bog:bell\n",
             IdSourceTable(file="a", pattern="id {number} is {name}")),
        ):  # fmt: skip
            with self.subTest(data):
                self.assertEqual(dict(read_id_list(data, table, origin="a").numbers), wanted)

    def test_written_in_its_own_form(self) -> None:
        """Fields of records that stay, comments and the rest of the file are kept."""
        new = IdList.of([("bog:peat", 9), ("bog:sluice", 1)], origin="new")
        table = IdSourceTable(file="a", codec="json", records="l", name="n", number="i")
        data = b'{"l": [{"n": "bog:old", "i": 3, "x": 5}, {"n": "bog:bell", "i": 1}]} // mine'
        out = with_id_list(data, table, new, {"bog:old": "bog:peat"})
        rows = json.loads(out.partition(b"//")[0])["l"]
        self.assertEqual(rows, [{"n": "bog:peat", "i": 9, "x": 5}, {"i": 1, "n": "bog:sluice"}])
        self.assertIn(b"// mine", out)
        for data in (
            b'{"ids": {"bog:peat": 3}}',
            b'{"ids": {"3": "bog:peat"}}',
            b'{"ids": ["", "bog:peat"]}',
        ):
            table = IdSourceTable(file="a", codec="json", names="ids")
            again = read_id_list(with_id_list(data, table, new, {}), table, origin="a")
            self.assertTrue(again.same_as(new))

    def test_what_contradicts_itself(self) -> None:
        """All of it at once, and nothing guessed."""
        table = IdSourceTable(file="a", codec="json", records="l")
        for rows, words in (
            ([("a", 1), ("b", 1)], "number 1 is a and b"),
            ([("a", 1), ("a", 2)], "a has the numbers 1 and 2"),
            ([("a", -1)], "below 0"),
            ([("", 4)], "empty name"),
            ([], "empty"),
            ([("a", 1.5)], "the number of a is '1.5'"),
            ([("a", True)], "the number of a"),
        ):
            data = json.dumps({"l": [{"name": n, "id": i} for n, i in rows]}).encode()
            with self.subTest(words), self.assertRaises(FormatError) as caught:
                read_id_list(data, table, origin="a")
            self.assertIn(words, str(caught.exception))


class InForce(WorldCase):
    def test_a_list_in_a_log_is_kept_with_every_entry(self) -> None:
        """A world without a list of its own is read years later, when the program is gone."""
        card = CARD.replace(
            'build = { file = "/program/ids.json", codec = "json", names = "ids" }\n'
            'world = { file = "ids.json", codec = "json", records = "list" }',
            'build = { file = "/user-logs/run.log", pattern = "id {number} is {name}" }',
        ).replace("/user-logs/", "/program/logs/")
        write(self.folder, {"mire.card.toml": card.encode()})
        self.card = Card.load(self.path("mire.card.toml"))
        log = b"".join(
            b"id %d is %s\n" % (number, name.encode()) for name, number in self.old.items()
        )
        write(self.path("mire"), {"logs/run.log": log})
        self.put({"0.0.flat": flat([self.old["mod:bell"]] * 5)})
        ledger = self.ledger()
        entry = ledger.backup(self.install(), only="/user/")
        os.remove(self.path("mire", "logs", "run.log"))
        with self.assertRaisesRegex(IdListError, "nothing says what the numbers of one mean"):
            kl.open_world(self.install())
        place = ledger.place(entry)
        stored = kl.Install(self.card, place, ())
        census = kl.take_census(kl.open_world(stored, tag=place.tag))
        self.assertEqual(census.counts["tiles"], {"mod:bell": 5})

    def test_a_world_without_a_list_is_never_read_by_a_wrong_one(self) -> None:
        """Remapped, it means the new list, whatever is installed; if the program changed, it is asked."""
        card = CARD.replace('world = { file = "ids.json", codec = "json", records = "list" }\n', "")
        write(self.folder, {"mire.card.toml": card.encode()})
        self.card = Card.load(self.path("mire.card.toml"))
        new = {name: number + 10 for name, number in self.old.items()}
        made = {"ids": IdList.of(new.items(), origin="new")}
        peat, ledger = self.old["plain:peat"], self.ledger()
        self.put({"0.0.flat": flat([peat])})
        ledger.backup(self.install())
        kl.remap(self.install(), made, ledger=ledger).apply(ledger)
        again = kl.remap(self.install(), made, ledger=ledger)  # the program is still the old one
        self.assertEqual(again.actions, ())
        opened = kl.open_world(self.install(), ledger=ledger)
        self.assertEqual(kl.take_census(opened).counts["tiles"], {"plain:peat": 1})
        remapped = self.world()["0.0.flat"]
        self.put({"0.0.flat": flat([peat])})  # somebody puts a copy of before back, by hand
        opened = kl.open_world(self.install(), ledger=ledger)
        self.assertEqual(kl.take_census(opened).counts["tiles"], {"plain:peat": 1})
        self.put({"0.0.flat": flat([peat, peat])})  # an older one: whose numbers are these?
        os.utime(self.path("mire", "user", "one", "0.0.flat"), (1_600_000_000, 1_600_000_000))
        with self.assertRaisesRegex(kl.DecisionNeeded, "put back"):
            kl.open_world(self.install(), ledger=ledger)
        self.put({"0.0.flat": remapped})
        kl.undo("latest", ledger=ledger).apply(ledger)
        write(
            self.path("mire"), {"ids.json": json.dumps({"ids": new}).encode()}
        )  # a launcher updates it
        with self.assertRaisesRegex(kl.DecisionNeeded, "had another list"):
            kl.remap(self.install(), made, ledger=ledger)
        old = {"ids": IdList.of(self.old.items(), origin="old")}
        kl.remap(self.install(), made, ledger=ledger, lists=old).apply(ledger)
        self.assertEqual(self.counted(self.world()), {("tiles", peat + 10): 1})

    def test_aliases_lead_on_and_never_round(self) -> None:
        """An alias of an alias counts; a circle is a fault of the card."""
        self.put({"0.0.flat": flat([self.old["mod:old"]]), "ids.json": list_json(self.old)})
        new = {n: m for n, m in self.old.items() if n != "mod:old"} | {"mod:newest": 90}
        made = IdList.of(new.items(), origin="new")
        change = kl.remap(self.install(), {"ids": made}, ledger=self.ledger())
        change.apply(self.ledger())
        self.assertEqual(self.counted(self.world()), {("tiles", 90): 1})
        circle = CARD.replace('"mod:newer" = "mod:newest"', '"mod:newer" = "mod:old"')
        write(self.folder, {"mire.card.toml": circle.encode()})
        with self.assertRaisesRegex(CardError, "fault") as caught:
            Card.load(self.path("mire.card.toml"))
        self.assertIn("go round in a circle", str(caught.exception.findings))

    def test_two_that_become_one(self) -> None:
        """It cannot be told apart again, and needs consent."""
        old = {**self.old, "mod:newest": 50}
        self.put({"0.0.flat": flat([old["mod:old"], 50]), "ids.json": list_json(old)})
        new = {n: m for n, m in old.items() if n != "mod:old"}
        change = kl.remap(
            self.install(), {"ids": IdList.of(new.items(), origin="new")}, ledger=self.ledger()
        )
        self.assertEqual([loss.code for loss in change.losses], ["content-merged"])

    def test_faults_of_the_tables(self) -> None:
        """Each with its key."""
        for old, new, words in (
            ('remove = "row"', 'remove = "rows"', "expected one of row"),
            (
                'format = "flat"\nat = "tiles',
                'format = "flit"\nat = "tiles',
                "there is no format 'flit'",
            ),
            ("bits = 16", "bits = 15", "expected one of 8"),
            ('pattern = "call {name}"', 'pattern = "call it"', "needs {number} or {name}"),
            ('empty = "plain:air"', 'emtpy = "plain:air"', "unknown key"),
            ('file = "/program/ids.json"', 'file = "program/ids.json"', "begins with a slash"),
            ('worth = { "mod:bell" = 3 }', 'worth = { "mod:bell" = "3" }', "expected a number"),
        ):
            self.assertIn(old, CARD)
            write(self.folder, {"mire.card.toml": CARD.replace(old, new).encode()})
            with self.subTest(words), self.assertRaises(CardError) as caught:
                Card.load(self.path("mire.card.toml"))
            self.assertIn(words, " ".join(map(str, caught.exception.findings)))


if __name__ == "__main__":
    unittest.main()

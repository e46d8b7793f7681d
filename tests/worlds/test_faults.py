"""Worlds with damage, and a machine that fails: carried around, told, all or nothing."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import struct
import subprocess
import sys
import unittest

import kindred_ledger as kl
from kindred_ledger.errors import IdListError, PlaceBusy, PlaceError
from tests.support import LONG, ROOT, kindred
from tests.worlds.support import CARD, WorldCase, flat, ids, list_json, packed, world_files

_POINTS = 200 if LONG else 50
_CHANGES = os.path.join(ROOT, "tests", "changes")


class Damaged(WorldCase):
    def test_carried_as_they_are_and_told(self) -> None:
        """Cut short, with a failing checksum, with parts over each other, of another format."""
        whole = flat([1, 2, 3])
        part = packed([[1] * 300, [2] * 300])
        at, size = struct.unpack_from("<II", part, 8)
        odd = {
            "cut.flat": whole[:-9],
            "sum.flat": whole[:-6] + b"\x09" + whole[-5:],
            "over.packed": part[:8] + struct.pack("<II", at, size + 4) + part[16:],
            "not.flat": b"nothing of the kind",
            "bags/odd.json": b'{"bag": [{"id": "many"}]}',
            "bags/cut.json": b'{"bag": [',
        }
        good = {"0.0.flat": whole, "0.1.packed": part, "ids.json": list_json(self.old)}
        good |= {f"{n}.7.flat": whole for n in range(9)}
        self.put({**good, **odd})
        new = ids({name: number + 10 for name, number in self.old.items()})
        ledger = self.ledger()
        change = kl.remap(self.install(), {"ids": new}, ledger=ledger)
        told = {f.where: f.code for f in change.losses}
        self.assertEqual(told, {f"user/one/{name}": "region-damaged" for name in odd})
        with self.assertRaises(kl.LossNotAllowed):
            change.apply(ledger)
        change.apply(ledger, allow_loss=["region-damaged"])
        after = self.world()
        self.assertEqual({name: after[name] for name in odd}, odd)
        self.assertEqual(
            self.counted({"a.flat": after["0.0.flat"]}),
            self.counted({"a.flat": flat([11, 12, 13])}),
        )
        census = kl.take_census(kl.open_world(self.install()))
        self.assertEqual({each.path for each in census.damaged}, set(odd))

    def test_a_world_of_which_most_cannot_be_read(self) -> None:
        """Of another format version, say: nothing is written, whatever is allowed."""
        data = flat([1, 2])
        newer = data[:4] + struct.pack("<H", 2) + data[6:]
        self.put({f"{n}.0.flat": newer for n in range(5)} | {"ids.json": list_json(self.old)})
        self.put({"9.0.flat": data})
        before, ledger = self.world(), self.ledger()
        new = ids({name: number + 10 for name, number in self.old.items()})
        change = kl.remap(self.install(), {"ids": new}, ledger=ledger)
        self.assertEqual([each.code for each in change.conflicts], ["world-unread"])
        self.assertIn("format version 2", change.conflicts[0].what)
        with self.assertRaises(kl.DecisionNeeded):
            change.apply(ledger, allow_loss=True)
        self.assertEqual(self.world(), before)

    def test_a_card_that_is_wrong_about_a_field(self) -> None:
        """A path that leads nowhere in all files needs consent; one into an empty list does not."""
        text = CARD.replace('at = "bag[*].id"', 'at = "bags[*].id"')
        with open(self.path("mire.card.toml"), "w", encoding="utf-8") as file:
            file.write(text)
        self.card = kl.Card.load(self.path("mire.card.toml"))
        bag = b'{"name": "ada", "x": 1, "z": 1, "bag": [{"id": 4, "many": 1}]}'
        empty = bag.replace(b'[{"id": 4, "many": 1}]', b"[]")
        new, ledger = ids({name: n + 10 for name, n in self.old.items()}), self.ledger()
        for card, data, lost in (
            (text, bag, ["ids-not-found"]), (CARD, bag, []), (CARD, empty, []),
        ):  # fmt: skip
            with open(self.path("mire.card.toml"), "w", encoding="utf-8") as file:
                file.write(card)
            self.card = kl.Card.load(self.path("mire.card.toml"))
            self.put({"0.0.flat": flat([1]), "bags/a.json": data, "ids.json": list_json(self.old)})
            change = kl.remap(self.install(), {"ids": new}, ledger=ledger)
            self.assertEqual([each.code for each in change.losses], lost)

    def test_two_worlds_of_which_one_fails(self) -> None:
        """Its list contradicts itself: it is refused, the other one is done."""
        rng = random.Random(5)
        self.put(world_files(self.old, rng), "good")
        self.put({**world_files(self.old, rng), "ids.json": b'{"list": [{"name": "a", "id": 1},'
                  b' {"name": "b", "id": 1}]}'}, "odd")  # fmt: skip
        new, ledger = ids({n: m + 7 for n, m in self.old.items()}), self.ledger()
        before = self.world("odd")
        with self.assertRaisesRegex(IdListError, "contradicts itself"):
            kl.remap(self.install(), {"ids": new}, "odd", ledger=ledger)
        kl.remap(self.install(), {"ids": new}, "good", ledger=ledger).apply(ledger)
        self.assertEqual(self.world("odd"), before)
        self.assertIn(b'"id": 8', self.world("good")["ids.json"])

    def test_a_number_that_does_not_fit_where_it_stands(self) -> None:
        """The list is wide enough, the file is not."""
        layout = (
            'layout flat\nlittle endian\nversions 1 to 1 from format\nmagic bytes 4 = "FLAT"\n'
            "format u16\nthings table u16 { thing u8, many u16 }\ntiles table u32 u8\n"
        )
        with open(self.path("flat.layout"), "w", encoding="utf-8") as file:
            file.write(layout)
        self.card = kl.Card.load(self.path("mire.card.toml"))
        data = b"FLAT" + struct.pack("<HHI", 1, 0, 2) + bytes((1, 2))
        self.put({"0.0.flat": data, "ids.json": list_json(self.old)})
        new = ids({name: number + 300 for name, number in self.old.items()})
        with self.assertRaisesRegex(kl.FormatError, "numbers up to 255 fit there"):
            kl.remap(self.install(), {"ids": new}, ledger=self.ledger())


class CutOff(WorldCase):
    def setUp(self) -> None:
        super().setUp()
        self.put(world_files(self.old, random.Random(2)))
        new = {name: number + 20 for name, number in self.old.items() if name != "mod:bell"}
        shutil.copytree(self.path("mire"), self.path("newer"))
        shutil.rmtree(self.path("newer", "user"))
        with open(self.path("newer", "ids.json"), "wb") as file:
            file.write(json.dumps({"ids": new}).encode())
        self.command = (
            "world", "remap", "mire", "newer", "--inert", "mod:*", "--yes", "--allow-loss", "--json"
        )  # fmt: skip
        kindred("backup", "mire", folder=self.folder)
        self.before = self.world()

    def run_in(self, folder: str, script: str, *numbers: int) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, os.path.join(_CHANGES, script), *map(str, numbers), *self.command],
            cwd=folder, capture_output=True, text=True, check=False,
            env={**os.environ, "KINDRED_LEDGER": "ledger", "PYTHONPATH": ROOT,
                 "PYTHONDONTWRITEBYTECODE": "1"},
        )  # fmt: skip

    def copy(self, name: str) -> str:
        folder = os.path.join(
            os.path.dirname(self.folder), f"{os.path.basename(self.folder)}-{name}"
        )
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        shutil.copytree(self.folder, folder)
        return folder

    def recover(self, folder: str) -> None:
        """Put right what was cut off, as the next start does."""
        if os.path.isdir(os.path.join(folder, "ledger")):
            ledger = kl.Ledger.open(os.path.join(folder, "ledger"))
            kl.recover(ledger)
            ledger.index.close()

    def found(self, folder: str) -> dict[str, bytes]:
        keep, self.folder = self.folder, folder
        try:
            return self.world()
        finally:
            self.folder = keep

    @unittest.skipIf(os.name == "nt", "there is no SIGKILL on Windows")
    def test_killed_anywhere(self) -> None:
        """The world is as before or as intended after the next start; run again, it is done."""
        whole = self.copy("whole")
        done = self.run_in(whole, "killed.py", 0)
        self.assertEqual(done.returncode, 0, done.stderr)
        changes, after = int(done.stdout.rpartition("changes: ")[2]), self.found(whole)
        self.assertNotEqual(after, self.before)
        killed = 0
        for n, point in enumerate(sorted({1 + n * changes // _POINTS for n in range(_POINTS)})):
            folder = self.copy("cut")
            done = self.run_in(folder, "killed.py", point)
            killed += done.returncode == -signal.SIGKILL
            self.recover(folder)
            self.assertIn(self.found(folder), (self.before, after), point)
            if n % 8 == 0 and self.found(folder) == self.before:
                again = kindred(*self.command, folder=folder)
                self.assertEqual(again.returncode, 0, again.stdout + again.stderr)
                self.assertEqual(self.found(folder), after, point)
            shutil.rmtree(folder)
        self.assertGreater(killed, _POINTS * 0.8)

    def test_a_disk_that_fills_half_way(self) -> None:
        """The world is as it was, and says why."""
        whole = self.copy("whole")
        changes = int(self.run_in(whole, "killed.py", 0).stdout.rpartition("changes: ")[2])
        after = self.found(whole)
        refused = 0
        for point in range(2, changes, max(1, changes // 12)):
            folder = self.copy("full")
            done = self.run_in(folder, "failing.py", point, 28)
            self.recover(folder)
            wanted = (self.before,) if done.returncode else (self.before, after)
            refused += done.returncode != 0
            if done.returncode:
                self.assertIn("No space left", done.stdout + done.stderr)
            self.assertIn(self.found(folder), wanted)
            shutil.rmtree(folder)
        self.assertGreater(refused, 0)

    def test_a_result_that_was_kept_is_not_made_again(self) -> None:
        """What was cut off goes on with what it had, and damage to that is found."""
        ledger = self.ledger("other")
        new = ids({name: number + 20 for name, number in self.old.items()})
        rng = random.Random(9)
        self.put(
            {f"{n}.5.packed": packed([[rng.choice((1, 2)) for _ in range(900)]]) for n in range(3)}
        )
        work = kl.RemapWork(in_memory=0)
        first = kl.remap(self.install(), {"ids": new}, ledger=ledger, work=work)
        kept = os.path.join(ledger.folder("work"), "converted")
        kept = os.path.join(kept, *os.listdir(kept))
        names = [name for name in os.listdir(kept) if not name.endswith(".json")]
        self.assertEqual(len(names), 3)
        with open(os.path.join(kept, names[0]), "ab") as file:
            file.write(b"damage")
        second = kl.remap(self.install(), {"ids": new}, ledger=ledger, work=work)
        self.assertEqual(second.after, first.after)
        second.apply(ledger)
        self.assertEqual(os.listdir(kept), [])
        self.assertEqual(
            self.world()["ids.json"], list_json({n: m + 20 for n, m in self.old.items()})
        )

    def test_a_world_that_changes_meanwhile(self) -> None:
        """Between looking and writing a file changed: nothing is written."""
        ledger = self.ledger()
        new = ids({name: number + 20 for name, number in self.old.items()})
        change = kl.remap(self.install(), {"ids": new}, ledger=ledger)
        self.put({"0.0.flat": flat([1])})
        with self.assertRaises((kl.PlaceChanged, PlaceError, PlaceBusy)):
            change.apply(ledger)
        self.assertEqual(self.world()["1.0.flat"], self.before["1.0.flat"])

    @unittest.skipUnless(sys.platform == "linux", "which files are open is known on Linux")
    def test_a_world_that_is_open(self) -> None:
        """The game has it open: refused, with its name."""
        path = self.path("mire", "user", "one", "ids.json")
        game = subprocess.Popen(
            [sys.executable, "-c", "import sys; f = open(sys.argv[1]); print(1, flush=True); input()", path],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert game.stdout is not None
        game.stdout.readline()
        done = kindred(*self.command, folder=self.folder)
        game.communicate("\n")
        self.assertEqual((done.returncode, "in use" in done.stdout), (3, True), done.stdout)
        self.assertEqual(self.world(), self.before)


if __name__ == "__main__":
    unittest.main()

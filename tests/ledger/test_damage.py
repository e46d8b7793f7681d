"""Damage: never a wrong byte, and always the name of what is damaged."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3

from kindred_ledger.errors import KindredError, LedgerDamaged
from kindred_ledger.ledger import Ledger
from kindred_ledger.ledger.packs import read_index
from kindred_ledger.places import read_bytes
from tests.support import Case


class Damage(Case):
    def setUp(self) -> None:
        super().setUp()
        self.files = {f"{n}.txt": b"content %d " % n * (n + 1) for n in range(20)}
        self.files["large"] = os.urandom(5 << 20)
        ledger = self.ledger()
        self.entry = ledger.backup(self.place(self.files))
        ledger.index.close()

    def copy(self, *parts: str) -> tuple[str, bytes]:
        """Return the path of the first file in a fresh copy's folder, and its bytes."""
        shutil.rmtree(self.path("copy"), ignore_errors=True)
        shutil.copytree(self.path("ledger"), self.path("copy"))
        folder = self.path("copy", *parts)
        path = os.path.join(folder, sorted(os.listdir(folder))[0])
        with open(path, "rb") as file:
            return path, file.read()

    def read_all(self) -> dict[str, bytes | str]:
        """Read every file of the copy's entry; an error stands as its text."""
        ledger = Ledger.open(self.path("copy"))
        self.addCleanup(ledger.index.close)
        place = ledger.place(ledger.entries()[0])
        found: dict[str, bytes | str] = {}
        for name in self.files:
            try:
                found[name] = read_bytes(place, name)
            except LedgerDamaged as error:
                found[name] = str(error)
        return found

    def test_a_flipped_byte_never_gives_wrong_content(self) -> None:
        """30 random flips in the pack: each file is right or refused, and what is refused is named."""
        rng = random.Random(4)
        for _ in range(30):
            path, data = self.copy("packs")
            at = rng.randrange(len(data))
            with open(path, "r+b") as file:
                file.seek(at)
                file.write(bytes([data[at] ^ (1 << rng.randrange(8))]))
            os.remove(self.path("copy", "index.sqlite"))
            try:
                found = self.read_all()
            except LedgerDamaged as error:
                self.assertIn(path, str(error))
                continue
            wrong = {n: f for n, f in found.items() if f != self.files[n]}
            for name, text in wrong.items():
                self.assertIsInstance(text, str, f"{name} came back changed, byte {at}")
                self.assertIn(f"entry:{self.entry.id}/{name}", str(text))

    def test_a_flipped_byte_in_an_entry_is_noticed(self) -> None:
        """It is refused with the file's name, whichever byte it is."""
        rng = random.Random(5)
        for _ in range(60):
            path, data = self.copy("entries")
            at = rng.randrange(len(data))
            with open(path, "r+b") as file:
                file.seek(at)
                file.write(bytes([data[at] ^ (1 << rng.randrange(8))]))
            ledger = Ledger.open(self.path("copy"))
            with self.assertRaisesRegex(KindredError, os.path.basename(path), msg=f"byte {at}"):
                ledger.tree(self.entry)
            ledger.index.close()

    def test_a_cut_pack_and_a_missing_one(self) -> None:
        """Both are told as damage; a missing pack names the contents that are gone."""
        path, data = self.copy("packs")
        with open(path, "wb") as file:
            file.write(data[: len(data) // 2])
        os.remove(self.path("copy", "index.sqlite"))
        self.assertIn("cut short", str(self.read_all()["large"]))
        path, _ = self.copy("packs")
        os.remove(path)
        self.assertIn("not in the ledger", str(self.read_all()["large"]))

    def test_check_lists_every_damaged_file(self) -> None:
        """One bad frame costs the files in it and no other."""
        path, data = self.copy("packs")
        frames = read_index(path)
        for number, names in ((0, {*self.files} - {"large"}), (1, {"large"})):
            path, data = self.copy("packs")
            at = frames.starts[number] + 40
            with open(path, "r+b") as file:
                file.seek(at)
                file.write(bytes([data[at] ^ 255]))
            ledger = Ledger.open(self.path("copy"))
            faults = ledger.check(self.entry)
            ledger.index.close()
            places = {fault.where.split(": ")[0] for fault in faults}
            self.assertEqual(places, {f"entry:{self.entry.id}/{name}" for name in names})
            self.assertTrue(all(str(fault).count(path) == 1 for fault in faults), faults)

    def test_the_index_may_go_at_any_time(self) -> None:
        """Deleted, damaged, of another format or behind: it is rebuilt and nothing is missing."""
        for harm in ("delete", "garble", "format", "forget"):
            self.copy("packs")
            path = self.path("copy", "index.sqlite")
            if harm == "delete":
                os.remove(path)
            elif harm == "garble":
                with open(path, "wb") as file:
                    file.write(b"no database" * 500)
            else:
                with sqlite3.connect(path) as db:
                    db.execute(
                        "PRAGMA user_version = 77" if harm == "format" else "DELETE FROM packs"
                    )
                db.close()
            self.assertEqual(self.read_all(), self.files, harm)

    def test_unfinished_packs_of_dead_writers_go(self) -> None:
        """What a killed backup left in `work` is removed by the next one."""
        left = self.path("ledger", "work", "packing-00ff00ff00ff-1")
        with open(left, "wb") as file:
            file.write(b"half a pack")
        self.ledger().backup(self.place({"new": b"new"}, "other"))
        self.assertFalse(os.path.exists(left))
        self.assertEqual(os.listdir(self.path("ledger", "work")), [])

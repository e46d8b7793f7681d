"""Verifying: every damaged byte is found, named by file, and costs exactly what it says."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
import time

from blake3 import blake3

from kindred_ledger.errors import LedgerDamaged
from kindred_ledger.ledger import Ledger, Verified, verify
from tests.support import EXAMPLES, KeptCase

_FLIPS = max(30, EXAMPLES // 20)


class Verifying(KeptCase):
    def setUp(self) -> None:
        super().setUp()
        ledger = self.ledger()
        ledger.backup(self.place({"another": os.urandom(5000)}, "another"))
        ledger.index.close()
        self.assertGreater(len(os.listdir(self.path("ledger", "packs"))), 1)

    def verified(self, root: str, *, share: float = 1.0) -> Verified:
        """Verify, and hold what it says against what can be read in truth."""
        ledger = Ledger.open(root, create=False)
        self.addCleanup(ledger.index.close)
        found = verify(ledger, share=share)
        lost = {cost.entry: cost.paths for cost in found.costs}
        for name in os.listdir(os.path.join(root, "entries")):
            id = name.partition(".")[0]
            try:
                entry = ledger.entry(id)
                tree = ledger.tree(entry)
            except LedgerDamaged:
                self.assertIsNone(lost[id])
                continue
            refused = []
            for path, blocks in ledger.place(entry).read(tree.files):
                try:
                    b"".join(blocks)
                except LedgerDamaged:
                    refused.append(path)
            self.assertEqual(sorted(refused), sorted(lost.get(id) or ()))
        return found

    def test_a_whole_ledger(self) -> None:
        """Nothing is wrong, with the cache and without."""
        for root in (self.path("ledger"), self.copied()):
            found = self.verified(root)
            self.assertEqual((found.findings, found.costs), ((), ()))
            self.assertEqual((found.packs, found.changes), (found.packs_total, 1))

    def test_any_flipped_byte_is_found(self) -> None:
        """Wherever it is, its file is named, and all that is not said to be lost can be read."""
        rng = random.Random(11)
        files = []
        for top, _, names in os.walk(self.copied()):
            files += [os.path.relpath(os.path.join(top, name), self.path("copy")) for name in names]
        for turn in range(_FLIPS):
            root, file = self.copied(), sorted(files)[turn % len(files)]
            with open(os.path.join(root, file), "r+b") as opened:
                data = opened.read()
                at = rng.choice(
                    (rng.randrange(len(data)), len(data) - 1 - rng.randrange(60) % len(data))
                )
                opened.seek(at)
                opened.write(bytes([data[at] ^ (1 << rng.randrange(8))]))
            found = self.verified(root)
            self.assertEqual([fault.where for fault in found.findings], [file], f"byte {at}")

    def test_files_that_are_cut_missing_swapped_or_twice(self) -> None:
        """Each is told by name, whichever kind of file it is."""
        for folder in ("packs", "entries", "history"):
            for harm in ("cut", "swap", "twice", "stray"):
                root = self.copied()
                names = sorted(os.listdir(os.path.join(root, folder)))
                paths = [os.path.join(root, folder, name) for name in names]
                expected = {f"{folder}/{names[0]}"}
                if harm == "cut":
                    os.truncate(paths[0], os.path.getsize(paths[0]) // 2)
                elif harm == "swap" and len(paths) > 1:
                    os.rename(paths[0], paths[0] + "x")
                    os.rename(paths[1], paths[0])
                    os.rename(paths[0] + "x", paths[1])
                    expected.add(f"{folder}/{names[1]}")
                elif harm == "twice":
                    other = f"0000{names[0][4:]}"
                    shutil.copy(paths[0], os.path.join(root, folder, other))
                    expected = {f"{folder}/{other}"}
                elif harm == "stray":
                    shutil.copy(paths[0], paths[0] + ".part")
                    os.utime(paths[0] + ".part", (0, 0))  # a young one may be under way
                    expected = {f"{folder}/{names[0]}.part"}
                else:
                    continue
                found = self.verified(root)
                self.assertEqual({fault.where for fault in found.findings}, expected, harm)
                harmless = folder == "history" or harm == "stray"
                harmless |= (folder, harm) == ("packs", "twice")
                self.assertEqual(bool(found.costs), not harmless, f"{folder} {harm}")

    def test_a_pack_that_is_missing(self) -> None:
        """What it held is listed, entry by entry; all else is whole."""
        root = self.copied()
        folder = os.path.join(root, "packs")
        largest = max(
            os.listdir(folder), key=lambda name: os.path.getsize(os.path.join(folder, name))
        )
        os.remove(os.path.join(folder, largest))
        found = self.verified(root)
        self.assertEqual([fault.where for fault in found.findings], ["packs"])
        self.assertIn("world", found.costs[0].paths or ())

    def test_settings_that_are_damaged_cost_nothing(self) -> None:
        """They are told; the ledger goes on."""
        for harm in (b"", b"\xff\xfe", b"format = 1\n", b"format = 1\nid = "):
            root = self.copied()
            with open(os.path.join(root, "ledger.toml"), "wb") as file:
                file.write(harm)
            self.assertEqual([f.where for f in self.verified(root).findings], ["ledger.toml"])

    def test_a_cache_that_lies_is_made_anew(self) -> None:
        """Whatever stands in it, nothing is lost by it."""
        for harm in (
            "UPDATE chunks SET at = at + 1",
            "DELETE FROM chunks",
            "UPDATE recipes SET slices = zeroblob(40)",
            "UPDATE headers SET header = replace(CAST(header AS TEXT), 'asked', 'never')",
        ):
            root = self.copied()
            Ledger.open(root).entries()
            with sqlite3.connect(os.path.join(root, "index.sqlite")) as db:
                db.execute(harm)
            db.close()
            found = self.verified(root)
            self.assertEqual([f.where for f in found.findings], ["index.sqlite"], harm)
            self.assertEqual(found.costs, ())
            self.assertEqual(self.verified(root).findings, ())

    def test_shares_come_to_the_whole(self) -> None:
        """Each time the packs are taken that were not checked for the longest."""
        root = self.copied()
        folder = os.path.join(root, "packs")
        packs = sorted(os.listdir(folder))
        for name in packs:
            with open(os.path.join(folder, name), "r+b") as file:
                file.seek(20)
                file.write(b"damage")
        seen: list[str] = []
        for _ in packs:
            found = verify(Ledger.open(root), share=1e-9)
            self.assertEqual(found.packs, 1)
            seen += [fault.where for fault in found.findings]
        self.assertEqual(sorted(seen), [f"packs/{name}" for name in packs])

    def test_a_cache_made_anew_under_others(self) -> None:
        """Who has it open reads on: a pack keeps its number, in which order it may be found again."""
        ledger = self.ledger("many")
        place = self.path("few")
        for number in range(8):  # a pack each, known in the order of time
            ledger.backup(self.place({f"{number}": os.urandom(500)}, "few"))
        entry = ledger.entries()[-1]
        files = ledger.tree(entry).files
        self.assertEqual(len(list(ledger.place(entry).read(files))), 8)
        other = Ledger.open(self.path("many"))
        other.index.renew()  # known in the order of their names
        other.index.close()
        for path, blocks in ledger.place(entry).read(files):
            with open(os.path.join(place, path), "rb") as file:
                self.assertEqual(b"".join(blocks), file.read())

    def test_what_is_remembered_of_files_is_held_against_its_digest(self) -> None:
        """A flipped bit there must not stand for a file that was not read."""
        place = self.place({"a": b"peat", "b": b"reeds"}, "old")
        for name in ("a", "b"):
            os.utime(place.path(name), (1e9, 1e9))
        time.sleep(0.1)  # a file that changed just now is not remembered
        ledger = self.ledger()
        ledger.backup(place)
        ledger.index.close()
        path = self.path("ledger", "index.sqlite")
        with sqlite3.connect(path) as db:
            key = f"={place.root}"
            ((data,),) = db.execute("SELECT columns FROM seen WHERE place = ?", (key,)).fetchall()
            for digest in (blake3(b"peat").digest(), blake3(b"reeds").digest()):
                flipped = bytes([digest[0] ^ 1]) + digest[1:]
                data = data.replace(digest, flipped)
            self.assertIn(flipped, data)
            db.execute("UPDATE seen SET columns = ? WHERE place = ?", (data, key))
        db.close()
        again = self.ledger()
        entry = again.backup(place)
        self.assertEqual(again.check(entry), [])
        self.assertEqual(again.tree(entry)["a"].digest, blake3(b"peat").digest())

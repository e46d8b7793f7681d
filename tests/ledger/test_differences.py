"""Differences: what changed is what is stored, and everything comes back."""

from __future__ import annotations

import os
import random
import unittest
from collections.abc import Iterator

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kindred_ledger.errors import LedgerDamaged
from kindred_ledger.ledger.chunking import LARGEST, SMALLEST, Chunker
from kindred_ledger.ledger.packs import read_index
from kindred_ledger.places import FolderPlace, read_bytes
from tests.support import Case, side_law, write


def region(seed: int, size: int = 2_000_000) -> bytes:
    """Return 16-bit ids in runs, as worlds are made of."""
    rng = np.random.default_rng(seed)
    lengths = rng.integers(1, 40, size=size // 20)
    ids = np.repeat(rng.integers(0, 300, size=lengths.size).astype("<u2"), lengths)[: size // 2]
    return ids.tobytes()


def scattered(data: bytes, seed: int) -> bytes:
    """Return the data with one byte in a hundred changed, in runs of 64."""
    edited = bytearray(data)
    rng = random.Random(seed)
    for _ in range(len(data) // 6400):
        at = rng.randrange(len(data) - 64)
        edited[at : at + 64] = rng.randbytes(64)
    return bytes(edited)


def pieces(data: bytes, rng: random.Random) -> Iterator[bytes]:
    at = 0
    while at < len(data):
        size = rng.choice((1, 100, 70_000, 300_000, 4 << 20))
        yield data[at : at + size]
        at += size


class Cutting(unittest.TestCase):
    def test_cuts_do_not_depend_on_the_blocks(self) -> None:
        """However a content is handed over: the same chunks, of the sizes promised, all of it."""
        for data in (region(1), os.urandom(1_500_000), bytes(1_000_000), b"ab" * 400_000, b"x"):
            whole = [bytes(c) for c in Chunker().chunks_of([data])]
            self.assertEqual(b"".join(whole), data)
            self.assertTrue(all(SMALLEST <= len(c) <= LARGEST for c in whole[:-1]))
            for seed in range(3):
                parts = Chunker().chunks_of(pieces(data, random.Random(seed)))
                self.assertEqual([bytes(c) for c in parts], whole)
        self.assertEqual(list(Chunker().chunks_of([])), [])

    def test_an_insertion_moves_the_cuts_along(self) -> None:
        """A few bytes in front, or in the middle, leave all chunks but those around them."""
        for data in (region(2), os.urandom(2_000_000)):
            whole = {bytes(c) for c in Chunker().chunks_of([data])}
            for at in (0, 1_000_001):
                edited = data[:at] + b"a hundred bytes" + data[at:]
                new = [c for c in map(bytes, Chunker().chunks_of([edited])) if c not in whole]
                self.assertLessEqual(len(new), 3)


class Growth(Case):
    def stored(self) -> int:
        packs = self.path("ledger", "packs")
        return sum(os.path.getsize(os.path.join(packs, name)) for name in os.listdir(packs))

    def grown(self, before: dict[str, bytes], after: dict[str, bytes]) -> int:
        """Keep one state, then another of the same place; return by how much the packs grew."""
        place = self.place(before)
        ledger = self.ledger()
        first = ledger.backup(place)
        size = self.stored()
        write(place.root, after)
        second = ledger.backup(place)
        for entry, files in ((first, before), (second, {**before, **after})):
            kept = ledger.place(entry)
            for name, data in files.items():
                self.assertEqual(read_bytes(kept, name), data, name)
            self.assertEqual(ledger.check(entry), [])
        return self.stored() - size

    def test_scattered_edits_cost_what_changed(self) -> None:
        """One byte in a hundred, in runs of 64: less than twice the changed bytes."""
        before = {f"{n}.region": region(n) for n in range(6)}
        after = {name: scattered(data, 7) for name, data in before.items()}
        changed = sum(len(data) // 100 for data in before.values())
        self.assertLess(self.grown(before, after), 2 * changed)

    def test_an_insertion_costs_next_to_nothing(self) -> None:
        """A hundred bytes in front of some files, in the middle of one of several chunks."""
        before = {f"{n}.region": region(n) for n in range(6)}
        before["large"] = b"".join(region(n) for n in range(10, 16))
        after = {name: os.urandom(100) + data for name, data in before.items()}
        large = before["large"]
        after["large"] = large[:5_000_000] + os.urandom(100) + large[5_000_000:]
        self.assertLess(self.grown(before, after), sum(map(len, before.values())) // 1000)

    def test_growing_at_the_end_and_changing_inside(self) -> None:
        """A world that grew and was changed here and there; one that only grew, to twice its size."""
        before = {"a": region(3, 4_000_000), "b": region(4)}
        after = {"a": scattered(before["a"], 8) + region(4, 200_000), "b": region(4) + region(5)}
        self.assertLess(self.grown(before, after), 2 * 40_000 + 50_000 + len(before["b"]) // 5)

    def test_nearly_the_same_in_another_install(self) -> None:
        """Under the same path of another place, with something put in front."""
        world = region(5)
        ledger = self.ledger()
        ledger.backup(self.place({"world": world}))
        size = self.stored()
        other = ledger.backup(self.place({"world": b"header" + world}, "other"))
        self.assertLess(self.stored() - size, len(world) // 500)
        self.assertEqual(read_bytes(ledger.place(other), "world"), b"header" + world)

    def test_a_large_world_that_changes_in_place(self) -> None:
        """A file of several chunks, one of which is new altogether: that one is stored, no other."""
        before = {"a": b"".join(region(n) for n in range(10, 16))}
        new = region(99, 4 << 20)
        data = scattered(before["a"], 8)
        after = {"a": data[: 4 << 20] + new + data[8 << 20 :]}
        changed = len(data) // 100 + len(new) // 6
        self.assertLess(self.grown(before, after), 2 * changed)

    def test_a_base_is_stored_whole_and_chains_stay_short(self) -> None:
        """After ten edits every difference has a base that is none, and all ten states are there."""
        place = self.place({})
        ledger = self.ledger()
        states, entries = [region(6)], []
        for number in range(10):
            write(place.root, {"a": states[-1]})
            entries.append(ledger.backup(place))
            states.append(scattered(states[-1], number))
        folder = self.path("ledger", "packs")
        chunks = [c for n in os.listdir(folder) for c in read_index(os.path.join(folder, n)).chunks]
        whole = {c.digest for c in chunks if not c.base}
        self.assertTrue(any(c.base for c in chunks))
        self.assertLessEqual({c.base for c in chunks if c.base}, whole)
        for state, entry in zip(states, entries, strict=False):
            self.assertEqual(read_bytes(ledger.place(entry), "a"), state)

    def test_a_damaged_base_is_not_built_upon(self) -> None:
        """What no longer has its digest is left alone: the new state is stored whole."""
        place = self.place({"a": region(7)})
        ledger = self.ledger()
        ledger.backup(place)
        folder = self.path("ledger", "packs")
        (name,) = os.listdir(folder)
        with open(os.path.join(folder, name), "r+b") as file:
            file.seek(1000)
            file.write(bytes(20_000))
        edited = scattered(region(7), 1)
        write(place.root, {"a": edited})
        entry = ledger.backup(place)
        changed = [c for c in read_index(self._other(folder, name)).chunks if not c.base]
        self.assertTrue(changed)
        for _, blocks in ledger.place(entry).read(["a"]):
            try:
                self.assertEqual(b"".join(blocks), edited)
            except LedgerDamaged as error:
                self.assertIn("entry:", str(error))

    def _other(self, folder: str, name: str) -> str:
        return os.path.join(folder, next(n for n in os.listdir(folder) if n != name))

    @settings(side_law, max_examples=max(20, side_law.max_examples // 5))
    @given(st.lists(st.tuples(st.integers(0, 600_000), st.binary(max_size=300), st.integers(0, 400)),
                    min_size=1, max_size=4))  # fmt: skip
    def test_any_edits_come_back(self, edits: list[tuple[int, bytes, int]]) -> None:
        """Whatever is cut out, put in or written over: every state is read as it was kept."""
        self.setUp()
        place = self.place({})
        ledger = self.ledger()
        state, states = region(8, 600_000), []
        for at, new, gone in edits:
            states.append(state)
            write(place.root, {"a": state})
            ledger.backup(FolderPlace(place.root))
            state = state[:at] + new + state[at + gone :]
        entries = ledger.entries()
        for kept, entry in zip(states, entries, strict=True):
            self.assertEqual(read_bytes(ledger.place(entry), "a"), kept)
        self.doCleanups()

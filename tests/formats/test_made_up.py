"""Layouts against made-up formats: whatever an independent writer writes is read, kept and edited right."""

from __future__ import annotations

import random
import unittest
from decimal import Decimal
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.errors import FormatError
from kindred_ledger.formats import Layout, LayoutDocument, Path
from kindred_ledger.formats.layouts import check_layout, invent
from tests.formats.made_up import atlas, ledgerwood, quilt
from tests.support import side_law

FORMATS: dict[str, Any] = {"atlas": atlas, "ledgerwood": ledgerwood, "quilt": quilt}
LAYOUTS = {name: Layout.parse(each.LAYOUT, name) for name, each in FORMATS.items()}
FIXED = {"magic", "version", "tag", "kind", "w", "h"}  # what others hang on
SEEDS = st.integers(0, 2**32)


def plain(value: Any) -> Any:
    """Return a value with floats as the decimals that layouts show."""
    if isinstance(value, dict):
        return {key: plain(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [plain(inner) for inner in value]
    return Decimal(repr(value)) if isinstance(value, float) else value


def other(value: Any, rng: random.Random) -> Any:
    """Return another value of the same kind that every field of the formats can hold."""
    if isinstance(value, bytes):
        return rng.randbytes(len(value))
    if isinstance(value, Decimal):
        return value // 2
    if isinstance(value, int):
        return value // 2 if value else 1
    if value.startswith("#"):
        return f"#{rng.randbytes(len(value) // 2).hex()}"
    if len(value) == 36 and value.count("-") == 4:
        return value[::-1] if value[::-1].count("-") == 4 and value[27] == "-" else value
    if value[4:5] == "-":
        return "2026-11-30T18:05:00Z" if "T" in value else "2026-11-30"
    return rng.choice(("", "Mossferry", "reed " * 20))


def put(value: Any, path: Path, new: Any) -> None:
    """Set what is at a path of a plain value."""
    for part in path[:-1]:
        value = value[part]
    value[path[-1]] = new


def without(value: Any, names: set[str]) -> Any:
    """Return a plain value without what follows from other fields."""
    if isinstance(value, dict):
        return {key: without(inner, names) for key, inner in value.items() if key not in names}
    return [without(inner, names) for inner in value] if isinstance(value, list) else value


FOLLOWS = {
    "atlas": {"size", "at", "raw", "pay", "check", "rows", "twice"},
    "ledgerwood": {"raw", "stored", "digest"},
    "quilt": {"count", "sum"},
}  # fmt: skip


class MadeUp(unittest.TestCase):
    @side_law
    @given(st.sampled_from(sorted(FORMATS)), SEEDS, st.integers(1, 3))
    def test_as_the_reader_reads_it(self, name: str, seed: int, version: int) -> None:
        """Every value, and the same bytes back; also when all is written anew."""
        data = FORMATS[name].made(random.Random(seed), version)
        document = LayoutDocument(data, LAYOUTS[name])
        self.assertEqual(document.get(()), plain(FORMATS[name].read(data)))
        self.assertEqual(document.encode(), data)
        report = check_layout(LAYOUTS[name], [(name, data)])
        self.assertEqual([f for f in report.findings if f.code.endswith(("bytes", "readable"))], [])

    @side_law
    @given(st.sampled_from(sorted(FORMATS)), SEEDS, st.integers(1, 3))
    def test_every_leaf(self, name: str, seed: int, version: int) -> None:
        """Edited one by one: the reader sees that one other, and what follows from it, and no more."""
        rng = random.Random(seed)
        data = FORMATS[name].made(rng, version)
        layout = LAYOUTS[name]
        leaves = [
            leaf
            for leaf in LayoutDocument(data, layout).leaves()
            if leaf.value not in ({}, [], None)
        ]
        for leaf in leaves if len(leaves) < 30 else rng.sample(leaves, 30):
            names = {part for part in leaf.path if isinstance(part, str)}
            if names & (FIXED | FOLLOWS[name]) - {"size"} or leaf.path[-1] == "size":
                continue
            new = other(leaf.value, rng)
            document = LayoutDocument(data, layout)
            document.set(leaf.path, new)
            after = FORMATS[name].read(document.encode())
            wanted = FORMATS[name].read(data)
            put(wanted, leaf.path, new)
            self.assertEqual(
                without(plain(after), FOLLOWS[name]),
                without(plain(wanted), FOLLOWS[name]),
                leaf.path,
            )

    @side_law
    @given(st.sampled_from(sorted(FORMATS)), SEEDS, st.integers(1, 3))
    def test_invented_files(self, name: str, seed: int, version: int) -> None:
        """What is made from a layout alone is read by the independent reader as well."""
        data = invent(LAYOUTS[name], version, random.Random(seed))
        document = LayoutDocument(data, LAYOUTS[name])
        self.assertEqual(document.get(()), plain(FORMATS[name].read(data)))

    @side_law
    @given(st.sampled_from(sorted(FORMATS)), SEEDS, st.integers(1, 3), st.integers(0, 10**6))
    def test_damage(self, name: str, seed: int, version: int, at: int) -> None:
        """One byte is another: it is refused with the byte, or it is a byte that says nothing."""
        data = bytearray(FORMATS[name].made(random.Random(seed), version))
        data[at % len(data)] ^= 1 << at % 8
        try:
            document = LayoutDocument(bytes(data), LAYOUTS[name])
        except FormatError as error:
            self.assertIn("byte", error.where or "")
            return
        self.assertEqual(document.get(()), plain(FORMATS[name].read(bytes(data))))


if __name__ == "__main__":
    unittest.main()

"""Capabilities: what each kind of place says of itself, and what is taken of one that says nothing."""

from __future__ import annotations

import os
import unittest
from collections.abc import Iterable, Iterator

from kindred_ledger.errors import UsageError
from kindred_ledger.places import (
    NO_LIMITS,
    FolderPlace,
    ItemPlace,
    JoinedPlace,
    MemoryPlace,
    Seen,
    SubPlace,
    Tree,
    ZipPlace,
    capabilities_of,
    folder_with,
    folders_of,
    limits_by_part_of,
    parts_of,
    roots_of,
    tells_names_apart,
)
from tests.support import Case, change_to


class Bare:
    """A place of somebody else's: three members, and nothing more."""

    location = "elsewhere"

    def __init__(self) -> None:
        self._inner = MemoryPlace({"a": b"1", "b/c": b"2"})

    def survey(self, *, seen: Seen | None = None) -> Tree:
        return self._inner.survey(seen=seen)

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        return self._inner.read(paths)


class Capabilities(Case):
    def test_of_each_kind(self) -> None:
        """Its folders, its parts, where a file of it lies on disk."""
        folder = self.place({"a": b"1", "in/b": b"2"})
        joined = JoinedPlace({"program": folder, "user": self.place({"c": b"3"}, "user")})
        item = ItemPlace(folder.root)
        self.assertEqual(roots_of(folder), {"": folder.root})
        self.assertEqual(roots_of(item), {".": folder.root})
        self.assertEqual((capabilities_of(item).item, capabilities_of(folder).item), ("place", ""))
        self.assertEqual(list(roots_of(joined)), ["program", "user"])
        self.assertEqual(list(parts_of(joined)), ["program", "user"])
        self.assertEqual(list(limits_by_part_of(joined)), ["program", "user"])
        self.assertEqual(list(folders_of(joined)), ["program", "user"])
        mixed = JoinedPlace({"program": folder, "user": MemoryPlace({})})
        self.assertEqual(folders_of(mixed), {})
        inner = SubPlace(joined, "program/in")
        self.assertEqual(folder_with(inner, "b"), (folder, "in/b"))
        self.assertIsNone(folder_with(mixed, "user/x"))
        self.assertTrue(capabilities_of(ZipPlace(os.path.join(folder.root, "x.zip"))).is_archive)
        kept = self.ledger()
        entry = kept.place(kept.backup(folder))
        verified = [capabilities_of(each).hands_out_verified for each in (entry, folder)]
        self.assertEqual(verified, [True, False])

    def test_of_one_that_says_nothing(self) -> None:
        """It is kept like any other; it is one part, on no disk, and cannot be changed."""
        bare, kept = Bare(), self.ledger()
        entry = kept.backup(bare)
        self.assertEqual((entry.files, dict(entry.roots)), (2, {"": "elsewhere"}))
        self.assertEqual(limits_by_part_of(bare), {"": NO_LIMITS})
        self.assertEqual((folders_of(bare), list(parts_of(bare))), ({}, [""]))
        self.assertFalse(tells_names_apart(bare, bare.survey()))
        with self.assertRaisesRegex(UsageError, "can be read but not changed"):
            change_to(bare, {"a": b"2"}).apply(kept)
        copy = FolderPlace(self.path("copy"))
        os.mkdir(copy.root)
        change_to(copy, {"a": b"1"}).apply(kept)


if __name__ == "__main__":
    unittest.main()

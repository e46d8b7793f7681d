"""Entries that somebody forged, with right digests: damage with its place, in every command; no traceback."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any

from kindred_ledger.ledger import manifest
from tests.support import Case, files_in, kindred, write

Change = Callable[[dict[str, Any], dict[str, Any]], object]


def tree(**columns: Any) -> Change:
    return lambda header, body: body["tree"].update(columns)


FORGED: dict[str, Change] = {
    "a path with NUL": tree(paths=["a\0x", "b"]),
    "a path that climbs": tree(paths=["../a", "b"]),
    "a path that climbs later": tree(paths=["a/../../x", "b"]),
    "an absolute path": tree(paths=["/tmp/evil", "b"]),
    "an empty part": tree(paths=["a//b", "b"]),
    "a path that is a number": tree(paths=[1, "b"]),
    "a path twice": tree(paths=["a", "a"]),
    "a mode beyond all": tree(modes=[10**20, 0]),
    "a mode below 0": tree(modes=[-1, 0]),
    "a size below 0": tree(sizes=[-5, 1]),
    "a size that is text": tree(sizes=["x", 1]),
    "a size beyond all": tree(sizes=[10**30, 1]),
    "a time beyond all": tree(mtimes_ns=[10**40, 1]),
    "digests that are no hex": tree(digests="zz" * 64),
    "too few digests": tree(digests="00"),
    "a kind that is none": tree(kinds="xq"),
    "a target that is a number": tree(kinds="lf", targets=[5]),
    "no tree": lambda header, body: body.pop("tree"),
    "a tree that is a list": lambda header, body: body.update(tree=[]),
    "a tag that is a number": lambda header, body: header.update(tag=5),
    "a count that is text": lambda header, body: header.update(files="many"),
}
ROOTS = (
    {"": "relative"},
    {"": "ftp://[::bad/"},
    {"zz": "/nowhere", "yy": "relative"},
    {"": "/a\0b"},
)


class Forged(Case):
    def setUp(self) -> None:
        super().setUp()
        write(self.path("place"), {"a": b"a", "b": b"b"})
        kindred("backup", "place", folder=self.folder)
        (self.name,) = os.listdir(self.path("ledger", "entries"))
        self.entry = self.name.partition(".")[0]
        with open(self.path("ledger", "entries", self.name), "rb") as file:
            self.true = file.read()

    def forge(self, change: Change) -> None:
        path = self.path("ledger", "entries", self.name)
        header, body = manifest.decode(self.true, where=path)
        change(header, body)
        with open(path, "wb") as file:
            file.write(manifest.encode(header, body))
        for name in os.listdir(self.path("ledger")):
            if name.startswith("index"):
                os.remove(self.path("ledger", name))

    def run_it(self, *args: str) -> int:
        done = kindred(*args, folder=self.folder)
        self.assertNotIn("Traceback", done.stderr, args)
        self.assertIn(done.returncode, range(6), args)
        return done.returncode

    def test_each(self) -> None:
        for name, change in FORGED.items():
            self.forge(change)
            self.assertEqual(self.run_it("verify"), 5, name)
            for command in (
                ("entries",),
                ("show", self.entry, "--files"),
                ("restore", self.entry, "--into", "new", "--yes"),
                ("restore", self.entry, "--yes"),
                ("export", self.entry, "out.tar.zst"),
                ("compare", self.entry, "place"),
                ("drill",),
                ("mirror", "other"),
            ):
                status = self.run_it(*command)
                if command[0] not in ("entries", "drill", "mirror"):
                    self.assertNotEqual(status, 0, (name, command))
            self.assertFalse(os.path.exists(self.path("a")), name)
            self.assertFalse(os.path.exists("/tmp/evil"), name)
        self.assertEqual(files_in(self.path("place")), {"a": b"a", "b": b"b"})

    def test_places_that_are_none(self) -> None:
        """It is said that there is no such folder, and which to name; elsewhere it can be brought back."""
        for number, roots in enumerate(ROOTS):
            self.forge(lambda header, body, roots=roots: header.update(roots=roots))  # type: ignore[misc]
            self.assertEqual(self.run_it("restore", self.entry, "--yes"), 2, roots)
            self.assertEqual(self.run_it("show", self.entry), 0, roots)
            if len(roots) == 1:
                into = f"new {number}"
                self.assertEqual(
                    self.run_it("restore", self.entry, "--into", into, "--yes"), 0, roots
                )
                self.assertEqual(files_in(self.path(into)), {"a": b"a", "b": b"b"})

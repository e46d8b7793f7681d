"""Entries that somebody forged, with right digests: damage with its place, in every command; no traceback."""

from __future__ import annotations

import json
import os
import shutil
import struct
from collections.abc import Callable
from typing import Any

from blake3 import blake3

from kindred_ledger.ledger import manifest, zstd
from tests.support import LONG, Case, files_in, kindred, write

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


def _index(part: str, **columns: Any) -> Callable[[dict[str, Any]], object]:
    return lambda index: (index[part] if part else index).update(columns)


INDEXES: dict[str, Callable[[dict[str, Any]], object]] = {
    "no frames": _index("", frames={}),
    "frames that are a list": _index("", frames=[1]),
    "a frame that begins below 0": _index("frames", start=[-5]),
    "a frame that begins later": _index("frames", start=[7]),
    "a frame without end": _index("frames", length=[1 << 60]),
    "a frame that ends behind the pack": _index("frames", length=[1 << 29]),
    "a frame that holds all memory": _index("frames", size=[1 << 62]),
    "a size that is text": _index("frames", size=["9"]),
    "too few sizes": _index("frames", size=[]),
    "a chunk before the frames": _index("chunks", at=[-1, 0]),
    "a chunk behind the frames": _index("chunks", at=[1 << 40, 0]),
    "a chunk larger than the frames": _index("chunks", size=[1 << 40, 1]),
    "a number beyond all": _index("chunks", size=[10**400, 1]),
    "digests that are no hex": _index("chunks", digest="zz" * 64),
    "digests that are cut": _index("chunks", digest="00"),
    "a difference of itself": lambda index: index.update(
        differences={"chunk": [0], "base": index["chunks"]["digest"][:64]}
    ),
    "a difference of what is none": _index("differences", chunk=[99], base="00" * 32),
    "a base that is cut": _index("differences", chunk=[0], base="00"),
    "a recipe of nothing": _index("", recipes=[{}]),
    "a recipe of another size": _index(
        "", recipes=[{"digest": "00" * 32, "size": 9, "chunks": "", "start": [], "length": []}]
    ),
    "stored as a number": _index("", stored=5),
    "again as text": _index("", again="x"),
}  # fmt: skip


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
            self.assertEqual(self.run_it("ledger", "verify"), 5, name)
            commands = (
                ("restore", self.entry, "--into", "new", "--yes"),
                ("ledger", "export", self.entry, "out.tar.zst"),
                ("ledger", "mirror", "other"),
                ("entries",),
                ("show", self.entry, "--files"),
                ("restore", self.entry, "--yes"),
                ("compare", self.entry, "place"),
                ("ledger", "drill"),
            )
            for command in commands if LONG else commands[:3]:
                status = self.run_it(*command)
                if command[-1] not in ("entries", "drill", "other"):
                    self.assertNotEqual(status, 0, (name, command))
            self.assertFalse(os.path.exists(self.path("a")), name)
            self.assertFalse(os.path.exists("/tmp/evil"), name)
        self.assertEqual(files_in(self.path("place")), {"a": b"a", "b": b"b"})

    def test_pack_indexes(self) -> None:
        """Every command ends with what is damaged, or does without; what is restored is right."""
        (name,) = os.listdir(self.path("ledger", "packs"))
        with open(self.path("ledger", "packs", name), "rb") as file:
            true = file.read()
        index, _ = zstd.decompress(true[true.rindex(_MAGIC) + 8 :])
        for label, change in INDEXES.items():
            columns = json.loads(index)
            change(columns)
            shutil.rmtree(self.path("ledger", "packs"))
            frames = true[: true.rindex(_MAGIC)]
            write(self.path("ledger", "packs"), dict([_pack(frames, columns)]))
            for cache in ("index.sqlite", "index.sqlite.sum"):
                if os.path.exists(self.path("ledger", cache)):
                    os.remove(self.path("ledger", cache))
            self.assertEqual(self.run_it("ledger", "verify"), 5, label)
            for command in _COMMANDS if LONG else _COMMANDS[:2]:
                self.run_it(*command.split())
            self.assertLessEqual(
                files_in(self.path("new")).items(), files_in(self.path("place")).items()
            )
            shutil.rmtree(self.path("new"), ignore_errors=True)

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


_COMMANDS = (
    "restore latest --into new --yes",
    "ledger heal",
    "entries",
    "ledger drill",
    "ledger retire --last 1 --yes",
)
_MAGIC = struct.pack("<I", zstd.SKIPPABLE)


def _pack(frames: bytes, columns: dict[str, Any]) -> tuple[str, bytes]:
    """Return the name and bytes of a pack with an index, whose digests are right."""
    index = zstd.compress(json.dumps(columns).encode() + b"\n")
    trailer = struct.pack("<32sQ8s", blake3(index).digest(), len(index), b"KLPACK\x00\x01")
    head = _MAGIC + struct.pack("<I", len(index) + len(trailer))
    return f"{blake3(index).hexdigest()[:32]}.pack.zst", frames + head + index + trailer

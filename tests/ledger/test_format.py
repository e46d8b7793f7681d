"""The ledger's form: what docs/ledger-format.md says is what is there, and is enough."""

from __future__ import annotations

import json
import os
import re
import shutil
import struct
import subprocess
import sys
import unittest

from blake3 import blake3

from kindred_ledger.ledger import zstd
from kindred_ledger.ledger.packs import read_index
from tests.support import ROOT, Case

DOCS = os.path.join(ROOT, "docs", "ledger-format.md")


class ByHand(Case):
    def setUp(self) -> None:
        super().setUp()
        self.files = {
            "small.txt": b"peat and reeds",
            "deep/a.bin": os.urandom(700_000),
            "changed.world": os.urandom(3 << 20),
            "moved.world": os.urandom(3 << 20),
            "empty": b"",
        }
        ledger = self.ledger()
        changed = bytearray(self.files["changed.world"])
        changed[::500] = bytes(len(changed[::500]))
        earlier = {"changed.world": bytes(changed), "moved.world": self.files["moved.world"][99:]}
        ledger.backup(self.place({**self.files, **earlier}))
        self.entry = ledger.backup(self.place(self.files))
        with open(DOCS, encoding="utf-8") as file:
            text = file.read()
        match = re.search(r"```python\n(.*?)```", text, re.S)
        assert match is not None
        self.recipe = match[1]

    def test_the_recipe_restores_every_file(self) -> None:
        """The program printed in the documentation gets out what was kept, without the library."""
        script = self.path("restore_one.py")
        with open(script, "w", encoding="utf-8") as file:
            file.write(self.recipe)
        environment = {"PATH": os.environ["PATH"]}
        isolated = ["-I"]
        if shutil.which("zstd") is None and sys.version_info < (3, 14):
            module = "import sys, backports.zstd; sys.modules['compression'] = backports\n"
            with open(script, "w", encoding="utf-8") as file:
                file.write(module + self.recipe)
        for name, data in self.files.items():
            out = self.path("out")
            done = subprocess.run(
                [sys.executable, *isolated, script, self.path("ledger"), self.entry.id, name, out],
                env=environment,
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            with open(out, "rb") as file:
                self.assertEqual(file.read(), data, name)

    @unittest.skipUnless(shutil.which("zstd") and os.name != "nt", "needs the program zstd")
    def test_the_shell_line_cuts_a_content_out(self) -> None:
        """`zstd -dc`, `tail` and `head` are enough."""
        folder = self.path("ledger", "packs")
        packs = [os.path.join(folder, name) for name in os.listdir(folder)]
        self.assertTrue(any(chunk.base for pack in packs for chunk in read_index(pack).chunks))
        self.assertTrue(any(read_index(pack).recipes for pack in packs))
        for pack in packs:
            for chunk in read_index(pack).chunks:
                line = f"zstd -dc {pack} | tail -c +$(({chunk.at} + 1)) | head -c {chunk.size}"
                data = subprocess.run(["sh", "-c", line], capture_output=True, check=False).stdout
                if not chunk.base:
                    self.assertEqual(blake3(data).digest(), chunk.digest)

    def test_packs_are_as_described(self) -> None:
        """A plain Zstandard stream, a skippable frame, and a name that is the index's digest."""
        folder = self.path("ledger", "packs")
        for name in os.listdir(folder):
            with open(os.path.join(folder, name), "rb") as file:
                data = file.read()
            digest, length, signature = struct.unpack("<32sQ8s", data[-48:])
            self.assertEqual(signature, b"KLPACK\x00\x01")
            stored = data[-48 - length : -48]
            self.assertEqual(blake3(stored).digest(), digest)
            self.assertEqual(name, f"{digest.hex()[:32]}.pack.zst")
            magic, size = struct.unpack("<II", data[-48 - length - 8 : -48 - length])
            self.assertEqual((magic, size), (0x184D2A5B, length + 48))
            index = json.loads(zstd.decompress(stored)[0])
            at, rest = 0, data
            for start, packed, unpacked in zip(*index["frames"].values(), strict=True):
                self.assertEqual(start, at)
                content, rest = zstd.decompress(rest)
                self.assertEqual((len(content), len(data) - len(rest)), (unpacked, start + packed))
                at = start + packed
            self.assertEqual(len(rest), length + 48 + 8)

    def test_manifests_are_as_described(self) -> None:
        """Two frames of one line each, and a seal over their bytes; the columns are equal."""
        path = self.path("ledger", "entries", f"{self.entry.id}.json.zst")
        with open(path, "rb") as file:
            data = file.read()
        magic, size, digest = struct.unpack("<II32s", data[-40:])
        self.assertEqual((magic, size), (0x184D2A5B, 32))
        self.assertEqual(digest, blake3(data[:-40]).digest())
        line, rest = zstd.decompress(data)
        header, body = json.loads(line), json.loads(zstd.decompress(rest)[0])
        self.assertEqual((header["format"], header["files"], header["complete"]), (1, 5, True))
        tree = body["tree"]
        lengths = {len(tree[name]) for name in ("paths", "kinds", "sizes", "mtimes_ns", "modes")}
        self.assertEqual(lengths, {6})
        self.assertEqual(len(tree["digests"]), 5 * 64)
        self.assertEqual(tree["paths"], sorted(tree["paths"]))

    def test_the_same_content_gives_the_same_packs(self) -> None:
        """Two ledgers of one place have packs of one name and content."""
        for name in ("one", "two"):
            self.ledger(name).backup(self.place(self.files))
        names = [set(os.listdir(self.path(name, "packs"))) for name in ("one", "two")]
        self.assertEqual(*names)

    def test_levels_follow_the_content(self) -> None:
        """Noise is copied, runs of ids pack well; whatever the level, it comes back."""
        noise = os.urandom(1 << 20)
        runs = b"".join(bytes([n % 7, 0]) * (n % 90) for n in range(20_000))
        for data in (noise, runs, b"", b"short", b"words and words " * 90_000):
            packed = zstd.compress(data)
            self.assertEqual(zstd.decompress(packed), (data, b""))
            self.assertEqual(zstd.compress(data), packed)
        self.assertLess(len(zstd.compress(noise)), len(noise) + 100)
        self.assertLess(len(zstd.compress(runs)), len(runs) // 20)

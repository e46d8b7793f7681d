"""Hostile input: an error with its place, or the work done, in bounded time and memory; no traceback."""

from __future__ import annotations

import json
import os
import struct
import subprocess
import sys
import unittest
import zipfile
from collections.abc import Callable

from kindred_ledger.errors import FormatError, KindredError, LedgerDamaged, UsageError
from kindred_ledger.formats import decode
from kindred_ledger.ledger import zstd
from kindred_ledger.places import Patterns, ZipPlace, scan
from tests.support import Case, kindred, write

_LARGEST = 1 << 30  # bytes of memory, of which the interpreter and NumPy take most
_PATIENCE_SECONDS = 60  # of a machine that has other things to do; what has no end takes longer

CARD = """card = 1
title = "x"
[program]
markers = ["run"]
[formats.f]
files = ["*.sav"]
codec = "CODEC"
MORE
version = { key = "KEY" }
builds = [{ builds = "*", writes = "2", reads = ["2"] }]
[[formats.f.steps]]
from = "1"
to = "2"
do = [DO]
"""
LAYOUT = "layout x\nlittle endian\n"
LAYOUTS = {
    "versions": LAYOUT + "versions 1 to 1000000000 from v\nv u32\n",
    "literal": LAYOUT + "a u8 since 1 default " + "9" * 5000 + "\n",
    "number": LAYOUT + "a bytes " + "9" * 5000 + "\n",
    "nested": LAYOUT + "".join(f"o{n} table 1 {{\n" for n in range(2000)) + "a u8\n" + "}\n" * 2000,
    "optional": LAYOUT + "".join(f"o{n} optional u8 {{\n" for n in range(2000)) + "}\n" * 2000,
    **{
        name: LAYOUT + f"a text u8 encoding {name}\n"
        for name in ("rot13", "zlib", "idna", "punycode", "unicode_escape", "undefined")
    },
}


class Files(Case):
    def limited(self, *args: str) -> subprocess.CompletedProcess[str]:
        """Run a command with little memory; it must end in time, with a status that is documented."""

        def limit() -> None:
            import resource

            resource.setrlimit(resource.RLIMIT_AS, (_LARGEST * 3, _LARGEST * 3))

        done = subprocess.run(
            [sys.executable, "-m", "kindred_ledger.cli.main", *args],
            cwd=self.folder,
            env={**os.environ, "KINDRED_LEDGER": "ledger"},
            capture_output=True,
            text=True,
            timeout=_PATIENCE_SECONDS,
            preexec_fn=limit if os.name != "nt" else None,
            check=False,
        )
        self.assertNotIn("Traceback", done.stderr, args)
        self.assertIn(done.returncode, range(6), args)
        return done

    def test_layouts(self) -> None:
        """Versions, numbers and nesting without end; encodings that are none of text."""
        for name, text in LAYOUTS.items():
            write(self.folder, {"x.layout": text.encode(), "s.sav": b"\3abc"})
            done = self.limited("card", "layout", "check", "x.layout", "s.sav")
            self.assertIn(done.returncode, (2, 4), (name, done.stdout))
            self.assertIn("x.layout", done.stderr, name)

    @unittest.skipUnless(hasattr(os, "mkfifo"), "needs pipes")
    def test_what_is_no_file(self) -> None:
        """A pipe that nobody writes to, a device without end, in the place of what is read whole."""
        write(self.folder, {"place/a": b"a", "s.sav": b"x", "game/run": b"x"})
        kindred("backup", "place", folder=self.folder)
        at = {
            "f.card.toml": ("card", "check", "f.card.toml"),
            "f.layout": ("card", "layout", "check", "f.layout", "s.sav"),
            "ledger/ledger.toml": ("entries",),
            "ledger/work/retiring.lock": ("ledger", "retire", "--last", "1", "--yes"),
        }
        for kind in (os.mkfifo, lambda path: os.symlink("/dev/zero", path)):
            for name, command in at.items():
                path = self.path(*name.split("/"))
                kept = None
                if os.path.exists(path):
                    kept = path + ".kept"
                    os.rename(path, kept)
                kind(path)
                done = self.limited(*command)
                self.assertIn(done.returncode, (2, 4, 5), (name, done.stderr))
                self.assertRegex(
                    done.stderr, "it is (no regular file|a link)|has the place of a lock", name
                )
                os.remove(path)
                if kept:
                    os.rename(kept, path)
        for folder in ("packs", "entries"):
            (name, *_) = os.listdir(self.path("ledger", folder))
            path = self.path("ledger", folder, name)
            os.rename(path, self.path("away"))
            for kind in (os.mkfifo, lambda path: open(path, "wb").close()):
                kind(path)
                done = self.limited("ledger", "verify")
                self.assertEqual(done.returncode, 5, done.stderr)
                os.remove(path)
            os.rename(self.path("away"), path)

    def test_cards(self) -> None:
        """Paths of thousands of parts, layouts that are devices, numbers beyond any."""
        cases = {
            "deep": ("json", ".".join(["a"] * 5000), "", ""),
            "device": ("layout", "v", 'layout = "/dev/zero"', ""),
            "numbers": ("json", "v", "", '{ rescale = "a", times = 1e308, plus = inf }'),
            "round": ("json", "v", "", '{ set = "a", by = "round(b * 1e38, 5)" }'),
            "large": ("json", "v", "", '{ set = "a", by = "value + 0" }'),
        }
        save = {"v": 1, "a": 5, "b": 17}
        for name, (codec, key, more, do) in cases.items():
            text = CARD.replace("CODEC", codec).replace("KEY", key).replace("MORE", more)
            data = json.dumps(save).replace('"a": 5', '"a": 1.' + "1" * 60).encode()
            write(
                self.folder, {"x.card.toml": text.replace("DO", do).encode(), "saves/s.sav": data}
            )
            done = self.limited("convert", "saves", "--to-format", "2", "--dry-run")
            self.assertIn(done.returncode, (2, 3, 4), (name, done.stdout, done.stderr))

    def test_toml(self) -> None:
        """Numbers of 100,000 digits, keys of 20,000 parts; 20,000 tables are done."""
        for text in (
            "x = " + "9" * 100_000,
            ".".join(["a"] * 20_000) + " = 1",
            '"a".' * 300 + "a = 1",
        ):
            with self.assertRaises(FormatError):
                decode(text.encode(), "toml")
        document = decode("".join(f"[t{n}]\na = 1\n" for n in range(20_000)).encode(), "toml")
        document.set(("t5", "a"), 2)
        self.assertIn(b"[t5]\na = 2\n", document.encode())

    def test_zip_without_times(self) -> None:
        """Tools that write no time write a month of 0; each command that reads archives goes on."""
        with zipfile.ZipFile(self.path("z.zip"), "w") as archive:
            archive.writestr("run", b"build 2.0")
            archive.writestr("data/b", b"b")
        with open(self.path("z.zip"), "rb") as file:
            data = bytearray(file.read())
        for sign, offset in ((b"PK\3\4", 10), (b"PK\1\2", 12)):
            at = -1
            while (at := data.find(sign, at + 1)) >= 0:
                data[at + offset : at + offset + 4] = struct.pack("<I", 0)
        write(self.folder, {"z.zip": bytes(data), "place/run": b"build 1.0"})
        self.assertEqual(scan(ZipPlace(self.path("z.zip")))["run"].mtime_ns, 0)
        for command in (
            ("ledger", "import", "z.zip"),
            ("compare", "z.zip", "place"),
            ("file", "identify", "z.zip"),
            ("shelf", "add", "z.zip", "--title", "x", "--build", "2.0"),
            ("shelf", "assemble", "z.zip", "--into", "new", "--yes"),
            ("restore", "latest", "--into", "back", "--yes"),
            ("card", "new", "place"),
        ):
            done = self.limited(*command)
            self.assertIn(done.returncode, (0, 1), (command, done.stderr))

    def test_archives_of_many_members(self) -> None:
        """60,000 of them: told what it is, and a card drafted, in seconds."""
        with zipfile.ZipFile(self.path("many.zip"), "w") as archive:
            for number in range(60_000):
                archive.writestr(f"d{number % 300}/{number}.cfg", b"[a]\nx = %d\n" % number)
        self.assertIn("zip", self.limited("file", "identify", "many.zip").stdout)
        self.assertIn("[[detect]]", self.limited("card", "new", "many.zip").stdout)

    def test_a_new_relative_folder(self) -> None:
        """What is made on the way ends at the folder one is in."""
        done = self.limited("shelf", "fetch", "2.0", "--index", "nowhere.toml", "--into", "parts")
        self.assertEqual(done.returncode, 2)
        from kindred_ledger.places import make_folders

        here = os.getcwd()
        os.chdir(self.folder)
        try:
            make_folders("parts/deep")
        finally:
            os.chdir(here)
        self.assertTrue(os.path.isdir(self.path("parts", "deep")))


class Bounds(unittest.TestCase):
    def test_patterns(self) -> None:
        """Stars beside stars take no time without end, and say the same; spans are counted."""
        from pathspec import GitIgnoreSpec

        self.assertFalse(Patterns(("*a*a*a*a*a*a*a*b",))("a" * 250))
        self.assertFalse(Patterns(("*?a*[ab]a*?a*?a*?a*b",))("a" * 250))
        self.assertFalse(Patterns(("**/a/**/a/**/b",))("a/" * 200 + "c"))
        with self.assertRaises(UsageError):
            Patterns(("**/a/**/a/**/a/**/b",))("a")
        for pattern in ("*a*b?c*[x-z]*d", "*\\**", "/x/*y*/z", "*\\*/b*", "data/**/*.t*", "*/*a*/"):
            for path in ("aabxcyzzd", "a*b", "x/ayb/z", "a*c*/bb", "data/a/b/c.txt", "x/ba/c", "z"):
                expected = GitIgnoreSpec.from_lines([pattern]).match_file(path)
                self.assertEqual(Patterns((pattern,))(path), expected, (pattern, path))

    def test_frames(self) -> None:
        """A frame that unpacks to out of all proportion is damaged, before it is unpacked."""
        bomb = zstd.compress(bytes(600 << 20), level=1)
        self.assertLess(len(bomb), 100_000)
        with self.assertRaises(LedgerDamaged):
            zstd.decompress(bomb)
        self.assertEqual(zstd.decompress(zstd.compress(bytes(4 << 20)))[0], bytes(4 << 20))

    def test_numbers(self) -> None:
        """What has more digits than are kept is refused, never cut."""
        from decimal import Decimal

        from kindred_ledger.formats.expressions import Expression

        def value(text: str, given: str) -> Callable[[], object]:
            return lambda: Expression.parse(text)(lambda name: Decimal(given))

        for text, given in (
            ("x + 0", "1." + "1" * 60),
            ("x * 3", "1" * 41),
            ("round(x, 5)", "1e39"),
            ("x * 1e399", "9e399"),
        ):
            with self.assertRaises(KindredError):
                value(text, given)()
        self.assertEqual(value("x + 1", "0." + "1" * 39)(), Decimal("1." + "1" * 39))
        self.assertEqual(value("x // 1", "1" * 60 + ".5")(), Decimal("1" * 60))
        self.assertEqual(value("x % 7", "-5.5")(), Decimal("1.5"))

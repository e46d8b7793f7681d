"""Extensions: cards, codecs and hooks of other packages; a card alone runs nothing."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tomllib

from tests.support import ROOT, Case, kindred, write

PACKAGE = {
    "reedworks-1.0.dist-info/entry_points.txt": (
        b"[console_scripts]\nreed = reedworks:main\n\n[kindred_ledger.cards]\nreedworks = reedworks.cards\n"
        b"[kindred_ledger.codecs]\nreed = reedworks.codec:ReedDocument\n"
        b"[kindred_ledger.hooks]\nsettle = reedworks.hooks:settle\nforget = reedworks.hooks:forget\n"
        b"stumble = reedworks.hooks:stumble\ngone = reedworks.hooks:gone\n"
    ),
    "reedworks/__init__.py": b"",
    "reedworks/codec.py": (
        b"from kindred_ledger.formats.json_text import JsonDocument\n\n"
        b"class ReedDocument(JsonDocument):\n    'JSON behind a mark.'\n"
        b"    def __init__(self, data):\n        super().__init__(data.removeprefix(b'REED'))\n"
        b"    def encode(self):\n        return b'REED' + super().encode()\n"
    ),
    "reedworks/hooks.py": (
        b"def settle(fields):\n    fields.change(('debt',), 0, 'debts are settled at the quay')\n"
        b"    fields.drop(('lender',), 'nobody is owed anything', loss=False)\n"
        b"def forget(fields):\n    fields.document.remove(('lender',))\n"
        b"def stumble(fields):\n    raise ZeroDivisionError('over a rope')\n"
    ),
    "reedworks/cards/reed.card.toml": (
        b'card = 1\ntitle = "reed"\n[program]\nmarkers = ["reed.exe"]\n'
        b'[formats.save]\nfiles = ["*.reed"]\ncodec = "reed"\nversion = { key = "format" }\n'
        b'builds = [{ builds = "*", writes = "2", reads = ["1", "2"] }]\n'
        b'[[formats.save.steps]]\nfrom = "1"\nto = "2"\n'
        b'do = [{ hook = "settle", reason = "debts are settled" }]\n'
    ),
}
SAVE = b'REED{"format": 1, "debt": 40, "lender": "Ines", "coins": 1.10}'


class Extensions(Case):
    def setUp(self) -> None:
        super().setUp()
        write(self.path("site"), PACKAGE)
        write(self.path("play", "saves"), {"one.reed": SAVE})
        self.environment = {
            "PYTHONPATH": os.pathsep.join((self.path("site"), *filter(None, sys.path)))
        }

    def run_it(self, *args: str) -> subprocess.CompletedProcess[str]:
        return kindred(*args, folder=self.path("play"), environment=self.environment)

    def test_a_package_brings_a_card_a_codec_and_a_hook(self) -> None:
        """Found by its entry points; what the hook does stands in the books with its reasons."""
        done = self.run_it("convert", "saves", "--to-format", "2", "--yes", "--lines", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        books = json.loads(done.stdout)["change"]["books"][0]
        told = {line["item"]: (line["outcome"], line.get("reason", "")) for line in books["lines"]}
        self.assertEqual(told["lender"], ("removed", "nobody is owed anything"))
        self.assertEqual(told["debt"], ("changed", "debts are settled at the quay"))
        with open(self.path("play", "saves", "one.reed"), "rb") as file:
            self.assertEqual(file.read(), b'REED{"format": 2, "debt": 0, "coins": 1.10}')
        self.assertIn(
            "debts are settled, by settle",
            self.run_it("card", "route", "save", "--from-format", "1", "--to-format", "2").stdout,
        )

    def test_hooks_are_held_by_the_books(self) -> None:
        """A field gone without a word, an error of the hook's own, no such hook: nothing is written."""
        path = self.path("site", "reedworks", "cards", "reed.card.toml")
        for name, words, status in (
            ("forget", "lender was there before and has no line", 3),
            ("stumble", "ZeroDivisionError: over a rope", 3),
            ("gone", "cannot be used", 3),
            ("setle", "did you mean 'settle'", 2),
        ):
            card = PACKAGE["reedworks/cards/reed.card.toml"].replace(
                b'"settle"', b'"%s"' % name.encode()
            )
            with open(path, "wb") as file:
                file.write(card)
            done = self.run_it("convert", "saves", "--to-format", "2", "--yes")
            self.assertEqual(done.returncode, status, done.stdout + done.stderr)
            self.assertIn(words, (done.stdout + done.stderr).replace("\n", " "))
        with open(self.path("play", "saves", "one.reed"), "rb") as file:
            self.assertEqual(file.read(), SAVE)


class Documented(Case):
    """The package that docs/extending.md shows, made from the page."""

    def setUp(self) -> None:
        super().setUp()
        with open(os.path.join(ROOT, "docs", "extending.md"), encoding="utf-8") as file:
            text = file.read()
        files, name = {}, ""
        for part in re.split(r"\n(?=```|`[\w./]+\.\w+`[:.])", text):
            if part.startswith("```") and name:
                files[name], name = part.partition("\n")[2], ""
            elif named := re.match(r"`([\w./]+\.\w+)`[:.]", part):
                name = named[1]
        self.assertEqual(
            {*files},
            {"pyproject.toml", "reedworks/codec.py", "reedworks/hooks.py",
             "reedworks/cards/reed.card.toml", "tests/test_codec.py"},
        )  # fmt: skip
        points = tomllib.loads(files.pop("pyproject.toml"))["project"]["entry-points"]
        lines = [
            f"[{group}]\n" + "".join(f"{name} = {value}\n" for name, value in points[group].items())
            for group in points
        ]
        files["reedworks-1.0.dist-info/entry_points.txt"] = "\n".join(lines)
        files["reedworks/__init__.py"] = ""
        write(self.path("site"), {name: text.encode() for name, text in files.items()})
        write(self.path("play", "saves"), {"one.reed": SAVE})
        self.environment = {
            "PYTHONPATH": os.pathsep.join((self.path("site"), *filter(None, sys.path)))
        }

    def test_it_converts(self) -> None:
        done = kindred(
            "convert", "saves", "--to-format", "2", "--yes",
            folder=self.path("play"), environment=self.environment,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        with open(self.path("play", "saves", "one.reed"), "rb") as file:
            self.assertEqual(file.read(), b'REED{"format": 2, "debt": 0, "coins": 1.10}')

    def test_its_codec_fulfils_the_contract(self) -> None:
        """And a codec that loses a comment, or reads anything, does not."""
        self.assertEqual(self.contract(), 0)
        path = self.path("site", "reedworks", "codec.py")
        with open(path, encoding="utf-8") as file:
            good = file.read()
        for bad in (
            good.replace("return MARK + super().encode()", 'return MARK + super().encode() + b" "'),
            good.replace("if not data.startswith(MARK):", "if False:"),
        ):
            self.assertNotEqual(bad, good)
            with open(path, "w", encoding="utf-8") as file:
                file.write(bad)
            self.assertEqual(self.contract(), 1)

    def contract(self) -> int:
        environment = {**os.environ, **self.environment, "PYTHONDONTWRITEBYTECODE": "1"}
        command = [sys.executable, os.path.join("tests", "test_codec.py")]
        done = subprocess.run(
            command, cwd=self.path("site"), env=environment, capture_output=True, check=False
        )
        return done.returncode

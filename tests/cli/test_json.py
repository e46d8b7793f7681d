"""JSON: the commands of the documentation, each with --json, print what the published schema says."""

from __future__ import annotations

import json
import os
import re
import shlex
import unittest
from typing import Any

import msgspec

from kindred_ledger.cli.catalog import COMMANDS, command_in, groups
from kindred_ledger.cli.shapes import SHAPES, Failed, schema
from kindred_ledger.demo.play_area import build_play_area
from tests.support import ROOT, PlayCase, kindred

_PAGES = (
    "guide.md", "releases.md", "transfers.md", "layouts.md", "updating/assemble.md",
    "updating/over-the-top.md", "edits.md", "mods.md", "worlds.md", "census.md",
    "long-games.md", "baked.md", "migrating.md",
)  # fmt: skip
_FOLDERS = {
    "edits.md": "edits", "mods.md": "modding", "worlds.md": "fens", "census.md": "fens",
    "long-games.md": "fleets", "baked.md": "fleets",
}  # fmt: skip
_NOT_SHOWN = {"demo", "sync watch"}  # a story, and what never ends
_IN_NO_PAGE = {"file patch make", "card new", "shelf remove", ""}


class Documented(PlayCase):
    def printed(self) -> list[dict[str, Any]]:
        """Run the commands of the pages in order, each page on a play area of its own."""
        environment = {
            "KINDRED_PASSPHRASE": "peat",
            "KINDRED_NEW_PASSPHRASE": "peat",
            "XDG_DATA_HOME": self.path("data"),
        }
        told = []
        for page in _PAGES:
            folder = os.path.join(os.path.dirname(self.folder), page.replace("/", "-"))
            build_play_area(folder)
            folder = os.path.join(folder, _FOLDERS.get(page, ""))
            with open(os.path.join(ROOT, "docs", *page.split("/")), encoding="utf-8") as file:
                lines = re.findall(r"^\$ kindred (.*)$", file.read(), re.M)
            for line in lines:
                args = shlex.split(line.partition("#")[0])
                if command_in(args) not in _NOT_SHOWN:
                    done = kindred(*args, "--json", folder=folder, environment=environment)
                    told.append(json.loads(done.stdout))
        return told

    def test_what_is_printed_is_of_the_schema(self) -> None:
        """Every command and every error: each key is there, of its kind, and no other."""
        told = self.printed()
        for args in (
            ("card", "new", "mossferry"),
            ("shelf", "add", "downloads/mossferry-1.4.zip"),
            ("shelf", "remove", "mossferry@1.4"),
            ("file", "patch", "make", "downloads/mossferry-1.4.zip", "downloads/mossferry-2.0.zip",
             "--out", "made.zip"),
            (), ("show", "nothing"), ("bakcup",), ("update",), ("entries", "--title", "zzz"),
            ("convert", "mossferry", "--to", "2.0", "--yes"), ("scan", "--lines"),
        ):  # fmt: skip
            told.append(self.kindred(*args, status=None))
        seen = set()
        for one in told:
            shape = Failed if "error" in one else SHAPES[one["command"]]
            msgspec.convert(one, shape, strict=True)
            seen.add(one["command"] if "error" not in one else None)
        self.assertEqual(set(SHAPES), (set(COMMANDS) - groups() - {"demo"}) | {""})
        self.assertEqual(set(SHAPES) - seen - {"sync watch"}, set())

    def test_the_schema_is_published(self) -> None:
        """docs/json-schema.json is made from the shapes, and docs/json.md names every command and key."""
        with open(os.path.join(ROOT, "docs", "json-schema.json"), encoding="utf-8") as file:
            self.assertEqual(json.load(file), schema())
        with open(os.path.join(ROOT, "docs", "json.md"), encoding="utf-8") as file:
            rows = re.findall(r"^\| (`[^|]+`|\(alone\)) \| ([^|]+) \|$", file.read(), re.M)
        shown = {
            name: set(re.findall(r"`([a-z_]+)`", keys))
            for names, keys in rows
            for name in (re.findall(r"`([a-z ]+)`", names) or [""])
        }
        for name, shape in SHAPES.items():
            keys = {each.encode_name for each in msgspec.structs.fields(shape)}
            self.assertEqual(shown.get(name), keys - {"command", "status"}, name)

    def test_lines(self) -> None:
        """Lines of the books are there if they are asked for."""
        args = ("convert", "mossferry", "--to", "2.0", "--dry-run")
        change = self.kindred(*args, "--lines")["change"]
        self.assertTrue(all(books["lines"] for books in change["books"]))
        self.assertNotIn("lines", self.kindred(*args)["change"]["books"][0])


if __name__ == "__main__":
    unittest.main()

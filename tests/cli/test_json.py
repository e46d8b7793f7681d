"""JSON: the commands of the documentation, each with --json, print the keys that docs/json.md says."""

from __future__ import annotations

import json
import os
import re
import shlex
import unittest
from collections.abc import Iterator
from typing import Any

from kindred_ledger.cli.catalog import command_in
from kindred_ledger.demo.play_area import build_play_area
from tests.support import ROOT, PlayCase, kindred

_PAGES = ("guide.md", "releases.md", "transfers.md", "updating/assemble.md")
_ALWAYS = {"command", "status", "error"}
_NOT_SHOWN = {"demo", "sync watch"}  # a story, and what never ends
_NEEDED = {"finding": {"code", "severity", "what"}, "line": {"outcome", "item"}}
_STATEMENT = {"subject", "unit", "totals", "before", "after"}


def tables() -> tuple[dict[str, set[str]], dict[str, set[str]]]:
    """Return the keys that docs/json.md gives: of commands, and of shapes that come back."""
    with open(os.path.join(ROOT, "docs", "json.md"), encoding="utf-8") as file:
        commands, shapes = file.read().partition("## Shapes")[::2]
    keys = {
        name: set(re.findall(r"`([a-z_]+)`", cells))
        for names, cells in re.findall(r"^\| (`[^|]+`) \| ([^|]+) \|$", commands, re.M)
        for name in re.findall(r"`([a-z ]+)`", names)
    }
    of_shapes = {
        name.removeprefix("a ").removeprefix("an "): set(re.findall(r"`([a-z_]+)`", cells))
        for name, cells in re.findall(r"^\| ([^|`]+) \| [^|]+ \| ([^|]+) \|$", shapes, re.M)
    }
    return keys, of_shapes


def found_in(value: Any, key: str) -> Iterator[Any]:
    """Yield what stands under a key, wherever it is."""
    if isinstance(value, dict):
        if key in value:
            yield value[key]
        for inner in value.values():
            yield from found_in(inner, key)
    elif isinstance(value, list):
        for inner in value:
            yield from found_in(inner, key)


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
            with open(os.path.join(ROOT, "docs", *page.split("/")), encoding="utf-8") as file:
                lines = re.findall(r"^\$ kindred (.*)$", file.read(), re.M)
            for line in lines:
                args = shlex.split(line.partition("#")[0])
                if command_in(args) not in _NOT_SHOWN:
                    done = kindred(*args, "--json", folder=folder, environment=environment)
                    told.append(json.loads(done.stdout))
        return told

    def test_every_key(self) -> None:
        """Of each command, and of the shapes that many have."""
        keys, shapes = tables()
        told = self.printed()
        seen: dict[str, set[str]] = {}
        for one in told:
            seen.setdefault(one["command"], set()).update(one.keys() - _ALWAYS)
        for name, found in seen.items():
            if found:
                self.assertLessEqual(found, keys.get(name, set()), name)
        self.assertGreater(len(seen), 25)
        changes = [
            one["change"] for one in told if "change" in one and one["command"] != "ledger confirm"
        ]
        self.assertTrue(changes)
        for change in changes:
            self.assertEqual(change.keys(), shapes["change that is computed"] - {"lines"})
        for made in filter(None, (one.get("applied") for one in told)):
            self.assertEqual(made.keys(), shapes["change that is made"])
        for books in (
            each for found in found_in(told, "books") if isinstance(found, list) for each in found
        ):
            self.assertEqual(books.keys() - {"lines"}, _STATEMENT)
        for each in (each for found in found_in(told, "findings") for each in found):
            self.assertLessEqual(_NEEDED["finding"], each.keys())
            self.assertLessEqual(each.keys(), shapes["finding"])
        for key, shape in (("entry", "entry"), ("oldest", "entry"), ("release", "release")):
            for each in (
                each for one in told for each in (one.get(key),) if isinstance(each, dict)
            ):
                self.assertEqual(each.keys(), shapes[shape], key)
        for key, name in (("entries", "entry"), ("installs", "install")):
            for each in (
                each for one in told if isinstance(one.get(key), list) for each in one[key]
            ):
                self.assertEqual(each.keys(), shapes[name], key)
        for one in told:
            for each in one["changes"] if one["command"] == "history" else ():
                self.assertEqual(each.keys(), shapes["change of the history"])
            if "error" in one:
                self.assertEqual(one["error"].keys(), shapes["error"])

    def test_lines(self) -> None:
        """Lines of the books are there if they are asked for."""
        shapes = tables()[1]
        args = ("convert", "mossferry", "--to", "2.0", "--dry-run")
        change = self.kindred(*args, "--lines")["change"]
        lines = [line for books in change["books"] for line in books["lines"]]
        for line in lines:
            self.assertLessEqual(_NEEDED["line"], line.keys())
            self.assertLessEqual(line.keys(), shapes["line"])
        self.assertEqual({key for line in lines for key in line} - shapes["line"], set())
        self.assertNotIn("lines", self.kindred(*args)["change"]["books"][0])


if __name__ == "__main__":
    unittest.main()

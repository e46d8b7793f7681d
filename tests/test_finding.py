"""Findings: every code of the source stands in the docs, and no other; one shape in words and JSON."""

from __future__ import annotations

import ast
import os
import re
import unittest

from kindred_ledger.finding import Finding, Severity, Sides, of_severity
from tests.support import ROOT

SRC = os.path.join(ROOT, "src", "kindred_ledger")
_MAKERS = {*Severity, "finding", "lose", "_found", "_note"}
_FAULTS = {"error", "warning", "note", "fault"}  # of mods, each with a finding
_CODE = re.compile(r"[a-z]+(-[a-z]+)*")


def codes_in(source: str) -> set[str]:
    """Return the codes that a module gives to findings: the first argument of what makes one, or `code`."""
    found = set()
    for node in ast.walk(ast.parse(source)):
        if not isinstance(node, ast.Call):
            continue
        given = [each.value for each in node.keywords if each.arg == "code"]
        name = node.func.attr if isinstance(node.func, ast.Attribute) else ""
        if isinstance(node.func, ast.Name) and node.func.id in _FAULTS:
            name = "finding"
        if node.args and name in _MAKERS:
            given.append(node.args[0])
        for first in given:
            ways = [first.body, first.orelse] if isinstance(first, ast.IfExp) else [first]
            texts = [way.value for way in ways if isinstance(way, ast.Constant)]
            found |= {t for t in texts if isinstance(t, str) and _CODE.fullmatch(t)}
    return found


class Codes(unittest.TestCase):
    def test_every_code_is_explained(self) -> None:
        """The tables of docs/findings.md name what the source can say, and nothing else."""
        said: set[str] = set()
        for top, _, names in os.walk(SRC):
            for name in names:
                if name.endswith(".py"):
                    with open(os.path.join(top, name), encoding="utf-8") as file:
                        said |= codes_in(file.read())
        with open(os.path.join(ROOT, "docs", "findings.md"), encoding="utf-8") as file:
            tables = file.read().partition("## Losses")[2]
        rows = re.findall(r"^\| (`.*?) \|", tables, re.M)
        explained = [code for row in rows for code in re.findall(r"`([a-z-]+)`", row)]
        self.assertEqual(sorted(explained), sorted(said))

    def test_the_reader_sees_a_code(self) -> None:
        """Whichever way it is given."""
        source = 'Finding.loss("a-b", x)\nself.lose("c", y)\nerror.finding("d" if z else "e")'
        self.assertEqual(codes_in(source), {"a-b", "c", "d", "e"})


class Shapes(unittest.TestCase):
    def test_in_json_and_in_words(self) -> None:
        """What a finding does not have is left out; a conflict has the values of its sides."""
        bare = Finding.note("only-times", "only times differ")
        self.assertEqual(
            bare.to_json(),
            {"code": "only-times", "severity": "note", "what": "only times differ"},
        )
        torn = Finding.conflict(
            "both-changed",
            "both changed it",
            where="a.ini",
            field="view.far",
            remedy="Decide.",
            sides=Sides("1", "2", ""),
        )
        self.assertEqual(str(torn), "a.ini: view.far: both changed it")
        self.assertEqual(torn.to_json()["sides"], {"base": "1", "mine": "2", "theirs": ""})
        self.assertEqual(of_severity((bare, torn), Severity.CONFLICT), (torn,))
        self.assertEqual(len({bare, torn, bare}), 2)


if __name__ == "__main__":
    unittest.main()

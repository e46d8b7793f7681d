"""The examples in all docstrings run; those of public names in the demo's folder."""

from __future__ import annotations

import doctest
import glob
import importlib
import inspect
import os
import re
import subprocess
import sys
import unittest
from typing import Any

import msgspec

import kindred_ledger as kl
from tests.support import PlayCase
from tests.test_floors import SRC, sources

_NAMES = re.compile(
    r"\b(?:kl\.|ledger\b|install\b|card\b|fens?\b)"
)  # of what stands ready in the demo's folder
_FLEETS = re.compile(r"\b(?:fleets|fleet_install|fresh_install|bundle)\b")
_FENS = re.compile(r"\b(?:fens|fen_install|new_lists|old_ids|new_ids|census)\b")
_OPTIONS = doctest.ELLIPSIS | doctest.NORMALIZE_WHITESPACE


class _Played:
    """The demo's folder to run one docstring in: there are `kl`, `card`, `install` and `ledger`."""

    def __init__(self) -> None:
        self._cases: list[tuple[PlayCase, str]] = []

    def begin(self, test: doctest.DocTest) -> None:
        if not any(_NAMES.search(example.source) for example in test.examples):
            return
        case = PlayCase()
        case.modding = any("modding/" in example.source for example in test.examples)
        case.fens = any(_FENS.search(example.source) for example in test.examples)
        case.fleets = any(_FLEETS.search(example.source) for example in test.examples)
        case.setUp()
        self._cases.append((case, os.getcwd()))
        os.chdir(case.folder)
        known: dict[str, Any] = {"kl": kl, "os": os, "glob": glob, "card": case.card}
        test.globs.update(known, install=case.install(), ledger=case.ledger())
        if case.fens:
            os.chdir(case.path("fens"))
            counted = any("census" in example.source for example in test.examples)
            test.globs.update(_of_the_fens(counted=counted))
        if case.fleets:
            os.chdir(case.path("fleets"))
            test.globs.update(_of_the_fleets(case.ledger()))

    def end(self, test: doctest.DocTest) -> None:
        if self._cases:
            case, folder = self._cases.pop()
            os.chdir(folder)
            case.doCleanups()


def _of_the_fens(*, counted: bool) -> dict[str, Any]:
    """Return what stands ready for examples about worlds, which run in the folder `fens`."""
    fens = kl.Card.load("fens.card.toml")
    fen_install = fens.open("game")
    new = kl.id_lists(fens.open_release("releases/fens-2.0.zip"))
    return {
        "fens": fens,
        "fen_install": fen_install,
        "new_lists": new,
        "old_ids": kl.id_lists(fen_install)["things"],
        "new_ids": new["things"],
        "census": kl.take_census(kl.open_world(fen_install, "northbog")) if counted else None,
        "msgspec": msgspec,
    }


def _of_the_fleets(ledger: kl.Ledger) -> dict[str, Any]:
    """Return what stands ready for examples about long games, which run in the folder `fleets`."""
    fleets = kl.Card.load("fleets.card.toml")
    subprocess.run(
        [sys.executable, "fleets.py", "--long", "long.fleet", "6", "4", "3"], cwd="old", check=True
    )
    fleet_install, fresh_install = fleets.open("old"), fleets.open("new")
    plan = kl.transplant(fleet_install, fresh_install, ledger=ledger)
    return {
        "fleets": fleets, "fleet_install": fleet_install, "fresh_install": fresh_install,
        "bundle": plan.bundle,
    }  # fmt: skip


class Examples(unittest.TestCase):
    def test_every_public_name_has_one(self) -> None:
        """Each class and function that people use shows how, in a docstring whose lines are run."""
        public = {name: getattr(kl, name) for name in kl.__all__}
        without = [
            name
            for name, value in public.items()
            if inspect.isclass(value) or inspect.isfunction(value)
            if ">>>" not in (inspect.getdoc(value) or "")
        ]
        self.assertEqual(without, [])


def load_tests(
    loader: unittest.TestLoader, tests: unittest.TestSuite, pattern: str
) -> unittest.TestSuite:
    """Run the examples in all docstrings."""
    for path in sources():
        name = os.path.relpath(path, os.path.dirname(SRC))[:-3].replace(os.sep, ".")
        if name.endswith((".game", ".fens", ".fleets")):  # programs of their own
            continue
        module, play = importlib.import_module(name.removesuffix(".__init__")), _Played()
        tests.addTests(
            doctest.DocTestSuite(module, setUp=play.begin, tearDown=play.end, optionflags=_OPTIONS)
        )
    return tests


if __name__ == "__main__":
    unittest.main()

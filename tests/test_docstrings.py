"""The examples in all docstrings run; those of public names in the demo's folder."""

from __future__ import annotations

import doctest
import glob
import importlib
import inspect
import os
import re
import unittest
from typing import Any

import kindred_ledger as kl
from tests.support import PlayCase
from tests.test_floors import SRC, sources

_NAMES = re.compile(
    r"\b(?:kl\.|ledger\b|install\b|card\b)"
)  # of what stands ready in the demo's folder
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
        case.setUp()
        self._cases.append((case, os.getcwd()))
        os.chdir(case.folder)
        known: dict[str, Any] = {"kl": kl, "os": os, "glob": glob, "card": case.card}
        test.globs.update(known, install=case.install(), ledger=case.ledger())

    def end(self, test: doctest.DocTest) -> None:
        if self._cases:
            case, folder = self._cases.pop()
            os.chdir(folder)
            case.doCleanups()


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
        if name.endswith(".game"):  # a program of its own
            continue
        module, play = importlib.import_module(name.removesuffix(".__init__")), _Played()
        tests.addTests(
            doctest.DocTestSuite(module, setUp=play.begin, tearDown=play.end, optionflags=_OPTIONS)
        )
    return tests


if __name__ == "__main__":
    unittest.main()

"""What is done stands, though nothing can be cleared afterwards: that is no failure, and is cleared later."""

from __future__ import annotations

import contextlib
import errno
import io
import os
from typing import Any
from unittest import mock

from kindred_ledger.cli.main import main
from kindred_ledger.places import WORK_FOLDER, OpenFolder
from tests.support import PlayCase

_COMMANDS = (
    "backup mossferry",
    "convert mossferry --to 2.0 --yes --allow-loss",
    "undo --yes --allow-loss",
    "file patch apply downloads/wet-lantern.patches.zip mossferry/data/harbours.json --result full --yes",
    "update mossferry downloads/mossferry-2.0.zip --old downloads/mossferry-1.4.zip"
    " --yes --allow-loss --theirs program/data/harbours.json",
    "restore first --into new --yes",
    "shelf assemble downloads/mossferry-1.4.zip --into made --yes",
    "shelf add downloads/mossferry-2.0.zip --title mossferry --build 2.0",
    "ledger mirror other",
    "ledger drill",
)


def _refused(*_: Any, **__: Any) -> None:
    raise PermissionError(errno.EACCES, os.strerror(errno.EACCES), "here")


class Cleaning(PlayCase):
    def test_nothing_can_be_cleared(self) -> None:
        """Every command that clears up ends with 0, and says so where a change is left to be cleared."""
        first = ""
        told = ""
        for command in _COMMANDS:
            args = [first if part == "first" else part for part in command.split()]
            with mock.patch.object(OpenFolder, "remove_tree", _refused):
                status, shown = self.run_here(*args)
            self.assertEqual(status, 0, (command, shown))
            told += shown
            self.run_here("recover")
            first = first or sorted(os.listdir(self.path("ledger", "entries")))[0].partition(".")[0]
            for place in ("mossferry", "new", "made"):
                self.assertFalse(os.path.exists(self.path(place, WORK_FOLDER)), command)
            changes = [
                n for n in os.listdir(self.path("ledger", "work")) if n.startswith("change-")
            ]
            self.assertEqual(changes, [], command)
        self.assertIn("could not be cleared yet", told)

    def run_here(self, *args: str) -> tuple[int, str]:
        """Run a command in this process; return its status and what it showed."""
        shown = io.StringIO()
        environment = mock.patch.dict(os.environ, KINDRED_LEDGER=self.path("ledger"))
        with (
            contextlib.chdir(self.folder),
            environment,
            contextlib.redirect_stdout(shown),
            contextlib.redirect_stderr(shown),
        ):
            return main(list(args)), shown.getvalue()

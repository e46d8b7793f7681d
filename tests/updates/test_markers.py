"""Markers: written and removed like any change; what is no marker is never touched."""

from __future__ import annotations

import os
import unittest

from kindred_ledger.changes import undo
from kindred_ledger.errors import DecisionNeeded, UnsafeName, UsageError
from kindred_ledger.updates import remove_marker, write_marker
from tests.support import PlayCase, snapshot, write

_AT = "program/moving/to-2.0.txt"


class Markers(PlayCase):
    def test_written_removed_and_taken_back(self) -> None:
        """All three lead where they say, the folder of the marker included."""
        install, ledger = self.install(), self.ledger()
        before = snapshot(self.path("mossferry"))
        marked = write_marker(install, _AT, "Since tonight.\n", ledger=ledger).apply(ledger)
        with open(self.path("mossferry", "moving", "to-2.0.txt"), encoding="utf-8") as file:
            self.assertEqual(file.read(), "Since tonight.\n")
        self.assertFalse(write_marker(install, _AT, "Since tonight.\n", ledger=ledger).actions)
        other = write_marker(install, _AT, "Since monday.\n", ledger=ledger)
        self.assertFalse(other.conflicts)
        other.apply(ledger)
        remove_marker(install, _AT, ledger=ledger).apply(ledger)
        self.assertFalse(os.path.exists(self.path("mossferry", "moving", "to-2.0.txt")))
        self.assertFalse(remove_marker(install, _AT, ledger=ledger).actions)
        for _ in range(2):
            undo(ledger=ledger).apply(ledger)
        undo(marked.record.id, ledger=ledger).apply(ledger)
        self.assertEqual(snapshot(self.path("mossferry")), before)

    def test_what_is_no_marker_stays(self) -> None:
        """A file of the game, a marker that was changed, one of another install of the title."""
        install, ledger = self.install(), self.ledger()
        theirs = write_marker(install, "program/version.txt", "x", ledger=ledger)
        gone = remove_marker(install, "program/version.txt", ledger=ledger)
        write_marker(install, _AT, "Since tonight.\n", ledger=ledger).apply(ledger)
        other = self.install("second/mossferry")
        write(self.path("second", "mossferry"), {"moving/to-2.0.txt": b"Since tonight.\n"})
        elsewhere = remove_marker(other, _AT, ledger=ledger)
        write(self.path("mossferry"), {"moving/to-2.0.txt": b"Since ever.\n"})
        for change in (theirs, gone, elsewhere, remove_marker(install, _AT, ledger=ledger)):
            self.assertEqual([each.code for each in change.conflicts], ["occupied"])
            with self.assertRaises(DecisionNeeded):
                change.apply(ledger)

    def test_nowhere_else(self) -> None:
        install, ledger = self.install(), self.ledger()
        for path, error in (
            ("elsewhere/x.txt", UsageError),
            ("program", UsageError),
            ("", UnsafeName),
            ("program/../x.txt", UnsafeName),
        ):
            with self.assertRaises(error):
                write_marker(install, path, "x", ledger=ledger)


if __name__ == "__main__":
    unittest.main()

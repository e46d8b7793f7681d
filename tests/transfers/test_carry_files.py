"""Files between any two places: the rented server's story, what both held last, and what a card holds."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from contextlib import AbstractContextManager, nullcontext
from typing import Any

from hypothesis import given

from kindred_ledger.changes import restore, undo
from kindred_ledger.demo.rented_server import rented_server, write_remotes
from kindred_ledger.errors import DecisionNeeded
from kindred_ledger.ledger import Ledger
from kindred_ledger.places import FolderPlace
from kindred_ledger.places.remotes import Login
from kindred_ledger.statement import Outcome
from kindred_ledger.transfers import CarryChoices, carry_files
from tests.servers import Line, Manner, broken_line, sftp_server
from tests.support import Case, PlayCase, contents, files_in, kindred, side_law, write

_LARGE = "worlds/drowned.bog"


class Story:
    """Look, keep, edit, send; the line drops; go on, compare, go back. On a server of a kind."""

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        raise NotImplementedError

    def break_line(self, after: int) -> None:
        raise NotImplementedError

    def mend_line(self) -> int:
        """Let everything through again; return how many bytes were sent since it was last asked."""
        raise NotImplementedError

    def setUp(self) -> None:
        super().setUp()
        self.url, login = self.enterContext(self.serve())
        write_remotes(self.path("remotes.toml"), self.url, login)
        self.enterContext(_Environment(KINDRED_REMOTES=self.path("remotes.toml")))

    def test_the_whole_story(self) -> None:
        before = files_in(self.path("server"))
        kept = self.kindred("backup", self.url, "--title", "mossferry", "--build", "2.0")["entry"]
        self.assertEqual((kept["files"], kept["size_bytes"]), (len(before), _bytes(before)))
        self.assertEqual(kept["tag"]["version"], "2.0")
        self.kindred("restore", kept["id"], "--into", "work", "--yes")
        self.assertEqual(files_in(self.path("work")), before)

        edited = {
            **before,
            "tables.xml": before["tables.xml"].replace(b"Heron Rest", b"Heron's Rest"),
            _LARGE: os.urandom(3_000_000),
        }
        write(self.path("work"), edited)
        planned = self.kindred("carry", "work", self.url, "--dry-run", "--lines")["change"]
        self.assertEqual(
            sorted(
                x["item"] for x in planned["place_books"]["lines"] if x["outcome"] != "unchanged"
            ),
            sorted(path for path in edited if edited[path] != before.get(path)),
        )
        self.assertEqual(files_in(self.path("server")), before)

        self.mend_line()
        self.break_line(1_500_000)
        told = kindred("carry", "work", self.url, "--yes", folder=self.folder)
        self.assertEqual(told.returncode, 4, told.stderr)
        self.assertIn("What was sent so far waits: run this again to go on", told.stderr)
        there = files_in(self.path("server"))
        self.assertEqual(_theirs(there), before)
        waiting = _bytes(there) - _bytes(before)
        self.assertGreater(waiting, 0)
        self.mend_line()

        done = self.kindred("carry", "work", self.url, "--yes")["applied"]
        # what had not come through yet, with what asking and reading back take
        self.assertLess(self.mend_line(), 3_000_000 - waiting + 100_000)
        self.assertEqual(files_in(self.path("server")), edited)
        for books, ins in zip(done["books"], (before, edited), strict=True):
            self.assertEqual((books["before"], books["after"]), (len(ins), len(edited)))
        self.kindred("compare", "work", self.url)
        self.assertEqual(self.judged(), 0)

        self.kindred("undo", done["id"], "--yes")
        self.assertEqual(files_in(self.path("server")), before)
        self.assertEqual(self.judged(), 0)
        self.kindred("compare", kept["id"], self.url)
        self.assertEqual(self.kindred("recover")["recovered"], [])

    def test_what_the_server_wrote_meanwhile_is_not_replaced(self) -> None:
        """Its own world stays; what both changed is asked about, and nothing is sent till it is answered."""
        self.kindred("backup", self.url)
        self.kindred("restore", "latest", "--into", "work", "--yes")
        write(
            self.path("server"), {"worlds/northbog.bog": b"played on", "tables.xml": b"<theirs/>"}
        )
        write(self.path("work"), {"tables.xml": b"<mine/>", "notes.txt": b"mine"})
        asked = self.kindred("carry", "work", self.url, "--yes", status=3)["error"]
        self.assertIn("tables.xml: both changed it since files last went", asked["remedy"])
        self.assertNotIn("northbog", asked["remedy"])
        self.assertEqual(files_in(self.path("server"))["tables.xml"], b"<theirs/>")
        self.kindred("carry", "work", self.url, "--yes", "--keep", "tables.xml")
        there = files_in(self.path("server"))
        self.assertEqual(there["worlds/northbog.bog"], b"played on")
        self.assertEqual(there["tables.xml"], b"<theirs/>")
        self.assertEqual(there["notes.txt"], b"mine")
        # and the other way, from there to here: what only the server changed comes
        self.kindred("carry", self.url, "work", "--yes", "--both", "tables.xml")
        here = files_in(self.path("work"))
        self.assertEqual(here["worlds/northbog.bog"], b"played on")
        self.assertEqual(here["tables.xml"], b"<mine/>")
        self.assertIn(b"<theirs/>", here.values())

    def judged(self) -> int:
        """Let the simulated server load what is there."""
        shutil.rmtree(self.path("judged"), ignore_errors=True)
        shutil.copytree(self.path("server"), self.path("judged"))
        if os.path.exists(self.path("judged", _LARGE)):
            os.remove(self.path("judged", _LARGE))  # noise; it is no world
        program = self.path("judged", "mossferry_server.py")
        return subprocess.run(
            [sys.executable, program], capture_output=True, check=False
        ).returncode


class OverFtpWithTls(Story, PlayCase):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        Manner.reset()
        self.addCleanup(Manner.reset)
        return rented_server(self.path("server"), self.folder, manner=Manner)

    def break_line(self, after: int) -> None:
        Manner.cut_after = after

    def mend_line(self) -> int:
        sent = Manner.stored
        Manner.reset()
        return sent


class OverSftp(Story, PlayCase):
    line: Line

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        url, login = self.enterContext(sftp_server(self.path("server")))
        led, self.line = self.enterContext(broken_line(url))
        return nullcontext((led, login))

    def break_line(self, after: int) -> None:
        self.line.left = after

    def mend_line(self) -> int:
        sent, self.line.passed, self.line.left = self.line.passed, 0, -1
        return sent


class Laws(unittest.TestCase):
    @side_law
    @given(contents, contents, contents)
    def test_nothing_is_chosen_silently(
        self, base: dict[str, Any], here: dict[str, Any], there: dict[str, Any]
    ) -> None:
        """Three made-up sides: each path as the table says, by a judge of its own; undo gives it back."""
        base, here, there = (
            {path: data for path, data in side.items() if isinstance(data, bytes)}
            for side in (base, here, there)
        )
        if _clash(base, here, there):
            return
        with tempfile.TemporaryDirectory() as folder:
            ledger = Ledger.open(f"{folder}/ledger")
            for name in ("here", "there"):
                write(f"{folder}/{name}", {})
            source, target = FolderPlace(f"{folder}/here"), FolderPlace(f"{folder}/there")
            write(source.root, base)
            carry_files(source, target, ledger=ledger).apply(ledger)
            self.assertEqual(files_in(target.root), base)
            for place, side in ((source, here), (target, there)):
                shutil.rmtree(place.root)
                write(place.root, side)
            change = carry_files(source, target, ledger=ledger)
            asked = {conflict.where for conflict in change.conflicts}
            both = {
                path
                for path in here
                if here[path] != there.get(path) and base.get(path) not in (here[path],)
                if there.get(path) != base.get(path)
            }
            self.assertEqual(asked, both)
            if asked:
                with self.assertRaises(DecisionNeeded):
                    change.apply(ledger, allow_loss=True)
                self.assertEqual(files_in(target.root), there)
                choices = CarryChoices(keep=lambda path: True)
                change = carry_files(source, target, ledger=ledger, choices=choices)
            expected = dict(there)
            for path, data in here.items():
                if path not in both and data != base.get(path):
                    expected[path] = data
            done = change.apply(ledger)
            self.assertEqual(files_in(target.root), expected)
            books = done.statements[1]
            self.assertEqual(books.counted_before, len(here))
            lines = [line.outcome for line in books.lines]
            self.assertLessEqual(lines.count(Outcome.UNCHANGED), books.counted_after)
            undo(done.record.id, ledger=ledger).apply(ledger, allow_loss=True)
            self.assertEqual(files_in(target.root), there)
            ledger.index.close()


class Between(Case):
    def test_what_went_is_remembered(self) -> None:
        """After files went either way, only what changed since goes; removals when asked for."""
        ledger = self.ledger()
        here = self.place({"a": b"1", "b": b"2", "c": b"3"}, "here")
        there = self.place({"a": b"1", "b": b"old"}, "there")
        first = carry_files(here, there, ledger=ledger)
        self.assertEqual([c.where for c in first.conflicts], ["b"])
        choices = CarryChoices(overwrite=lambda path: True)
        carry_files(here, there, ledger=ledger, choices=choices).apply(ledger, allow_loss=True)
        write(here.root, {"a": b"1 and more", "b": b"2 and more"})
        os.remove(self.path("here", "c"))
        change = carry_files(here, there, ledger=ledger)
        self.assertEqual((change.conflicts, change.losses), ((), ()))
        self.assertIn("there they stay (or `exact=True`): c", str(change.notes[1]))
        exact = carry_files(here, there, ledger=ledger, exact=True)
        self.assertEqual([loss.where for loss in exact.losses], ["c"])
        exact.apply(ledger, allow_loss=True)
        self.assertEqual(files_in(there.root), {"a": b"1 and more", "b": b"2 and more"})
        write(here.root, {"c": b"again"})
        carry_files(here, there, ledger=ledger).apply(ledger)
        self.assertEqual(files_in(there.root), files_in(here.root))

    def test_a_restore_elsewhere_is_remembered(self) -> None:
        """Of an entry restored into another folder both held the same; one undone counts for nothing."""
        ledger = self.ledger()
        there = self.place({"a": b"1"}, "there")
        entry = ledger.backup(there)
        here = self.place({}, "here")
        done = restore(entry, here, ledger=ledger).apply(ledger)
        write(here.root, {"a": b"2"})
        self.assertEqual(carry_files(here, there, ledger=ledger).conflicts, ())
        write(here.root, {"a": b"1"})
        undo(done.record.id, ledger=ledger).apply(ledger)
        write(here.root, {"a": b"2"})
        self.assertEqual(len(carry_files(here, there, ledger=ledger).conflicts), 1)

    def test_names_that_differ_in_case_only(self) -> None:
        """What the target has under another spelling is the same file; it keeps its own name."""
        ledger = self.ledger()
        here = self.place({"Saves/Eel.voyage": b"new", "Saves/two": b"2"}, "here")
        there = self.place({"SAVES/EEL.VOYAGE": b"old"}, "there")
        choices = CarryChoices(overwrite=lambda path: True)
        change = carry_files(here, there, ledger=ledger, choices=choices)
        change.apply(ledger, allow_loss=True)
        self.assertEqual(files_in(there.root), {"SAVES/EEL.VOYAGE": b"new", "SAVES/two": b"2"})


class Direction(PlayCase):
    def test_what_the_target_does_not_read_needs_consent(self) -> None:
        """Known from what it was last kept as; a build that is named counts instead."""
        self.kindred("backup", "handheld", "--title", "mossferry", "--build", "2.0")
        self.kindred("restore", "latest", "--into", "desk", "--yes")
        self.kindred("convert", "desk/evening.pocket", "--to", "2.1", "--yes", "--allow-loss")
        before = files_in(self.path("handheld"))
        told = self.kindred("carry", "desk", "handheld", "--yes", status=3)["error"]
        self.assertIn("evening.pocket: Mossferry 2.0 does not read pocket format 3", told["remedy"])
        self.assertEqual(files_in(self.path("handheld")), before)
        self.kindred("carry", "desk", "handheld", "--build", "2.1", "--yes")
        self.assertEqual(files_in(self.path("handheld")), files_in(self.path("desk")))


def _clash(*sides: dict[str, bytes]) -> bool:
    """Tell whether a file of one side is a folder of another, or names are one but for case."""
    paths = {path for side in sides for path in side}
    folded = {path.casefold() for path in paths}
    return len(folded) < len(paths) or any(
        other.startswith(f"{path}/") for path in paths for other in paths
    )


def _theirs(files: dict[str, bytes]) -> dict[str, bytes]:
    """Return files but for what a change put aside."""
    return {path: data for path, data in files.items() if not path.startswith(".kindred-work/")}


def _bytes(files: dict[str, bytes]) -> int:
    return sum(map(len, files.values()))


class _Environment(AbstractContextManager[None]):
    def __init__(self, **values: str) -> None:
        self._values = values

    def __enter__(self) -> None:
        os.environ.update(self._values)

    def __exit__(self, *exc: object) -> None:
        for name in self._values:
            os.environ.pop(name, None)


if __name__ == "__main__":
    unittest.main()

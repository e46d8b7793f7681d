"""Switching: builds that share a folder of data take turns, and none ever loses a byte."""

from __future__ import annotations

import os
import shutil
import tempfile
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from kindred_ledger.cards import Card
from kindred_ledger.changes import confirm, recover, undo
from kindred_ledger.errors import DecisionNeeded, LossNotAllowed, UsageError
from kindred_ledger.ledger import Ledger, RetentionPolicy, plan_retirement
from kindred_ledger.transfers import Begin, live_build, switch
from tests.small import CARD, SmallCase
from tests.support import files_in, kindred, side_law, snapshot, write

BUILDS = ("1.0", "2.0", "3.0")
_LOCATION = """
[locations.user]
linux = ["{home}/quill"]
macos = ["{home}/quill"]
windows = ["{home}/quill"]
[formats.letter]
files = ["/user/*.letter"]
codec = "json"
version = { key = "format" }
builds = [
  { builds = "<2.0", writes = "1", reads = ["1"] },
  { builds = ">=2.0", writes = "2", reads = ["2"] },
]
"""


def make(folder: str) -> tuple[Card, Ledger]:
    """Make the programs of three builds, the folder they share, and a ledger."""
    for build in BUILDS:
        program = {"quill.bin": b"", "version.txt": f"build {build}\n".encode()}
        write(f"{folder}/{build}", program)
    write(folder, {"quill.card.toml": (CARD + _LOCATION).encode(), "shared": None})
    return Card.load(f"{folder}/quill.card.toml"), Ledger.open(f"{folder}/ledger")


_edits = st.dictionaries(
    st.sampled_from(("a.letter", "b/c.letter", "b/d", "e")),
    st.one_of(st.none(), st.binary(max_size=20)),
)


class Law(SmallCase):
    @settings(side_law, max_examples=max(2, side_law.max_examples // 100))
    @given(st.lists(st.tuples(st.sampled_from(BUILDS), _edits), min_size=200, max_size=200))
    def test_three_builds_in_any_order(self, rounds: list[tuple[str, dict[str, Any]]]) -> None:
        """For 200 rounds, each with edits: every build finds what it left, to the byte and the time."""
        with tempfile.TemporaryDirectory() as folder:
            card, ledger = make(folder)
            shared = f"{folder}/shared"
            left: dict[str, dict[str, Any]] = {build: {} for build in BUILDS}
            live = BUILDS[0]
            for build, edits in rounds:
                install = card.open(f"{folder}/{build}", folders={"user": shared})
                change = switch(install, ledger=ledger, written_by=live, begin=Begin.EMPTY)
                if build != live:
                    left[live] = snapshot(shared)
                    change.apply(ledger)
                    self.assertEqual(snapshot(shared), left[build])
                    live = build
                edit(shared, edits)
            ledger.index.close()


def edit(folder: str, edits: dict[str, Any]) -> None:
    """Write and remove files, as a game would."""
    for name, data in edits.items():
        path = os.path.join(folder, *name.split("/"))
        if data is not None:
            write(folder, {name: data})
        elif os.path.exists(path):
            os.remove(path)


class Switch(SmallCase):
    def setUp(self) -> None:
        super().setUp()
        self.card, self.kept = make(self.folder)
        write(self.path("shared"), {"a.letter": b'{"format": 2}', "new.letter": b'{"format": 2}'})

    def build(self, name: str) -> Any:
        return self.card.open(self.path(name), folders={"user": self.path("shared")})

    def turn(self, build: str, **options: Any) -> Any:
        return switch(self.build(build), ledger=self.kept, **options)

    def test_an_older_build_for_an_evening(self) -> None:
        """Nothing is guessed the first time; then the ledger knows, and undo takes a turn back."""
        with self.assertRaisesRegex(
            DecisionNeeded, "(?s)nobody knows which build.*written_by=BUILD"
        ):
            self.turn("1.0")
        with self.assertRaisesRegex(DecisionNeeded, "(?s)1.0 was never used here.*begin=along"):
            self.turn("1.0", written_by="2.0")
        before = snapshot(self.path("shared"))
        change = self.turn("1.0", written_by="2.0", begin=Begin.EMPTY)
        done = change.apply(self.kept)
        self.assertEqual(files_in(self.path("shared")), {})
        self.assertEqual([(s.counted_before, s.counted_after) for s in done.statements], [(2, 0)])
        write(self.path("shared"), {"a.letter": b'{"format": 1}'})
        with self.assertRaisesRegex(UsageError, "the ledger has given the turn to 1.0"):
            self.turn("2.0", written_by="3.0")
        self.turn("2.0").apply(self.kept)
        self.assertEqual(snapshot(self.path("shared")), before)
        self.assertEqual(self.turn("2.0").actions, ())
        turn = live_build(self.turn("2.0").place, self.kept)
        assert turn is not None
        self.assertEqual(turn.build, "2.0")
        undo(ledger=self.kept).apply(self.kept)
        self.assertEqual(files_in(self.path("shared")), {"a.letter": b'{"format": 1}'})
        self.assertEqual(self.turn("1.0").actions, ())
        other = Ledger.open(self.path("ledger"), machine="hill")  # the same paths, other folders
        self.addCleanup(other.index.close)
        with self.assertRaisesRegex(DecisionNeeded, "nobody knows which build"):
            switch(self.build("1.0"), ledger=other)

    def test_old_data_goes_through_the_door_as_a_copy(self) -> None:
        """2.0 begins with what 1.0 wrote and will not read it: named, kept, there to go back to."""
        write(self.path("shared"), {"a.letter": b'{"format": 1}', "new.letter": b'{"format": 1}'})
        before = snapshot(self.path("shared"))
        change = self.turn("2.0", written_by="1.0", begin=Begin.ALONG)
        self.assertEqual([loss.one_way for loss in change.losses], [True])
        with self.assertRaises(LossNotAllowed):
            change.apply(self.kept)
        change.apply(self.kept, allow_loss=True)
        self.assertEqual(snapshot(self.path("shared")), before)
        shutil.rmtree(self.path("shared"))
        write(self.path("shared"), {"a.letter": b"overwritten by 2.0"})
        self.turn("1.0").apply(self.kept)
        self.assertEqual(snapshot(self.path("shared")), before)

    def test_no_policy_retires_what_waits_for_its_turn(self) -> None:
        """Confirmed, and with newer backups of that build elsewhere: what it last had here stays."""
        before = snapshot(self.path("shared"))
        done = self.turn("1.0", written_by="2.0", begin=Begin.EMPTY).apply(self.kept)
        confirm(done.record.id, ledger=self.kept, note="well")
        write(self.path("elsewhere"), {"quill.bin": b"", "version.txt": b"build 2.0\n"})
        self.kept.backup(self.card.open(self.path("elsewhere")))
        plan_retirement(self.kept, RetentionPolicy(last=1)).carry_out(self.kept)
        self.turn("2.0").apply(self.kept)
        self.assertEqual(snapshot(self.path("shared")), before)

    def test_a_build_with_a_folder_of_its_own(self) -> None:
        """There is nothing to switch where nothing is shared."""
        write(self.path("2.0"), {"own": None})
        install = self.card.open(self.path("2.0"), folders={"user": self.path("2.0", "own")})
        with self.assertRaisesRegex(UsageError, "keeps its data in its own folder"):
            switch(install, ledger=self.kept)

    def test_the_command(self) -> None:
        """The same by the command line; a turn without a single change to the folder is one, too."""
        args = ("switch", "1.0", "--folder", f"user={self.path('shared')}", "--yes", "--json")
        asked = kindred(*args, "--written-by", "2.0", folder=self.folder)
        self.assertEqual(asked.returncode, 3, asked.stderr)
        done = kindred(
            *args, "--written-by", "2.0", "--begin", "along", "--allow-loss", folder=self.folder
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        again = kindred(*args, folder=self.folder)
        self.assertEqual(
            (again.returncode, '"applied": null' in again.stdout), (0, True), again.stdout
        )
        self.assertEqual(recover(self.kept), [])

"""Helper sequences: they cannot be completed out of order, whatever is done in whatever order."""

from __future__ import annotations

import os
import random
import shutil
import unittest
from contextlib import suppress

import kindred_ledger as kl
from kindred_ledger.cards import Card, Install
from kindred_ledger.errors import DecisionNeeded, KindredError, UsageError
from tests.support import LONG, Case, write
from tests.worlds.test_stories import FensCase

CARD = """
card = 1
title = "mire"
[program]
markers = ["mire.bin", "version.txt"]
[[detect]]
file = "version.txt"
pattern = "build {version}"
[locations.user]
portable = { marker = "mire.bin", folder = "user" }
[categories.worlds]
include = ["/user/worlds/"]
protect = true
[helpers.keeper]
from = "<2.0"
to = ">=2.0"
at = "/program/helpers/keeper"
why = "bells are forgotten"
before = [{ file = "/user/worlds/*/kept", newer = true }]
after = [{ file = "/user/run.log", line = "LINE" }]
"""
_SEQUENCES = 300 if LONG else 40
_STEPS = 24


class Sim:
    """A program that counts bells before 2.0 with a helper in it, and hangs counted ones from then on."""

    def __init__(self, root: str, line: str) -> None:
        self.root, self.line, self.clock = root, line, 1_800_000_000

    def path(self, *parts: str) -> str:
        return os.path.join(self.root, *parts)

    def build(self) -> str:
        with open(self.path("version.txt"), encoding="utf-8") as file:
            return file.read().split()[1]

    def touch(self, path: str, text: str, mode: str = "w") -> None:
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, mode, encoding="utf-8") as file:
            file.write(text)
        self.clock += 5
        os.utime(path, (self.clock, self.clock))

    def run(self) -> None:
        """Play once."""
        whole = all(os.path.exists(self.path("helpers", "keeper", n)) for n in ("a", "b"))
        kept, hung = (self.path("user", "worlds", "one", n) for n in ("kept", "hung"))
        if whole and self.build() == "1.0":
            self.touch(kept, f"counted {self.clock}")
        elif whole and os.path.exists(kept):
            os.replace(kept, hung)
            self.touch(self.path("user", "run.log"), f"{self.line}\n", "a")
        self.touch(self.path("user", "run.log"), "played\n", "a")

    def launcher(self, build: str, *, deletes: bool) -> None:
        """Let a launcher bring another build, and delete what it does not know."""
        self.touch(self.path("version.txt"), f"build {build}\n")
        if deletes:
            shutil.rmtree(self.path("helpers"), ignore_errors=True)

    @property
    def hung(self) -> bool:
        """Whether the bells were counted before 2.0 and hung in it: the helper ran in both, in order."""
        return os.path.exists(self.path("user", "worlds", "one", "hung"))


class SequenceCase(Case):
    line = "bells hung"

    def begin(self, name: str) -> None:
        self.root = self.path(name)
        program = {"mire.bin": b"1", "version.txt": b"build 1.0\n", "user/worlds/one/map": b"map"}
        write(self.root, program)
        write(self.path(), {"mire.card.toml": CARD.replace("LINE", self.line).encode()})
        write(self.path("keeper"), {"a": b"a", "b": b"b" * 99})
        write(self.path("new"), {"mire.bin": b"2", "version.txt": b"build 2.0\n"})
        self.card = Card.load(self.path("mire.card.toml"))
        self.sim, self.books = Sim(self.root, self.line), self.ledger(f"ledger {name}")
        self.books.backup(self.install(), disposable=True)

    def install(self) -> Install:
        return self.card.open(self.root)

    def sequence(self) -> kl.HelperSequence:
        return kl.HelperSequence(self.install(), "keeper", self.books)

    def step(self, source: str = "") -> None:
        """Say the command: note what is seen, take the next step if it is one of files."""
        self.sequence().note_what_is_seen()
        change = kl.helper_step(self.install(), "keeper", ledger=self.books, source=source or None)
        change.apply(self.books)

    def update(self) -> kl.Changeset:
        return kl.update(self.install(), self.path("new"), ledger=self.books)


class Laws(SequenceCase):
    def test_no_sequence_of_commands_completes_it_out_of_order(self) -> None:
        """The last step is reached only where the program itself ran with it before, and after."""
        completed = updated = 0
        for number in range(_SEQUENCES):
            rng = random.Random(f"keeper {number}")
            self.begin(f"s{number}")
            for _ in range(_STEPS):
                with suppress(KindredError):
                    updated += self.do(rng)
                status = None
                with suppress(KindredError):
                    status = self.sequence().status()
                if status is not None and status.step in (kl.HelperStep.REMOVE, None):
                    self.assertTrue(self.sim.hung, f"sequence {number}: {status}")
                    completed += 1
            shutil.rmtree(self.root)
        self.assertGreater(completed, 5)
        self.assertGreater(updated, 5)

    def do(self, rng: random.Random) -> bool:
        """Do something; return whether it was an update by this program."""
        what = rng.choices(
            ("step", "run", "update", "launcher", "back", "undo", "restore", "backup", "delete"),
            (30, 30, 12, 4, 2, 5, 4, 4, 4),
        )[0]
        if what == "step":
            self.step(self.path("keeper"))
        elif what == "run":
            self.sim.run()
        elif what == "update":
            self.update().apply(self.books, allow_loss=True)
            return True
        elif what in ("launcher", "back"):
            self.sim.launcher("2.0" if what == "launcher" else "1.0", deletes=rng.random() < 0.5)
        elif what == "undo":
            kl.undo("latest", ledger=self.books).apply(self.books, allow_loss=True)
        elif what == "restore":
            entry = rng.choice([each for each in self.books.entries() if each.complete])
            kl.restore(
                entry, self.install().place, ledger=self.books, exact=rng.random() < 0.5
            ).apply(self.books, allow_loss=True)
        elif what == "backup":
            self.books.backup(self.install(), disposable=True)
        else:
            shutil.rmtree(self.sim.path("helpers"), ignore_errors=True)
        return False


class InOrder(SequenceCase):
    def test_from_the_first_step_to_the_last(self) -> None:
        """The update waits; what a launcher deletes is put back; only what was placed goes."""
        self.begin("one")
        self.assertEqual([f.code for f in self.update().conflicts], ["helper-first"])
        self.step(self.path("keeper"))
        write(self.sim.path("helpers", "keeper"), {"mine.txt": b"mine"})
        with self.assertRaisesRegex(DecisionNeeded, "your turn: first-run"):
            self.step()
        self.assertEqual([f.code for f in self.update().conflicts], ["helper-first"])
        self.sim.run()
        with self.assertRaisesRegex(DecisionNeeded, "your turn: update"):
            self.step()
        self.update().apply(self.books)
        os.remove(self.sim.path("helpers", "keeper", "b"))
        self.step()
        with self.assertRaisesRegex(DecisionNeeded, "second-run"):
            self.step()
        self.sim.run()
        self.step()
        self.assertEqual(os.listdir(self.sim.path("helpers", "keeper")), ["mine.txt"])
        self.assertIsNone(self.sequence().status().step)
        with self.assertRaisesRegex(UsageError, "nothing is left"):
            self.step()

    def test_the_same_line_of_both_runs_is_told_apart(self) -> None:
        """A line that the first run wrote is no evidence of the second."""
        self.line = "played"
        self.begin("one")
        self.step(self.path("keeper"))
        self.sim.run()
        self.sequence().note_what_is_seen()
        self.update().apply(self.books)
        status = self.sequence().note_what_is_seen()
        self.assertEqual(status.step, kl.HelperStep.SECOND_RUN)
        self.sim.run()
        self.assertEqual(self.sequence().status().step, kl.HelperStep.REMOVE)

    def test_a_log_that_is_begun_anew_at_each_start(self) -> None:
        """The line of the last run is no evidence; that of a run since is, although it is the only one."""
        self.begin("one")
        log = self.sim.path("user", "run.log")
        self.sim.touch(log, "start 1\nbells hung\n")
        self.step(self.path("keeper"))
        self.sim.run()
        os.remove(log)
        self.sim.touch(log, "start 2\nbells hung\n")  # of whatever: before the update
        self.sequence().note_what_is_seen()
        self.update().apply(self.books)
        self.assertEqual(self.sequence().note_what_is_seen().step, kl.HelperStep.SECOND_RUN)
        self.sim.touch(log, "start 3\nbells hung\n")
        self.assertEqual(self.sequence().status().step, kl.HelperStep.REMOVE)

    def test_what_this_program_wrote_is_no_run(self) -> None:
        """A change of ours makes a file newer, and shows nothing."""
        self.begin("one")
        self.step(self.path("keeper"))
        kept = self.sim.path("user", "worlds", "one", "kept")
        self.sim.touch(kept, "of an old run")
        entry = self.books.backup(self.install())
        os.remove(kept)
        kl.restore(entry, self.install().place, ledger=self.books).apply(self.books)
        os.utime(kept)
        self.assertEqual(self.sequence().status().step, kl.HelperStep.FIRST_RUN)
        self.sim.run()
        self.assertEqual(self.sequence().status().step, kl.HelperStep.UPDATE)

    def test_who_updated_already_is_led_back(self) -> None:
        """By an update of a launcher: the old build and its world from the ledger, then in order."""
        self.begin("one")
        self.sim.launcher("2.0", deletes=True)
        status = self.sequence().status()
        self.assertTrue(status.missed)
        back = kl.way_back(self.install(), "keeper", ledger=self.books)
        self.assertEqual(len(back.operations), 1)
        with kl.Context(self.books, cards=[self.card]) as context:
            back.operations[0].compute(context).apply(self.books, allow_loss=True)
        self.assertEqual(self.sequence().status().step, kl.HelperStep.PLACE)
        with self.assertRaisesRegex(UsageError, "what is keeper"):
            self.step()

    def test_skipped_by_name_only(self) -> None:
        """And only when it is its turn; a helper that a person placed stays at the end."""
        self.begin("one")
        write(self.sim.path("helpers", "keeper"), {"a": b"a", "b": b"b"})
        self.sequence().note_placed_by_hand()
        for name, words in (
            ("second-run", "not the turn"),
            ("update", "only runs"),
            ("x", "only runs"),
        ):
            with self.assertRaisesRegex(UsageError, words):
                self.sequence().skip(name)
        self.sequence().skip("first-run")
        self.update().apply(self.books)
        self.sequence().note_what_is_seen()
        self.sequence().skip("second-run")
        change = kl.helper_step(self.install(), "keeper", ledger=self.books)
        self.assertEqual(
            (change.actions, [f.code for f in change.findings]), ((), ["helper-yours"])
        )
        states = {each.step.value: each.state for each in self.sequence().status().steps}
        self.assertEqual((states["first-run"], states["second-run"]), ("skipped", "skipped"))

    def test_a_place_that_is_taken(self) -> None:
        """Another file of the name is a conflict, and stays."""
        self.begin("one")
        write(self.sim.path("helpers", "keeper"), {"a": b"other"})
        change = kl.helper_step(
            self.install(), "keeper", ledger=self.books, source=self.path("keeper")
        )
        self.assertEqual([each.code for each in change.conflicts], ["occupied"])


class Bellkeeper(FensCase):
    def test_through_the_command_line(self) -> None:
        """The bells of the demo: counted, hung; the judge says which run did what."""
        helper = ("world", "helper", "game", "bellkeeper")
        self.assertEqual(self.kindred(*helper, status=3)["sequence"]["next"], "place")
        self.kindred(*helper, "helpers/bellkeeper", "--dry-run")
        self.assertEqual(self.kindred("entries")["entries"], [])
        self.kindred("update", "game", "releases/fens-2.0.zip", "--yes", status=3)
        self.kindred(*helper, "helpers/bellkeeper", "--yes")
        self.assertEqual(self.kindred(*helper, status=3)["sequence"]["next"], "first-run")
        self.assertIn("bells counted", self.fen("game", "--play")[1])
        self.assertEqual(self.kindred(*helper, status=3)["sequence"]["next"], "update")
        self.kindred("update", "game", "releases/fens-2.0.zip", "--yes")
        shutil.rmtree(self.path("game", "helpers"))
        self.kindred(*helper, "--yes")
        self.assertEqual(self.kindred(*helper, status=3)["sequence"]["next"], "second-run")
        self.assertIn("bells hung", self.fen("game", "--play")[1])
        self.kindred(*helper, "--yes")
        self.assertFalse(os.path.exists(self.path("game", "helpers", "bellkeeper")))
        told = self.kindred(*helper)["sequence"]
        self.assertEqual((told["next"], told["missed"]), (None, False))


if __name__ == "__main__":
    unittest.main()

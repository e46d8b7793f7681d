"""Faults of migrations: killed in every step, a failing check behind every step, steps undone by hand."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import unittest

from msgspec.structs import replace

from kindred_ledger.changes import undo
from kindred_ledger.errors import CardError, DecisionNeeded, LossNotAllowed, UsageError
from kindred_ledger.ledger import CONFIRMED, RetentionPolicy, not_undone, plan_retirement, verify
from kindred_ledger.migrate import (
    Migration,
    MigrationConsents,
    ResultState,
    Runbook,
    plan_migration,
    read_runbook,
    rehearse,
    run_migration,
)
from kindred_ledger.migrate.steps import Store
from kindred_ledger.worlds import helper_step
from tests.migrate.support import (
    ALLOWED,
    FENS,
    MOSSFERRY,
    begun,
    chosen,
    context_of,
    person,
    with_bad_check,
)
from tests.support import LONG, ROOT, PlayCase, files_in, snapshot

_A_STEP = 4 if LONG else 1  # kills in each step
_STEPS = 6  # so many steps of a runbook, where not all are tried


def _storing_again(runbook: Runbook) -> Runbook:
    at = [step.called for step in runbook.steps].index("convert")
    again = Store(name="store again")
    return replace(runbook, steps=(*runbook.steps[:at], again, *runbook.steps[at:]))


class MigrationCase(PlayCase):
    fens = True

    def setUp(self) -> None:
        super().setUp()
        self.area = self.folder

    def game(self, which: tuple[str, str, str, str]) -> str:
        return self.path(*which[0].split("/"))


class Killed(MigrationCase):
    """Each step, or some, is killed at a random change to the disk, and goes on to the same end."""

    def run_one(self, folder: str, which: str, last: int = 0) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "tests.migrate.killed_step", str(last), folder, which],
            cwd=ROOT,
            capture_output=True,
            text=True,
            check=False,
        )

    def killed(self, which: str, game: str) -> None:
        above = os.path.dirname(self.area)
        fresh, whole = os.path.join(above, "fresh"), os.path.join(above, "whole")
        shutil.copytree(self.area, fresh)
        shutil.copytree(self.area, whole)
        lived = self.run_one(whole, which)
        self.assertEqual(lived.returncode, 0, lived.stdout + lived.stderr)
        wanted = files_in(os.path.join(whole, game))
        ends = [line.split(" ", 2) for line in lived.stdout.splitlines()]
        spans, begin = [], 0
        for number, state, step in ends:
            if state == "done":
                spans.append((step, begin + 1, int(number)))
                begin = int(number)
        chance = random.Random(27)
        for step, first, last in spans if LONG else chance.sample(spans, min(_STEPS, len(spans))):
            for _ in range(_A_STEP):
                point = chance.randint(first, max(first, last))
                with self.subTest(step=step, point=point):
                    shutil.rmtree(self.area)
                    shutil.copytree(fresh, self.area)
                    first_run = self.run_one(self.area, which, point)
                    self.assertEqual(first_run.returncode, -signal.SIGKILL, first_run.stderr)
                    again = self.run_one(self.area, which)
                    self.assertEqual(again.returncode, 0, again.stdout + again.stderr)
                    self.assertEqual(files_in(os.path.join(self.area, game)), wanted)
                    ledger = self.ledger()
                    self.assertFalse(verify(ledger).findings)
                    ledger.index.close()

    def test_the_usual_order(self) -> None:
        self.killed("mossferry", "mossferry")

    def test_a_world_with_a_helper(self) -> None:
        self.killed("fens", os.path.join("fens", "game"))


class TakenBack(MigrationCase):
    """A check that fails behind any step leads back to the very start; in CI behind some of many."""

    def failing(self, which: tuple[str, str, str, str], *, played: bool) -> None:
        before = snapshot(self.game(which))
        with context_of(self.area, which[3], "first") as context:
            many = len(chosen(self.area, which, context)[0].runbook.steps)
        every = range(many + 1)
        for number in (
            every if LONG or many < _STEPS + 2 else random.Random(27).sample(every, _STEPS)
        ):
            with (
                self.subTest(behind=number),
                context_of(self.area, which[3], f"ledger-{number}") as context,
            ):
                migration = begun(self.area, which, context, with_bad_check(number))
                done = run_migration(migration, context, person=person(migration))
                assert done.last is not None
                self.assertEqual((done.last.step, done.last.state), ("bad", ResultState.FAILED))
                if (
                    done.status.ended != "taken back"
                    or done.returned is None
                    or done.returned.findings
                ):
                    self.assertTrue(played, done)
                    returned = migration.go_back(context, allow_loss=True)
                    self.assertFalse(returned.findings)
                self.assertEqual(migration.status().ended, "taken back")
                self.assertEqual(snapshot(self.game(which)), before)
                standing = [
                    each for each in not_undone(context.ledger.records()) if not each.undoes
                ]
                self.assertFalse([each for each in standing if each.group == migration.id])
                context.ledger.index.close()

    def test_of_the_usual_order(self) -> None:
        self.failing(MOSSFERRY, played=False)

    def test_of_a_world_with_a_helper(self) -> None:
        """What the program wrote since is told, and goes only with consent."""
        self.failing(FENS, played=True)

    def test_to_a_step_and_on_again(self) -> None:
        """From a step on: what came before stays done, what came after is done anew."""
        with context_of(self.area, "mossferry") as context:
            migration = begun(self.area, MOSSFERRY, context)
            run_migration(migration, context)
            converted = files_in(self.game(MOSSFERRY))
            migration.go_back(context, "convert")
            self.assertEqual(migration.status().next, "convert")
            self.assertIn("updat", [each.told for each in migration.status().steps][3])
            self.assertNotEqual(files_in(self.game(MOSSFERRY)), converted)
            done = run_migration(migration, context, person=person(migration))
            self.assertEqual(done.status.ended, "done")
            self.assertEqual(files_in(self.game(MOSSFERRY)), converted)

    def test_a_step_undone_by_hand_is_the_next_one_again(self) -> None:
        """What was checked after it counts no more."""
        with context_of(self.area, "mossferry") as context:
            migration = begun(self.area, MOSSFERRY, context)
            run_migration(migration, context)
            self.assertEqual(migration.status().next, "sign off")
            undo(ledger=context.ledger).apply(context.ledger)
            self.assertEqual(migration.status().next, "convert")
            done = run_migration(migration, context)
            self.assertEqual([each.step for each in done.results], ["convert", "check", "sign off"])

    def test_whole_after_its_end(self) -> None:
        """A migration that is done is taken back as one, too."""
        before = snapshot(self.game(MOSSFERRY))
        with context_of(self.area, "mossferry") as context:
            migration = begun(self.area, MOSSFERRY, context)
            run_migration(migration, context, person=person(migration))
            self.assertEqual(migration.status().ended, "done")
            returned = migration.go_back(context)
            self.assertEqual(len(returned.applied), 2)
            self.assertEqual(snapshot(self.game(MOSSFERRY)), before)

    def test_to_what_was_stored_first(self) -> None:
        """Where a runbook stores again on the way, the start is still what was there before any change."""
        before = snapshot(self.game(MOSSFERRY))
        with context_of(self.area, "mossferry") as context:
            migration = begun(self.area, MOSSFERRY, context, _storing_again)
            run_migration(migration, context)
            self.assertEqual(migration.status().next, "sign off")
            told = {each.name: each.told for each in migration.status().steps}
            self.assertNotEqual(told["store"], told["store again"])
            self.play()
            migration.go_back(context, allow_loss=True)
            self.assertEqual(snapshot(self.game(MOSSFERRY)), before)

    def test_stored_anew_when_it_is_its_turn_again(self) -> None:
        """Back to before it was stored, played on, and forward: the way back leads to what was played."""
        with context_of(self.area, "mossferry") as context:
            migration = begun(self.area, MOSSFERRY, context)
            run_migration(migration, context)
            migration.go_back(context, "store")
            self.play()
            played = snapshot(self.game(MOSSFERRY))
            run_migration(migration, context)
            os.remove(self.path("mossferry", "userdata", "saves", "new.voyage"))
            migration.go_back(context, allow_loss=True)
            self.assertEqual(snapshot(self.game(MOSSFERRY)), played)

    def play(self) -> None:
        """Play a game that there was not, as the person does."""
        saves = self.path("mossferry", "userdata", "saves")
        shutil.copy2(os.path.join(saves, "midwinter.voyage"), os.path.join(saves, "new.voyage"))

    def test_not_over_what_was_changed_since(self) -> None:
        """It is refused whole, and with consent all is as it was stored."""
        before = snapshot(self.game(MOSSFERRY))
        with context_of(self.area, "mossferry") as context:
            migration = begun(self.area, MOSSFERRY, context)
            run_migration(migration, context)
            for name in ("midwinter.voyage", "new.voyage"):
                with open(self.path("mossferry", "userdata", "saves", name), "ab") as file:
                    file.write(b"\n")
            played = snapshot(self.game(MOSSFERRY))
            with self.assertRaises(LossNotAllowed):
                migration.go_back(context)
            self.assertEqual(
                files_in(self.game(MOSSFERRY)),
                {path: each[1] for path, each in played.items() if each[0] == "file"},
            )
            migration.go_back(context, allow_loss=True)
            self.assertEqual(snapshot(self.game(MOSSFERRY)), before)


class Rehearsed(MigrationCase):
    """A rehearsal predicts the books of the real run, and touches nothing."""

    def test_the_books(self) -> None:
        for which in (MOSSFERRY, FENS):
            with (
                self.subTest(which[0]),
                context_of(self.area, which[3], f"of-{which[3]}") as context,
            ):
                before = snapshot(self.game(which), folder_times=True)
                choice, old = chosen(self.area, which, context)
                rehearsed = rehearse(
                    choice.install, choice.release, choice.to, choice.runbook, context=context,
                    old=old, consents=ALLOWED,
                )  # fmt: skip
                self.assertEqual(snapshot(self.game(which), folder_times=True), before)
                self.assertFalse(context.ledger.records())
                self.assertFalse(context.ledger.entries())
                migration = begun(self.area, which, context)
                done = run_migration(migration, context, person=person(migration))
                self.assertEqual(_books(rehearsed.results), _books(done.results))
                context.ledger.index.close()


def _books(results: object) -> list[tuple[str, dict[str, int]]]:
    """Return what changed in each step; what the program itself wrote meanwhile counts on neither side."""
    out = []
    for each in results:  # type: ignore[attr-defined]
        if each.applied is not None:
            totals = each.applied.statements[0].totals()
            changed = {name: totals[name] for name in ("changed", "added", "removed")}
            out.append((each.step, changed))
    return out


class UnderWay(MigrationCase):
    """As long as it is not signed off, it is told, and nothing of it is retired."""

    def test_told_and_kept(self) -> None:
        with context_of(self.area, "mossferry") as context:
            migration = begun(self.area, MOSSFERRY, context)
            run_migration(migration, context)
            for _ in range(2):
                context.ledger.backup(self.game(MOSSFERRY))
            policy = RetentionPolicy(last=1)
            lines = {
                line.item: line for line in plan_retirement(context.ledger, policy).books.lines
            }
            before = [e for e in context.ledger.entries() if e.reason.startswith("before ")]
            self.assertEqual(len(before), 2)
            for entry in before:
                self.assertIn("is not signed off", lines[entry.id].reason)
            told = self.kindred()
            self.assertIn("migrate", told["next"][0]["command"])
            run_migration(migration, context, person=person(migration))
            self.assertNotIn("migrate", str(self.kindred()["next"]))
            confirmed = {mark.subject for mark in context.ledger.marks(CONFIRMED)}
            self.assertEqual(confirmed, {record.id for record in migration.records})
            stored = self.kindred("show", migration.status().steps[1].told.partition(" ")[2])
            self.assertEqual({each["by"] for each in stored["signed_off"]}, {"Ada"})
            self.assertEqual(len(stored["signed_off"]), 4)

    def test_its_helper_stays(self) -> None:
        """Taking it away meanwhile is refused; and no runbook may do so before the sign-off."""
        with context_of(self.area, "fens/fens") as context:
            migration = begun(self.area, FENS, context)
            person_of = person(migration)
            run_migration(
                migration,
                context,
                person=lambda result: result.step != "sign off" and person_of(result),
            )
            self.assertEqual(migration.status().next, "sign off")
            install = context.install(self.game(FENS))
            change = helper_step(install, "bellkeeper", ledger=context.ledger)
            self.assertEqual([each.code for each in change.conflicts], ["not-signed-off"])
            migration.sign(["northbog walked"])
            change = helper_step(install, "bellkeeper", ledger=context.ledger)
            self.assertEqual([each.code for each in change.conflicts], ["not-signed-off"])
            run_migration(migration, context)
            self.assertEqual(migration.status().ended, "done")
            steps = [*migration.begun.runbook["steps"]]
            with self.assertRaisesRegex(CardError, "a fault") as caught:
                read_runbook(
                    {**migration.begun.runbook, "steps": [*steps[:-2], steps[-1], steps[-2]]}
                )
            self.assertIn(
                "a helper goes only when it is signed off", str(caught.exception.findings)
            )


class Refused(MigrationCase):
    """What may not go on says so, and writes nothing."""

    def test_two_at_once(self) -> None:
        with context_of(self.area, "mossferry") as context:
            begun(self.area, MOSSFERRY, context)
            with self.assertRaisesRegex(DecisionNeeded, "not finished"):
                begun(self.area, MOSSFERRY, context)

    def test_a_step_that_nobody_asks_for(self) -> None:
        """A step that is said to be done must be one that waits; a part must be one to sign."""
        with context_of(self.area, "mossferry") as context:
            migration = begun(self.area, MOSSFERRY, context)
            for name, told in (
                ("update", "this program does it"),
                ("updat", "Did you mean update"),
            ):
                with self.assertRaisesRegex(UsageError, told):
                    run_migration(migration, context, MigrationConsents(done=(name,)))
            with self.assertRaisesRegex(UsageError, "next is look"):
                migration.sign(["saves"])
            run_migration(migration, context)
            with self.assertRaisesRegex(UsageError, "Did you mean saves"):
                migration.sign(["save"])
            parts = ["it starts", "saves", "settings", "mods"]
            migration.sign(parts, "Ada")
            migration.advance(context)
            migration.sign(parts, "Ben")  # said again after a crash: it is Ada's
            self.assertIn("saves (Ada)", migration.status().steps[-1].told)
            with self.assertRaisesRegex(UsageError, "all steps are done"):
                migration.sign(["tides"])

    def test_losses_that_nobody_agreed_to(self) -> None:
        """It stops before the step, which is the next one; one-way losses need their name."""
        with context_of(self.area, "fens/fens") as context:
            choice, _ = chosen(self.area, FENS, context)
            migration = Migration.begin(
                choice.install, choice.release, choice.to, choice.runbook, context=context,
                consents=MigrationConsents(allow_loss=True),
            )  # fmt: skip
            done = run_migration(migration, context)
            assert done.last is not None
            self.assertEqual((done.last.step, done.last.state), ("remap", ResultState.DECIDE))
            self.assertEqual(
                {each.code for each in done.last.findings}, {"content-removed", "content-replaced"}
            )
            self.assertFalse(context.ledger.records())

    def test_a_build_that_changed_meanwhile(self) -> None:
        """An update behind its back is found before anything is done."""
        with context_of(self.area, "mossferry") as context:
            migration = begun(self.area, MOSSFERRY, context)
            for name, old, new in (
                ("version.txt", b"build 1.4", b"build 1.5"),
                ("build.json", b'"1.4"', b'"1.5"'),
            ):
                with open(self.path("mossferry", name), "rb") as file:
                    data = file.read()
                with open(self.path("mossferry", name), "wb") as file:
                    file.write(data.replace(old, new))
            done = run_migration(migration, context)
            assert done.last is not None
            self.assertEqual((done.last.step, done.last.state), ("look", ResultState.DECIDE))
            self.assertIn("other-build-now", [each.code for each in done.last.findings])

    def test_what_no_step_before_it_can_mend(self) -> None:
        """The release that is named as the old one is of another build: known before anything is begun."""
        with context_of(self.area, "mossferry") as context:
            choice, _ = chosen(self.area, MOSSFERRY, context)
            plan = plan_migration(
                choice.install, choice.release, choice.to, choice.runbook, context=context,
                old=self.new_zip,
            )  # fmt: skip
            self.assertEqual([each.code for each in plan.in_the_way], ["step-refused"])
            self.assertIn("the old release is 2.0", plan.in_the_way[0].what)

    def test_the_plan_writes_nothing(self) -> None:
        with context_of(self.area, "mossferry") as context:
            before = snapshot(self.area, folder_times=True)
            choice, old = chosen(self.area, MOSSFERRY, context)
            plan = plan_migration(
                choice.install, choice.release, choice.to, choice.runbook, context=context, old=old
            )
            after = snapshot(self.area, folder_times=True)
            for state in (before, after):
                for path in [each for each in state if each.startswith("ledger")]:
                    del state[path]
            self.assertEqual(after, before)
            self.assertEqual(plan.steps[3].files, 80)
            self.assertFalse(context.ledger.entries())


if __name__ == "__main__":
    unittest.main()

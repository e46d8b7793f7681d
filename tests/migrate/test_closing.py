"""A step that has what runs from an install end: only with consent, never by force, and told."""

from __future__ import annotations

import subprocess
import sys
import unittest
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from typing import Any

from msgspec.structs import replace

from kindred_ledger.errors import UsageError
from kindred_ledger.ledger import not_undone
from kindred_ledger.migrate import (
    Migration,
    ResultState,
    plan_migration,
    read_runbook,
    run_migration,
)
from kindred_ledger.planning.context import Context
from tests.migrate.support import ALLOWED, MOSSFERRY, chosen, context_of, person
from tests.support import PlayCase, snapshot

_DEAF = """
import signal
signal.signal(signal.SIGTERM, signal.SIG_IGN)
print("open", flush=True)
input()
"""
_MARKER: dict[str, Any] = {
    "do": "write marker", "name": "mark", "path": "program/moving.txt", "text": "To {build}.",
}  # fmt: skip


@unittest.skipIf(sys.platform == "win32", "Windows has no such request")
class Closing(PlayCase):
    def begun(self, context: Context, *, seconds: float = 20.0) -> Migration:
        choice, old = chosen(self.folder, MOSSFERRY, context)
        plain = choice.runbook.to_json()
        steps = [{"do": "close", "seconds": seconds}, *plain["steps"][:3], _MARKER]
        runbook = read_runbook({**plain, "steps": [*steps, *plain["steps"][3:]]})
        return Migration.begin(
            choice.install, choice.release, choice.to, runbook, context=context, old=old,
            consents=ALLOWED,
        )  # fmt: skip

    @contextmanager
    def running(self, name: str, *args: str) -> Iterator[subprocess.Popen[str]]:
        command = [sys.executable, self.path("mossferry", name), *args]
        with subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        ) as game:
            assert game.stdout is not None
            game.stdout.readline()
            try:
                yield game
            finally:
                game.kill()

    def test_asked_by_name_and_told_when_it_is_taken_back(self) -> None:
        """Unasked it waits; agreed to, it ends, and all else goes back as one, the marker included."""
        before = snapshot(self.path("mossferry"))
        with (
            context_of(self.folder, "mossferry") as context,
            self.running("mossferry.py", "--run") as game,
        ):
            migration = self.begun(context)
            done = run_migration(migration, context)
            assert done.last is not None
            self.assertEqual((done.last.step, done.last.state), ("close", ResultState.WAITS))
            self.assertIn(f"process {game.pid}", done.last.told)
            self.assertIsNone(game.poll())
            agreed = replace(ALLOWED, allow=(*ALLOWED.allow, "close"))
            done = run_migration(migration, context, agreed, person=person(migration))
            self.assertLess(game.wait(timeout=30), 0)
            self.assertEqual(done.status.ended, "done")
            self.assertIn("closed: python", done.results[0].told)
            with open(self.path("mossferry", "moving.txt"), encoding="utf-8") as file:
                self.assertEqual(file.read(), "To 2.0.")
            after = snapshot(self.path("mossferry"))
            returned = migration.go_back(context, allow_loss=True)
            self.assertEqual([each.code for each in returned.findings], ["was-closed"])
            self.assertIn("mossferry.py --run", returned.findings[0].remedy)
            self.assertEqual(snapshot(self.path("mossferry")), before)
            self.assertNotEqual(after, before)

    def test_what_does_not_listen_is_not_forced(self) -> None:
        """And what only has a file open is never asked."""
        with open(self.path("mossferry", "deaf.py"), "w", encoding="utf-8") as file:
            file.write(_DEAF)
        agreed = replace(ALLOWED, allow=(*ALLOWED.allow, "close"))
        reading = (
            "import sys; file = open(sys.argv[1].replace('|', '/')); print(1, flush=True); input()"
        )
        with context_of(self.folder, "mossferry") as context:
            migration = self.begun(context, seconds=0.3)
            with self.running("deaf.py") as game:
                done = run_migration(migration, context, agreed)
                assert done.last is not None
                self.assertEqual(done.last.state, ResultState.WAITS)
                self.assertIn("did not end", done.last.told)
                self.assertIsNone(game.poll())
            path = self.path("mossferry", "version.txt").replace("/", "|")
            with subprocess.Popen(
                [sys.executable, "-c", reading, path], stdin=subprocess.PIPE, stdout=subprocess.PIPE
            ) as reader:
                assert reader.stdout is not None
                reader.stdout.readline()
                done = run_migration(migration, context, agreed)
                assert done.last is not None
                self.assertEqual(done.last.state, ResultState.WAITS)
                self.assertIn("version.txt open", done.last.told)
                self.assertIsNone(reader.poll())
                reader.kill()
            self.assertFalse(not_undone(context.ledger.records()))

    def test_the_name_counts_only_where_there_is_such_a_step(self) -> None:
        with context_of(self.folder, "mossferry") as context:
            choice, old = chosen(self.folder, MOSSFERRY, context)
            for more, fits in (([], False), ([{"do": "close"}], True)):
                steps = [*more, {"do": "look"}, {"do": "convert"}]  # none that is told at its turn
                runbook = read_runbook({**choice.runbook.to_json(), "steps": steps})
                plan = plan_migration(
                    choice.install, choice.release, choice.to, runbook, context=context, old=old
                )
                with nullcontext() if fits else self.assertRaises(UsageError):
                    plan.check_allowed(["close"])


if __name__ == "__main__":
    unittest.main()

"""Long work as somebody watches it: it shows that it is alive, can be paused, goes on, and can be stopped."""

from __future__ import annotations

import io
import threading
import time
import unittest

from rich.console import Console

import kindred_ledger as kl
from kindred_ledger.cli.watching import DrawnProgress


class Watching(unittest.TestCase):
    def test_work_that_advances_by_nothing_is_drawn_and_moves(self) -> None:
        """One thing that takes long: what it is, of how many, and how long it has taken, again and again."""
        out = io.StringIO()
        progress = DrawnProgress(Console(file=out, force_terminal=True, width=120))
        with progress.task("setting in", total=2000, unit="things") as task:
            task.tell("crew")
            time.sleep(2.3)
            early = out.getvalue()
            task.advance(500)
        for word in ("setting in (crew)", "0 of 2,000 things", "after 0:00:01", "after 0:00:02"):
            self.assertIn(word, early)

    def test_several_at_once(self) -> None:
        """A task within another: both are drawn, and both go."""
        out = io.StringIO()
        progress = DrawnProgress(Console(file=out, force_terminal=True, width=120))
        with progress.task("outer", total=3) as task, progress.task("inner", total=9, unit="bytes"):
            time.sleep(1.4)
            task.advance()
        self.assertIn("outer", out.getvalue())
        self.assertIn("0 bytes of 9 bytes", out.getvalue())
        self.assertEqual((progress._rows, progress._timers, progress._bars), ({}, {}, None))

    def test_short_work_draws_nothing(self) -> None:
        out = io.StringIO()
        progress = DrawnProgress(Console(file=out, force_terminal=True))
        for _ in range(50):
            with progress.task("reading") as task:
                task.advance()
        self.assertEqual(out.getvalue(), "")

    def test_paused_work_waits_until_it_goes_on(self) -> None:
        """And stops at once if it is cancelled meanwhile."""
        for ends in ("go_on", "cancel"):
            progress, done, raised = kl.Progress(), list[int](), list[BaseException]()

            def work(progress: kl.Progress = progress, done: list[int] = done) -> None:
                try:
                    with progress.task("counting", total=5) as task:
                        for number in range(5):
                            if number == 2:
                                progress.pause()
                            task.advance()
                            done.append(number)
                except kl.Cancelled as error:
                    raised.append(error)  # noqa: B023

            thread = threading.Thread(target=work, daemon=True)
            thread.start()
            thread.join(0.4)
            self.assertTrue(thread.is_alive())
            self.assertEqual(done, [0, 1])
            getattr(progress, ends)()
            thread.join(5)
            self.assertFalse(thread.is_alive())
            self.assertEqual(len(done), 5 if ends == "go_on" else 2)


if __name__ == "__main__":
    unittest.main()

"""Close: a step that has what runs from the install end, asked by name; else it waits for the person.

What always holds: nothing is asked to end that nobody agreed to by the name of the step; nothing is forced;
what was closed is noted, and told when the migration is taken back.
"""

from __future__ import annotations

import shlex

from ...ledger.migrations import CLOSED, MigrationNote
from ...places import Running, ask_to_end, roots_of, running_in
from .base import ResultState, RunbookStep, StepContext, StepResult

__all__ = ["Close"]


class Close(RunbookStep, frozen=True, tag="close"):
    """Have what runs from the install end, with so many `seconds` to do so; what is not saved in it is lost.

    Programs that only have a file of it open are never asked: the person closes them.
    """

    seconds: float = 20.0

    def told(self, at: StepContext) -> str:
        """Say what is to end."""
        how = (
            "it is asked to end"
            if self.called in at.allow
            else f"close it, or agree that it is asked to end: `allow={self.called}`"
        )
        return self.why or f"nothing may run from it: {how}"

    def carry_out(self, at: StepContext) -> StepResult:
        """See what runs, and ask it to end where that was agreed to."""
        roots = [*roots_of(at.install.place).values()]
        running = running_in(roots)
        mine = [each for each in running if each.lies_here]
        closed: list[Running] = []
        if mine and self.called in at.allow and not at.is_rehearsal:
            for each in mine:
                told = f"{each.name}: {shlex.join(each.command)}"
                MigrationNote(CLOSED, self.called, at.after, told).enter(at.ledger, at.begun.id)
            ask_to_end(mine, roots, self.seconds)
            running = running_in(roots)
            closed = [each for each in mine if each not in running]
        if running:
            told = ", ".join(map(str, running))
            asked = ", which did not end when it was asked to" if self.called in at.allow else ""
            return self.result(ResultState.WAITS, f"still open: {told}{asked if mine else ''}")
        told = ", ".join(each.name for each in closed)
        return self.result(ResultState.DONE, f"closed: {told}" if told else "nothing runs from it")

    def faults(self) -> list[str]:
        """Return what is wrong with its time and its name."""
        found = [] if self.seconds > 0 else ["seconds: expected more than 0"]
        return [*found, "expected a `name` without spaces"] if " " in self.called else found

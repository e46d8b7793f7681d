"""Steps that wait for the person: something to be done that leaves evidence, and what is signed off.

What always holds: what was there before a step began to wait shows nothing; a step without evidence is done
when the person says so, one with evidence when that is seen, or when it is passed over by its name.
"""

from __future__ import annotations

from ...cards.helper_models import EvidenceTable, evidence_faults
from ...changes import Changeset
from ...errors import UsageError
from ...finding import Finding
from ...ledger.migrations import MigrationNote
from ...planning.evidence import Evidence
from ...planning.helper_sequence import HelperSequence, HelperStep
from ...worlds.operations import StepHelper
from .base import ResultState, RunbookStep, StepContext, StepResult

__all__ = ["Agree", "RunHelper", "SignOff", "Wait"]

_REHEARSED = "passed over in a rehearsal"
_SKIPPED = "passed over, as you said"
_ORDER = list(HelperStep)
_RUNS = (HelperStep.FIRST_RUN, HelperStep.SECOND_RUN)


class Wait(RunbookStep, frozen=True, tag="wait"):
    """Wait for the person: `say` is what to do, `evidence` what shows that it was done."""

    say: str = ""
    evidence: tuple[EvidenceTable, ...] = ()

    @property
    def is_yours(self) -> bool:
        """Whether only a person can do it."""
        return True

    def told(self, at: StepContext) -> str:
        """Say what the person does."""
        return self.say

    def carry_out(self, at: StepContext) -> StepResult:
        """Begin to wait, or see whether it was done since."""
        if at.is_rehearsal:
            return self.result(ResultState.DONE, _REHEARSED)
        if self.called in at.skipped:
            return self.result(ResultState.DONE, _SKIPPED)
        if not self.evidence:
            if self.called in at.by_hand:
                return self.result(ResultState.DONE, "done, as you said")
            return self.result(ResultState.WAITS, f"say when it is done: `done={self.called}`")
        if self.called in at.by_hand:
            raise UsageError(
                f"{self.called} is done when it is seen: {self._evidence(at).what_shows(self.evidence)}",
                remedy=f"To go on without that, pass it over: `skip={self.called}`",
            )
        began = at.waiting()
        evidence = self._evidence(at)
        if began is None:
            note = MigrationNote("waiting", self.called, at.after, state=evidence.state())
            note.enter(at.ledger, at.begun.id)
            return self.result(ResultState.WAITS, evidence.what_shows(self.evidence))
        if not evidence.all_show(self.evidence, began.state):
            return self.result(ResultState.WAITS, evidence.what_shows(self.evidence))
        return self.result(ResultState.DONE, "seen")

    def _evidence(self, at: StepContext) -> Evidence:
        tree = at.install.place.survey()
        return Evidence(at.install, self.evidence, tree, is_ours=at.is_ours)

    def faults(self) -> list[str]:
        """Return what is wrong with its words and rows."""
        found = [] if self.say.strip() else ["expected in `say` what the person shall do"]
        rows = evidence_faults(("evidence",), list(self.evidence))
        return found + [f"{'.'.join(map(str, key))}: {told}" for key, told in rows]


class Agree(RunbookStep, frozen=True, tag="agree"):
    """Go on only if the person agreed to `say`, in plain words, by the name of the step."""

    say: str = ""

    @property
    def is_yours(self) -> bool:
        """Whether only a person can do it."""
        return True

    def told(self, at: StepContext) -> str:
        """Say what is agreed to."""
        return self.say

    def carry_out(self, at: StepContext) -> StepResult:
        """See whether it was agreed to."""
        if self.called in at.allow:
            return self.result(ResultState.DONE, "agreed")
        told = f"agree to it by its name: `allow={self.called}`"
        return self.result(ResultState.DECIDE, told, findings=(self.asked(at),))

    def asked(self, at: StepContext) -> Finding:
        """Return what is agreed to, as a loss that needs its name."""
        return Finding.loss(self.called, self.say, where=at.begun.install, one_way=True)

    def faults(self) -> list[str]:
        """Return what is wrong with its words."""
        found = [] if self.say.strip() else ["expected in `say` what is agreed to"]
        named = self.name.strip() and " " not in self.name
        return found if named else [*found, "expected a `name` without spaces, by which to agree"]


class SignOff(RunbookStep, frozen=True, tag="sign off"):
    """Wait until a person signed off each of the `parts`, by whom and when."""

    parts: tuple[str, ...] = ()

    @property
    def is_yours(self) -> bool:
        """Whether only a person can do it."""
        return True

    def told(self, at: StepContext) -> str:
        """Say what is signed off."""
        return f"look at each, and sign it off: {', '.join(self.parts)}"

    def carry_out(self, at: StepContext) -> StepResult:
        """See what is signed off, and what is left."""
        if at.is_rehearsal:
            return self.result(ResultState.DONE, _REHEARSED)
        signed = at.signed()
        left = [part for part in self.parts if part not in signed]
        if left:
            return self.result(ResultState.WAITS, f"left to look at: {', '.join(left)}")
        told = ", ".join(f"{part} ({signed[part].by})" for part in self.parts)
        return self.result(ResultState.DONE, told)

    def faults(self) -> list[str]:
        """Return what is wrong with its parts."""
        if not self.parts or not all(part.strip() for part in self.parts):
            return ["expected `parts`, each a thing to look at"]
        return [] if len({*self.parts}) == len(self.parts) else ["a part is named twice"]


class RunHelper(RunbookStep, frozen=True, tag="helper"):
    """Bring a helper's sequence beyond one of its steps; see `planning.helper_sequence`.

    `turn` is the step: placing the helper's files, which lie in `source`, putting them back, removing them;
    or one of the runs, which the person makes.
    """

    is_change = True

    helper: str = ""
    turn: str = ""
    source: str = ""

    @property
    def is_yours(self) -> bool:
        """Whether only a person can do it."""
        return self.turn in _RUNS

    def told(self, at: StepContext) -> str:
        """Say what happens with the helper."""
        table = at.install.card.file.helpers[self.helper]
        if self.is_yours:
            return table.run or f"start the program once with {self.helper}, and close it"
        return f"{self.turn.replace('-', ' ')} {self.helper}"

    def change(self, at: StepContext) -> Changeset | None:
        """Return the change of its turn; None if it has none, or it is past."""
        if self.is_yours or self._is_past(at):
            return None
        made = StepHelper(at.begun.install, self.helper, at.filled(self.source))
        change = made.compute(at.context)
        return change if change.actions or change.conflicts else None

    def carry_out(self, at: StepContext) -> StepResult:
        """See whether its turn is past: whether the person ran the program."""
        sequence = HelperSequence(at.install, self.helper, at.ledger)
        if self.called in at.skipped:
            sequence.skip(self.turn)
            return self.result(ResultState.DONE, _SKIPPED)
        status = sequence.note_what_is_seen()
        if status.step is None or _ORDER.index(status.step) > _ORDER.index(HelperStep(self.turn)):
            return self.result(
                ResultState.DONE, "seen" if self.turn.endswith("run") else "nothing to do"
            )
        if self.turn == HelperStep.REMOVE and status.step is HelperStep.REMOVE:
            sequence.note_over()  # what was placed by hand stays
            return self.result(ResultState.DONE, "nothing to remove")
        if at.is_rehearsal and status.step in _RUNS:
            sequence.skip(status.step)
            return self.result(ResultState.DONE, _REHEARSED)
        told = next(each.told for each in status.steps if each.step is status.step)
        return self.result(ResultState.WAITS, told or f"next is {status.step}")

    def _is_past(self, at: StepContext) -> bool:
        """Tell whether its turn is past; what can only be seen now is noted, unless this is a look only."""
        sequence = HelperSequence(at.install, self.helper, at.ledger)
        status = sequence.status() if at.context.dry_run else sequence.note_what_is_seen()
        return status.step is None or _ORDER.index(status.step) > _ORDER.index(
            HelperStep(self.turn)
        )

    def faults(self) -> list[str]:
        """Return what is wrong with its turn."""
        known = [str(step) for step in HelperStep if step is not HelperStep.UPDATE]
        return [] if self.turn in known else [f"turn: expected one of {', '.join(known)}"]

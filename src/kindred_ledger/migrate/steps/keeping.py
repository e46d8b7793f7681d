"""Steps that keep something: the whole install, the release, and the proof that what is kept comes back."""

from __future__ import annotations

import os
from collections.abc import Iterator

from ...changes import drill
from ...ledger.migrations import notes_of
from ...releases import shelve
from ...wording import count, size
from .base import ResultState, RunbookStep, StepContext, StepResult

__all__ = ["Prove", "Shelve", "Store"]


class Store(RunbookStep, frozen=True, tag="store"):
    """Store the whole install under its version, pinned."""

    def told(self, at: StepContext) -> str:
        """Say what is stored."""
        tree = at.install.place.survey()
        leaves, total = tree.leaves, sum(tree[path].size for path in tree.leaves)
        return f"store all of it: {count(len(leaves), 'file')}, {size(total)}"

    def carry_out(self, at: StepContext) -> StepResult:
        """Make an entry; one that was made when this step was cut off, and ends none, is found again."""
        note = f"migration {at.begun.id}: before {at.begun.to}"
        done = {each.entry for each in notes_of(at.ledger, at.begun.id)}
        found = [each for each in at.ledger.entries() if each.note == note and each.id not in done]
        entry = found[-1] if found else at.ledger.backup(
            at.install, note=note, pinned=True, progress=at.context.progress
        )  # fmt: skip
        return self.result(ResultState.DONE, f"entry {entry.id}", entry=entry.id)


class Prove(RunbookStep, frozen=True, tag="prove"):
    """Bring what was stored back into a scratch folder, and compare every file: so that going back works."""

    def told(self, at: StepContext) -> str:
        """Say what is proven."""
        return "restore what was stored into a scratch folder, and compare every file"

    def carry_out(self, at: StepContext) -> StepResult:
        """Prove the entry."""
        proven = drill(at.start, ledger=at.ledger, progress=at.context.progress)
        if proven.findings:
            told = f"entry {at.start} does not come back whole"
            return self.result(ResultState.FAILED, told, findings=proven.findings)
        return self.result(ResultState.DONE, f"entry {at.start} can be restored")


class Shelve(RunbookStep, frozen=True, tag="shelve"):
    """Put the releases on the shelf: then it is known later what of an install is an edit."""

    def told(self, at: StepContext) -> str:
        """Say what is shelved."""
        wanted = [os.path.basename(text.rstrip("/")) for text in self._wanted(at)]
        return f"put on the shelf: {', '.join(wanted)}" if wanted else "both releases are shelved"

    def carry_out(self, at: StepContext) -> StepResult:
        """Shelve what is not shelved; what is there already is found again."""
        names = []
        for text in self._wanted(at):
            place = at.context.place(text)
            done = shelve(place, at.install.card, ledger=at.ledger, progress=at.context.progress)
            names.append(done.release.name)
        return self.result(ResultState.DONE, ", ".join(names) or "nothing was left to shelve")

    def _wanted(self, at: StepContext) -> Iterator[str]:
        for text in (at.begun.old, at.begun.release):
            if text and not text.startswith(("release:", "entry:")):
                yield text

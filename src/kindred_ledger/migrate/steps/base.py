"""RunbookStep: one thing that a runbook does, as data; what it is done in; what came of it.

What always holds: a step either changes one place (`change`), or it does not and says what came of it
(`carry_out`). Whether it is done is never remembered in it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from enum import StrEnum
from functools import cached_property
from typing import Any, ClassVar

from blake3 import blake3
from msgspec import Struct

from ...cards import Install
from ...changes import Applied, Changeset
from ...errors import UsageError
from ...finding import Finding
from ...ledger import Ledger, Record, not_undone
from ...ledger.migrations import SIGNED, MigrationBegun, MigrationNote
from ...planning.context import Context
from ...suggestions import did_you_mean

__all__ = ["ResultState", "RunbookStep", "StepContext", "StepResult", "names_in"]

_NAME = re.compile(r"\{(\w+)\}")


class ResultState(StrEnum):
    """What came of a step.

    >>> [str(state) for state in ResultState]
    ['done', 'waits', 'decide', 'failed']
    """

    DONE = "done"
    WAITS = "waits"  # for the person to do something
    DECIDE = "decide"  # something must be decided, or put right, first; nothing was written
    FAILED = "failed"  # a check found something wrong


class StepResult(Struct, frozen=True):
    """What came of a step: its state, what is to be said of it, and the change that was made.

    `asks` is what a person is to do, where it waits for one.

    >>> StepResult("store", ResultState.DONE, "216 files").state.value
    'done'
    """

    step: str
    state: ResultState
    told: str = ""
    findings: tuple[Finding, ...] = ()
    applied: Applied | None = None
    change: Changeset | None = None
    entry: str = ""
    asks: str = ""

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values; what it does not have is left out."""
        plain: dict[str, Any] = {"step": self.step, "state": self.state.value, "told": self.told}
        if self.asks:
            plain["asks"] = self.asks
        if self.findings:
            plain["findings"] = [each.to_json() for each in self.findings]
        if self.applied is not None:
            plain["applied"] = self.applied.to_json()
        return plain


class StepContext:
    """What a step is done in: the migration, the context, what was noted of this step before.

    `allow` is what was consented to by name, `by_hand` are names of steps that the person says they did,
    `skipped` of those that shall be passed over; `is_rehearsal` passes over all that only a person can do.
    `start` is the id of the entry that was stored before the first change, "" as long as nothing was;
    `after` what the step before this one ended with.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...     consents = kl.MigrationConsents(allow_loss=True)
    ...     migration = kl.Migration.begin(
    ...         choice.install, choice.release, choice.to, choice.runbook, context=context, consents=consents
    ...     )
    ...     migration.at(context).values["build"]
    ...
    '2.0'
    """

    def __init__(
        self,
        begun: MigrationBegun,
        context: Context,
        *,
        notes: Iterable[MigrationNote] = (),
        records: Iterable[Record] = (),
        start: str = "",
        after: str = "",
        allow: Iterable[str] = (),
        by_hand: Iterable[str] = (),
        skipped: Iterable[str] = (),
        is_rehearsal: bool = False,
    ) -> None:
        self.begun, self.context = begun, context
        self.notes, self.records = tuple(notes), tuple(records)
        self.start, self.after, self.allow = start, after, frozenset(allow)
        self.by_hand, self.skipped = frozenset(by_hand), frozenset(skipped)
        self.is_rehearsal = is_rehearsal

    @property
    def ledger(self) -> Ledger:
        """The ledger."""
        return self.context.ledger

    @cached_property
    def install(self) -> Install:
        """The install as it is now."""
        return self.context.install(self.begun.install, title=self.begun.title)

    def waiting(self) -> MigrationNote | None:
        """Return what was noted when this step began to wait."""
        found = [note for note in self.notes if note.what == "waiting"]
        return found[-1] if found else None

    def signed(self) -> dict[str, MigrationNote]:
        """Return what was signed off in this step, by part."""
        return {note.part: note for note in self.notes if note.what == SIGNED}

    def is_ours(self, path: str, data: bytes) -> bool:
        """Tell whether a file is as a change of this program left it: then no run wrote it."""
        for record in reversed(not_undone(self.records)):
            node = self.ledger.record(record.id).after.get(path)
            if node is not None:
                return node.digest == blake3(data).digest()
        return False

    @property
    def values(self) -> dict[str, str]:
        """What the names in braces of a runbook stand for."""
        begun = self.begun
        return {
            "install": begun.install,
            "release": begun.release,
            "old": begun.old,
            "build": begun.to,
            "from": begun.source,
            "start": f"entry:{self.start}" if self.start else "",
        }

    def filled(self, value: Any) -> Any:
        """Return plain values with the names in braces replaced; what they stand for is not looked at again.

        Raises:
            UsageError: there is no such name, or nothing was stored yet.
        """
        if isinstance(value, str):
            return _NAME.sub(lambda found: self._value(found[1]), value)
        if isinstance(value, Mapping):
            return {key: self.filled(each) for key, each in value.items()}
        if isinstance(value, (list, tuple)):
            return [self.filled(each) for each in value]
        return value

    def _value(self, name: str) -> str:
        values = self.values
        if name not in values:
            raise UsageError(f"there is no {{{name}}}", remedy=did_you_mean(name, values))
        if name == "start" and not values[name]:
            raise UsageError("nothing was stored yet", remedy="Put a step `store` before this one.")
        return values[name]


class RunbookStep(
    Struct, frozen=True, tag_field="do", omit_defaults=True, forbid_unknown_fields=True
):
    """What a runbook does at one point. A kind of step is a class with a tag; `why` is told to the person.

    >>> [step.kind for step in kl.usual_runbook(install, "2.0").steps][:3]
    ['look', 'store', 'shelve']
    """

    is_change: ClassVar[bool] = False

    name: str = ""
    why: str = ""

    @property
    def kind(self) -> str:
        """What `do` says of it."""
        return str(type(self).__struct_config__.tag)

    @property
    def called(self) -> str:
        """Its name in the runbook."""
        return self.name or self.kind

    @property
    def is_yours(self) -> bool:
        """Whether only a person can do it."""
        return False

    def told(self, at: StepContext) -> str:
        """Say in a line what it will do."""
        raise NotImplementedError

    def change(self, at: StepContext) -> Changeset | None:
        """Return the change it makes; None if it has nothing to change. Nothing is written.

        Raises:
            KindredError: it cannot be computed now.
        """
        return None

    def carry_out(self, at: StepContext) -> StepResult:
        """Do what is no change of a place, and say what came of it."""
        raise NotImplementedError

    def faults(self) -> list[str]:
        """Return what contradicts itself in it."""
        return []

    def result(self, state: ResultState, told: str = "", **more: Any) -> StepResult:
        """Return what came of it."""
        return StepResult(self.called, state, told, **more)


def names_in(value: Any) -> set[str]:
    """Return the names in braces of plain values."""
    if isinstance(value, str):
        return set(_NAME.findall(value))
    if isinstance(value, Mapping):
        return {name for each in value.values() for name in names_in(each)}
    if isinstance(value, (list, tuple)):
        return {name for each in value for name in names_in(each)}
    return set()

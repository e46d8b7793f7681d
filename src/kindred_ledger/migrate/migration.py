"""Migration: an install brought to another build by a runbook, step by step, from its begin to its end.

Where it stands is not remembered but found out: from the changes of the history that are its steps, and from
marks. Each of these names what the step before ended with. So a change that was taken back, by whomever,
makes its step the next one again, and what was noted after it counts no more.

What always holds: a step is done only after all before it; its changes are one group, taken back as one; who
is cut off anywhere goes on with the step that was under way.
"""

from __future__ import annotations

import getpass
import os
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..cards import PROGRAM, Install
from ..changes import Action, Applied, Changeset, confirm, recover, restore, take_back
from ..errors import DecisionNeeded, UsageError
from ..finding import Finding
from ..ledger import Ledger, MigrationStep, Record, not_undone, relation_of
from ..ledger.migrations import (
    BACK,
    CLOSED,
    DONE,
    ENDED,
    SIGNED,
    MigrationBegun,
    MigrationNote,
    begun_migrations,
    notes_of,
    unfinished_migrations,
)
from ..places import DIR, Node, roots_of
from ..planning.context import Context
from ..statement import Outcome
from ..suggestions import did_you_mean
from ..wording import count
from .choosing import check_none_under_way
from .consents import MigrationConsents, unallowed
from .runbook import Runbook, read_runbook
from .steps import ResultState, RunbookStep, SignOff, StepContext, StepResult, Store

__all__ = ["Migration", "MigrationStatus", "Returned", "StepStatus"]

_TAKEN_BACK = "taken back"
_SHOWN = 5
_NOWHERE = Node(DIR)


class StepStatus(Struct, frozen=True):
    """One step: "done", "next" or "later"; what came of it, the change or mark it ended with, and when.

    >>> kl.StepStatus("store", "store", "next").state
    'next'
    """

    name: str
    kind: str
    state: str
    told: str = ""
    by: str = ""
    when: str = ""


class MigrationStatus(Struct, frozen=True):
    """Where a migration is; `ended` is "done" or "taken back", and "" as long as it is under way.

    `signed` says by whom the parts of the sign-off that is next were signed.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...     consents = kl.MigrationConsents(allow_loss=True)
    ...     migration = kl.Migration.begin(
    ...         choice.install, choice.release, choice.to, choice.runbook, context=context, consents=consents
    ...     )
    ...     [step.name for step in migration.status().steps][:2]
    ...
    ['look', 'store']
    """

    begun: MigrationBegun
    steps: tuple[StepStatus, ...]
    ended: str = ""
    signed: Mapping[str, str] = {}

    @property
    def next(self) -> str:
        """The name of the next step; "" if all are done."""
        return next((each.name for each in self.steps if each.state == "next"), "")

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values."""
        begun = self.begun
        return {
            "id": begun.id,
            "install": begun.install,
            "source": begun.source,
            "to": begun.to,
            "release": begun.release,
            "runbook": begun.runbook.get("name", ""),
            "begun": begun.when,
            "ended": self.ended,
            "next": self.next,
            "signed": dict(self.signed),
            "steps": [
                {"name": each.name, "kind": each.kind, "state": each.state, "told": each.told}
                for each in self.steps
            ],
        }


class Returned(Struct, frozen=True):
    """What going back did: the changes that took others back, and what is not as it was at the begin.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...     consents = kl.MigrationConsents(allow_loss=True)
    ...     migration = kl.Migration.begin(
    ...         choice.install, choice.release, choice.to, choice.runbook, context=context, consents=consents
    ...     )
    ...     _ = kl.run_migration(migration, context)
    ...     [done.record.operation for done in migration.go_back(context).applied]
    ...
    ['undo', 'undo']
    """

    applied: tuple[Applied, ...]
    findings: tuple[Finding, ...] = ()


class Migration:
    """A migration that was begun; see the module.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...     consents = kl.MigrationConsents(allow_loss=True)
    ...     migration = kl.Migration.begin(
    ...         choice.install, choice.release, choice.to, choice.runbook, context=context, consents=consents
    ...     )
    ...     migration.status().next
    ...
    'look'
    """

    def __init__(self, begun: MigrationBegun, ledger: Ledger) -> None:
        self.begun, self.ledger = begun, ledger
        self.id = begun.id
        self.runbook: Runbook = read_runbook(begun.runbook, where=f"migration {begun.id}")

    def __repr__(self) -> str:
        begun = self.begun
        return f"<Migration {self.id}: {begun.title} {begun.source} to {begun.to}>"

    @staticmethod
    def begin(
        install: Install,
        release: str,
        to: str,
        runbook: Runbook,
        *,
        context: Context,
        old: str = "",
        consents: MigrationConsents | None = None,
    ) -> Migration:
        """Note that an install is brought to a release, which is of the build `to`; nothing else is done.

        Raises:
            UsageError: there is no release `old`.
            DecisionNeeded: a migration of it is under way.
        """
        if old:
            context.release(old)
        check_none_under_way(context.ledger, install)
        roots = roots_of(install.place)
        program = roots[PROGRAM]
        consents = consents or MigrationConsents()
        locations = {name: root for name, root in roots.items() if name != PROGRAM}
        begun = MigrationBegun(
            install=program,
            title=install.card.title,
            release=_absolute(release),
            source=install.sure_version.text,
            to=to,
            runbook=runbook.to_json(),
            old=_absolute(old),
            said=install.chosen.text if install.chosen else "",
            folders=locations,
            allow=consents.allow,
            allow_loss=consents.allow_loss,
        )
        return Migration(begun.enter(context.ledger), context.ledger)

    @staticmethod
    def open(ledger: Ledger, which: str = "") -> Migration:
        """Open one that was begun, by the beginning of its id or by its install; "" is the only unfinished.

        Raises:
            UsageError: there is none, or several.
        """
        every = begun_migrations(ledger)
        if which:
            path = os.path.abspath(os.path.expanduser(which))
            found = [each for each in every if each.install == path][-1:]
            found = found or [each for each in every if each.id.startswith(which)]
        else:
            found = unfinished_migrations(ledger)
        if len(found) == 1:
            return Migration(found[0], ledger)
        if not found:
            what = f"no migration is called {which!r}" if which else "no migration is under way"
            raise UsageError(what, remedy="To begin one: kindred migrate INSTALL RELEASE")
        told = "; ".join(f"{each.id} ({each.install} to {each.to})" for each in found)
        raise UsageError(f"{len(found)} migrations are under way", remedy=f"Say which: {told}")

    @property
    def folders(self) -> list[str]:
        """The folders of the install."""
        return [self.begun.install, *self.begun.folders.values()]

    # ---- where it is -------------------------------------------------------------------------

    def _chain(self) -> list[MigrationNote | Record]:
        """Return what each step ended with, of those that are done, in their order."""
        notes = notes_of(self.ledger, self.id)
        records = [each for each in not_undone(self.ledger.records()) if each.group == self.id]
        done: list[MigrationNote | Record] = []
        after = self.id
        for step in self.runbook.steps:
            link = MigrationStep(self.id, step.called, after)
            made = [each for each in records if link in each.relations]
            event = made[-1] if made else _noted(notes, step.called, after)
            if event is None:
                break
            done.append(event)
            after = event.id
        return done

    def status(self) -> MigrationStatus:
        """Say where it is."""
        chain = self._chain()
        steps = []
        for at, step in enumerate(self.runbook.steps):
            if at < len(chain):
                event = chain[at]
                told = event.told if isinstance(event, MigrationNote) else event.summary
                steps.append(StepStatus(step.called, step.kind, "done", told, event.id, event.when))
            else:
                state = "next" if at == len(chain) else "later"
                steps.append(StepStatus(step.called, step.kind, state))
        after = chain[-1].id if chain else self.id
        signed = {
            note.part: note.by
            for note in notes_of(self.ledger, self.id)
            if note.what == SIGNED and note.after == after
        }
        return MigrationStatus(self.begun, tuple(steps), self._ended(), signed)

    def _ended(self) -> str:
        ended = [note for note in notes_of(self.ledger, self.id) if note.what == ENDED]
        return ended[-1].told if ended else ""

    @property
    def records(self) -> list[Record]:
        """The changes it made that were not taken back, the oldest first."""
        return [each for each in not_undone(self.ledger.records()) if each.group == self.id]

    def at(
        self,
        context: Context,
        consents: MigrationConsents | None = None,
        *,
        is_rehearsal: bool = False,
    ) -> StepContext:
        """Return what its next step is done in."""
        chain = self._chain()
        after = chain[-1].id if chain else self.id
        notes = notes_of(self.ledger, self.id)
        consents = consents or MigrationConsents()
        context.folders.update(self.begun.folders)
        records = self.records
        if self.begun.said:
            brought = [each.version_after for each in records if each.version_after]
            context.build = brought[-1] if brought else self.begun.said
        return StepContext(
            self.begun,
            context,
            notes=(note for note in notes if note.after == after),
            records=records,
            start=self._start(),
            after=after,
            allow=(*self.begun.allow, *consents.allow),
            by_hand=consents.done,
            skipped=consents.skip,
            is_rehearsal=is_rehearsal,
        )

    # ---- going on ----------------------------------------------------------------------------

    def advance(
        self,
        context: Context,
        consents: MigrationConsents | None = None,
        *,
        is_rehearsal: bool = False,
    ) -> StepResult | None:
        """Do the next step; None if there is none, or the migration ended.

        Raises:
            UsageError: a step that is said to be done, or shall be passed over, is not the next one, or is
                none of those that can be.
            KindredError: the step failed; nothing of it was written.
        """
        if self._ended():
            return None
        chain = self._chain()
        if len(chain) == len(self.runbook.steps):
            self._end(DONE)
            return None
        step = self.runbook.steps[len(chain)]
        consents = consents or MigrationConsents()
        at = self.at(context, consents, is_rehearsal=is_rehearsal)
        try:
            result = self._done(step, at, consents)
        except DecisionNeeded as error:
            return step.result(ResultState.DECIDE, error.what, findings=_findings_of(error))
        if result.state is ResultState.WAITS:
            return replace(result, asks=step.told(at))
        if result.state is ResultState.DONE and result.applied is None:
            self._note(MigrationNote(DONE, step.called, at.after, result.told, entry=result.entry))
        if result.state is ResultState.DONE and len(chain) + 1 == len(self.runbook.steps):
            self._end(DONE)
        return result

    def _done(self, step: RunbookStep, at: StepContext, consents: MigrationConsents) -> StepResult:
        if not step.is_change:
            return step.carry_out(at)
        change = step.change(at)
        if change is None:
            return step.carry_out(at) if type(step).carry_out is not RunbookStep.carry_out else (
                step.result(ResultState.DONE, "nothing to do")
            )  # fmt: skip
        if change.conflicts:
            told = f"{count(len(change.conflicts), 'thing')} to be decided, or put right, first"
            return step.result(ResultState.DECIDE, told, findings=change.conflicts, change=change)
        lost = self.unallowed(change, consents)
        if lost:
            told = f"this loses {count(len(lost), 'item')}, which nobody agreed to"
            return step.result(ResultState.DECIDE, told, findings=lost, change=change)
        if not change.actions:
            return step.result(ResultState.DONE, "nothing to do", change=change)
        link = MigrationStep(self.id, step.called, at.after)
        applied = replace(change, relations=(*change.relations, link)).apply(
            self.ledger,
            allow_loss=bool(change.losses),
            while_running=consents.while_running,
            group=self.id,
            progress=at.context.progress,
        )
        return step.result(ResultState.DONE, change.summary, applied=applied, change=change)

    def unallowed(self, change: Changeset, consents: MigrationConsents) -> tuple[Finding, ...]:
        """Return the losses that nobody agreed to, at the begin or now; one-way ones need their name."""
        both = MigrationConsents(
            allow=(*self.begun.allow, *consents.allow),
            allow_loss=consents.allow_loss or self.begun.allow_loss,
        )
        return unallowed(change.losses, both)

    def sign(self, parts: Sequence[str], by: str = "") -> None:
        """Sign off parts of the step that waits for it; what was signed off before stays so.

        Raises:
            UsageError: it is not the turn of a sign-off, or there is no such part.
        """
        chain = self._chain()
        step = self.runbook.steps[len(chain)] if len(chain) < len(self.runbook.steps) else None
        if not isinstance(step, SignOff):
            past = self.runbook.steps[: len(chain)]
            if {*parts} <= {
                part for each in past if isinstance(each, SignOff) for part in each.parts
            }:
                return  # said again, as after a crash
            what = f"next is {step.called}" if step is not None else "all steps are done"
            raise UsageError(
                f"nothing is to be signed off now: {what}",
                where=self.begun.install,
                remedy="" if self._ended() else "To go on: kindred migrate --resume",
            )
        for part in parts:
            if part not in step.parts:
                raise UsageError(
                    f"there is no part {part!r} to sign off", remedy=did_you_mean(part, step.parts)
                )
        after = chain[-1].id if chain else self.id
        for part in parts:
            who = by or getpass.getuser()
            self._note(MigrationNote(SIGNED, step.called, after, part=part, by=who))

    # ---- going back --------------------------------------------------------------------------

    def go_back(
        self,
        context: Context,
        to: str = "",
        *,
        allow_loss: bool = False,
        while_running: bool = False,
    ) -> Returned:
        """Take back its changes, the newest first, as one: all, or those from the step `to` on.

        What this program changed in the install by hand since its first change goes with them. Whoever goes
        back to the begin and allows losses gets the install as it was stored, also what the program itself
        wrote since; else that is told and left.

        Raises:
            UsageError: there is no such step.
            LossNotAllowed: files that were changed since would be taken back, too; everything is as before.
        """
        recover(self.ledger, roots=self.folders)
        first = (
            [step.called for step in self.runbook.steps].index(self.runbook.step(to).called)
            if to
            else 0
        )
        names = {step.called for step in self.runbook.steps[first:]}
        own = [
            each
            for each in self.records
            if (link := relation_of(each.relations, MigrationStep)) and link.step in names
        ]
        start = self._start()
        by_hand = self._by_hand(own[0]) if own and not to else []
        done = take_back(
            sorted([*own, *by_hand], key=lambda each: each.id),
            ledger=self.ledger,
            group=f"undo {self.id}",
            allow_loss=allow_loss,
            while_running=while_running,
            progress=context.progress,
        )
        chain = self._chain()
        for at in range(first, len(chain)):
            after = chain[at - 1].id if at else self.id
            self._note(MigrationNote(BACK, self.runbook.steps[at].called, after))
        if to:
            return Returned(tuple(done))
        more, findings = self._as_stored(context, start, allow_loss, while_running)
        self._end(_TAKEN_BACK)
        return Returned((*done, *more), (*findings, *self._closed()))

    def _start(self) -> str:
        """Return what its first step that stores stored last; "" if none did.

        It is found also after all was taken back: then what the program itself wrote since may still go.
        """
        first = next((step.called for step in self.runbook.steps if isinstance(step, Store)), "")
        notes = reversed(notes_of(self.ledger, self.id))
        return next((note.entry for note in notes if note.entry and note.step == first), "")

    def _closed(self) -> list[Finding]:
        """Return the programs that were asked to end: nothing starts them again but the person."""
        notes = [each.told for each in notes_of(self.ledger, self.id) if each.what == CLOSED]
        return [
            Finding.note(
                "was-closed",
                f"{name} was asked to end by this migration",
                where=self.begun.install,
                remedy=f"Start it again, if it shall run: {command}",
            )
            for name, _, command in (told.partition(": ") for told in dict.fromkeys(notes))
        ]

    def _by_hand(self, first: Record) -> list[Record]:
        """Return the changes of the same folders since a change, which are no steps."""
        here = dict(first.roots)
        return [
            each
            for each in not_undone(self.ledger.records())
            if each.id > first.id and dict(each.roots) == here and each.group != self.id
            if not each.undoes
        ]

    def _as_stored(
        self, context: Context, start: str, allow: bool, while_running: bool
    ) -> tuple[list[Applied], tuple[Finding, ...]]:
        """Return what brings the rest back to what was stored, or what there is of it."""
        if not start:
            return [], ()
        install = self.at(context).install
        change = restore(
            start, install.place, ledger=self.ledger, exact=True, progress=context.progress
        )
        other = [each for each in change.actions if not _only_times(each)]
        if allow and change.actions:
            return [
                change.apply(
                    self.ledger,
                    allow_loss=bool(change.losses),
                    while_running=while_running,
                    group=f"undo {self.id}",
                    progress=context.progress,
                )
            ], ()
        if not other:
            return [], ()
        paths = [each.path for each in other]
        shown = ", ".join(paths[:_SHOWN]) + (" …" if len(paths) > _SHOWN else "")
        what = f"{count(len(paths), 'file')} changed since, not by a step, and stay: {shown}"
        remedy = f"To have all as it was stored: kindred restore {start} --exact"
        return [], (Finding.warning("not-as-stored", what, remedy=remedy),)

    def _confirm(self) -> None:
        """Confirm its changes, which were signed off: what was kept before them may be retired now."""
        steps = [step for step in self.status().steps if step.kind == SignOff.__struct_config__.tag]
        note = "; ".join(f"signed off: {step.told}" for step in steps)
        for record in self.records:
            confirm(record.id, ledger=self.ledger, note=note)

    # ---- marks -------------------------------------------------------------------------------

    def _note(self, note: MigrationNote) -> MigrationNote:
        return note.enter(self.ledger, self.id)

    def _end(self, told: str) -> None:
        if told == DONE and any(isinstance(step, SignOff) for step in self.runbook.steps):
            self._confirm()
        if self._ended() != told:
            self._note(MigrationNote(ENDED, told=told))


def _noted(notes: Iterable[MigrationNote], step: str, after: str) -> MigrationNote | None:
    """Return the last note that a step is done, unless it was taken back since."""
    found = [
        note
        for note in notes
        if note.step == step and note.after == after and note.what in (DONE, BACK)
    ]
    return found[-1] if found and found[-1].what == DONE else None


def _only_times(action: Action) -> bool:
    return (
        action.outcome is Outcome.UNCHANGED
        or (action.after or action.before or _NOWHERE).kind == DIR
    )


def _findings_of(error: DecisionNeeded) -> tuple[Finding, ...]:
    """Return what is to be decided, as findings."""
    if error.findings:
        return tuple(error.findings)
    what = "; ".join((error.what, *error.choices[:_SHOWN]))
    return (Finding.conflict("decide", what, where=error.where, remedy=error.advice),)


def _absolute(text: str) -> str:
    """Return what names a release so that it can be found from another folder, too."""
    if not text or "://" in text or text.startswith(("release:", "entry:")):
        return text
    return os.path.abspath(os.path.expanduser(text))

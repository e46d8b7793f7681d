"""Helper sequences: content that must stay for a run before an update and one after it, and then go.

Where a sequence is, is not remembered but found out, each time anew: from the history, from what is
installed, and from what shows that the program ran. What a later step would need to know and could not see
any more (how logs and files were at a moment) is a mark in the ledger, which is never changed.

What always holds: a step is done only if all before it are; what shows a run counts only if it came after the
step before it; a step is skipped only by its name. In doubt a step is not done.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from enum import StrEnum
from functools import cached_property

import msgspec
from blake3 import blake3
from msgspec import Struct

from ..cards import PROGRAM, Card, Install
from ..cards.helper_models import HelperTable
from ..errors import UsageError
from ..finding import Finding
from ..ledger import (
    Entry,
    HelperAtUpdate,
    HelperPlaced,
    HelperRemoved,
    Ledger,
    Mark,
    Record,
    Tag,
    not_undone,
    relation_of,
)
from ..places import AnyPlace, Patterns, Place, read_bytes, roots_of
from ..suggestions import did_you_mean
from ..versions import Version, VersionRange
from .evidence import Evidence

__all__ = [
    "HELPER_MARK",
    "HelperBegan",
    "HelperSequence",
    "HelperStatus",
    "HelperStep",
    "StepState",
    "helpers_at_update",
    "keep_helper",
]

HELPER_MARK = "helper"
_UPDATES = ("update", "reinstall")  # operations that look at the first run themselves


class HelperStep(StrEnum):
    """The steps of a helper sequence, in their order.

    >>> [str(step) for step in HelperStep]
    ['place', 'first-run', 'update', 'put-back', 'second-run', 'remove']
    """

    PLACE = "place"
    FIRST_RUN = "first-run"
    UPDATE = "update"
    PUT_BACK = "put-back"
    SECOND_RUN = "second-run"
    REMOVE = "remove"


RUNS = (HelperStep.FIRST_RUN, HelperStep.SECOND_RUN)


class StepState(Struct, frozen=True):
    """One step: "done", "skipped", "next" or "later", and what is to be said of it."""

    step: HelperStep
    state: str
    told: str = ""


class HelperStatus(Struct, frozen=True):
    """Where a sequence is. `missed`: the update was made without the first run.

    `step` is the next one; None if nothing is left to be done.

    >>> status = kl.HelperSequence(fen_install, "bellkeeper", ledger).status()
    >>> [each.state for each in status.steps][:3]
    ['next', 'later', 'later']
    """

    helper: str
    steps: tuple[StepState, ...]
    missed: bool = False

    @property
    def step(self) -> HelperStep | None:
        """The next step."""
        return next((each.step for each in self.steps if each.state == "next"), None)


class _Note(Struct, frozen=True, omit_defaults=True):
    """What a mark says: a step that was seen, or skipped, and how things were then."""

    step: str
    at: str  # the mark or record that the sequence began with
    state: dict[str, str] = {}  # of the files that show a run
    program: str = ""  # what tells the program's files from those of any other time
    skipped: bool = False
    entry: str = ""  # that keeps the helper


class HelperBegan(Struct, frozen=True):
    """How a sequence began: the record or mark, when, the entry that keeps the helper, how things were then.

    `by_us`: this program placed it, and removes it at the end.

    >>> kl.HelperSequence(fen_install, "bellkeeper", ledger).placed() is None
    True
    """

    id: str
    when: str
    entry: str
    state: Mapping[str, str]
    by_us: bool


class HelperSequence:
    """The sequence of one helper of an install.

    >>> sequence = kl.HelperSequence(fen_install, "bellkeeper", ledger)
    >>> sequence.status().step
    <HelperStep.PLACE: 'place'>
    """

    def __init__(self, install: Install, helper: str, ledger: Ledger) -> None:
        """Look at an install; nothing is written.

        Raises:
            UsageError: its card has no such helper.
        """
        helpers = install.card.file.helpers
        if helper not in helpers:
            raise UsageError(
                f"the card of {install.card.name} has no helper {helper!r}",
                where=install.card.path,
                remedy=did_you_mean(helper, helpers),
            )
        self.install, self.helper, self.ledger = install, helper, ledger
        self.table: HelperTable = helpers[helper]
        self.at = self.table.at.strip("/")
        self.tree = install.place.survey()
        self._scheme = install.card.scheme
        self.records = [
            record
            for record in not_undone(ledger.records())
            if dict(record.roots).get(PROGRAM) == roots_of(install.place).get(PROGRAM)
        ]
        root = roots_of(install.place).get(PROGRAM, install.place.location)
        self.subject = f"{helper} {root}"
        self._marks = [mark for mark in ledger.marks(HELPER_MARK) if mark.subject == self.subject]

    # ---- what is there -----------------------------------------------------------------------

    def fits(self, version: Version, range: str) -> bool:
        """Tell whether a build is in a range."""
        return version in VersionRange.parse(range, self._scheme)

    @property
    def is_before(self) -> bool:
        """Whether the build is one that the sequence begins with."""
        return self.fits(self.install.sure_version, self.table.source)

    @property
    def is_after(self) -> bool:
        """Whether the build is one that the sequence leads to."""
        return self.fits(self.install.sure_version, self.table.to)

    @property
    def here(self) -> bool:
        """Whether anything lies where the helper does."""
        return any(path.startswith(f"{self.at}/") for path in self.tree.files)

    def placed(self) -> HelperBegan | None:
        """Return how the sequence began that is not over; None if none is."""
        began: HelperBegan | None = None
        for _, _, event in self._events():
            began = event
        return began

    def _events(self) -> list[tuple[str, str, HelperBegan | None]]:
        """Return when sequences began (as what they began with) and ended (None), the oldest first."""
        found: list[tuple[str, str, HelperBegan | None]] = []
        for record in self.records:
            start = relation_of(record.relations, HelperPlaced)
            if start is not None and start.helper == self.helper and not start.program:
                began = HelperBegan(record.id, record.when, start.entry, start.state, by_us=True)
                found.append((record.when, record.id, began))
            end = relation_of(record.relations, HelperRemoved)
            if end is not None and end.helper == self.helper:
                found.append((record.when, record.id, None))
        for mark, note in self._notes():
            if note.step == HelperStep.PLACE:
                began = HelperBegan(mark.id, mark.when, note.entry, note.state, by_us=False)
                found.append((mark.when, mark.id, began))
            elif note.step == HelperStep.REMOVE:
                found.append((mark.when, mark.id, None))
        return sorted(found, key=lambda each: each[1])  # ids sort by time, finer than seconds

    def is_whole(self, entry: str) -> bool:
        """Tell whether the helper lies where it belongs, as it was placed."""
        kept = self.ledger.tree(self.ledger.entry(entry))
        for path in kept.files:
            full = f"{self.at}/{path}"
            node = self.tree.get(full)
            if node is None or node.size != kept[path].size:
                return False
            if blake3(read_bytes(self.install.place, full)).digest() != kept[path].digest:
                return False
        return True

    def _notes(self) -> Iterator[tuple[Mark, _Note]]:
        for mark in self._marks:
            yield mark, msgspec.json.decode(mark.note, type=_Note)

    # ---- what shows a run --------------------------------------------------------------------

    @cached_property
    def evidence(self) -> Evidence:
        """What shows runs."""
        rows = (*self.table.before, *self.table.after)
        return Evidence(self.install, rows, self.tree, is_ours=self._is_ours)

    def _is_ours(self, path: str, data: bytes) -> bool:
        """Tell whether a file is as a change of ours left it: then no run wrote it."""
        for record in reversed(self.records):
            node = self.ledger.record(record.id).after.get(path)
            if node is not None:
                return node.digest == blake3(data).digest()
        return False

    def program(self) -> str:
        """Return what tells the program's files from those of another time, whatever their content."""
        rows = []
        for marker in self.install.card.file.program.markers:
            node = self.tree.get(f"{PROGRAM}/{marker}")
            rows.append(f"{marker} {node}" if node is not None else marker)
        return blake3("\n".join(rows).encode()).hexdigest()[:32]

    # ---- where it is -------------------------------------------------------------------------

    def _update_made(self, began: HelperBegan) -> Record | None:
        """Return the newest update that this program made since: it looked at the first run itself."""
        for record in reversed(self.records):
            if record.operation not in _UPDATES or record.id < began.id:
                continue
            if not (record.version_after and record.tag.version):
                continue
            old = self._scheme.parse(record.tag.version)
            new = self._scheme.parse(record.version_after)
            if self.fits(old, self.table.source) and self.fits(new, self.table.to):
                return record
        return None

    def _shown_after(self, update: Record) -> bool:
        """Tell whether the second run is shown by what came later than an update of ours.

        Only as long as what the update brought is what is there, by its times, too: a launcher that went back
        and forth since may have come between.
        """
        found = [each for each in update.relations if isinstance(each, HelperAtUpdate)]
        state = next((each.state for each in found if each.helper == self.helper), None)
        if state is None or not self.evidence.all_show(self.table.after, state):
            return False
        brought = self.ledger.record(update.id).after
        markers = [f"{PROGRAM}/{marker}" for marker in self.install.card.file.program.markers]
        there = [path for path in markers if path in brought]
        return (
            bool(there)
            and all(
                path in self.tree and self.tree[path].mtime_ns == brought[path].mtime_ns
                for path in there
            )
            and not self._brought_back(update.id)
        )

    def _noted(self, step: HelperStep, began: HelperBegan) -> _Note | None:
        """Return what was noted of a step; None also if what showed it was brought back to an older state."""
        found = [(mark.id, note) for mark, note in self._notes() if note.at == began.id]
        for record in self.records:
            back = relation_of(record.relations, HelperPlaced)
            if (
                back is not None
                and back.helper == self.helper
                and back.program
                and record.id > began.id
            ):
                state = dict(back.state)
                found.append((record.id, _Note(HelperStep.PUT_BACK, began.id, state, back.program)))
        some = [each for each in sorted(found, key=lambda each: each[0]) if each[1].step == step]
        if not some:
            return None
        id, note = some[-1]
        return None if not note.skipped and self._brought_back(id) else note

    def _brought_back(self, since: str) -> bool:
        """Tell whether a change since an id touched what shows the runs: a world of before was restored."""
        fits = [Patterns((row.file,)) for row in (*self.table.before, *self.table.after)]
        return any(
            record.id > since
            and record.operation not in _UPDATES
            and any(fit(path) for path in self.ledger.record(record.id).paths for fit in fits)
            for record in self.records
        )

    def status(self) -> HelperStatus:
        """Say where the sequence is.

        Raises:
            DecisionNeeded: the build is not certain.
            UsageError: it is of no build that the helper is for.
        """
        version = self.install.sure_version
        if not (self.is_before or self.is_after):
            raise UsageError(
                f"{self.helper} is for updates from {self.table.source} to {self.table.to}, this is"
                f" {version}",
                where=self.install.place.location,
            )
        return self._before() if self.is_before else self._after()

    def _before(self) -> HelperStatus:
        began = self.placed()
        if began is None or not self.is_whole(began.entry):
            told = "it is not there any more, or not as it was placed" if began is not None else ""
            return self._at(HelperStep.PLACE, told)
        if self._is_skipped(HelperStep.FIRST_RUN, began):
            return self._at(HelperStep.UPDATE, skipped={HelperStep.FIRST_RUN})
        if not self.evidence.all_show(self.table.before, began.state):
            return self._at(HelperStep.FIRST_RUN, self.evidence.what_shows(self.table.before))
        return self._at(HelperStep.UPDATE)

    def _after(self) -> HelperStatus:
        began = self.placed()
        if began is None:
            return self._done() if self._is_over() else self._missed()
        first = self._noted(HelperStep.FIRST_RUN, began)
        update = self._update_made(began)
        if first is None and update is None:
            return self._missed()
        skipped = {HelperStep.FIRST_RUN} if first is not None and first.skipped else set()
        second = self._noted(HelperStep.SECOND_RUN, began)
        if second is not None and second.program == self.program():
            skipped |= {HelperStep.SECOND_RUN} if second.skipped else set()
            return self._at(HelperStep.REMOVE, skipped=skipped)
        if update is not None and self._shown_after(update):
            return self._at(HelperStep.REMOVE, skipped=skipped)
        if not self.is_whole(began.entry):
            told = "it was deleted or changed by the update"
            return self._at(HelperStep.PUT_BACK, told, skipped=skipped)
        there = self._noted(HelperStep.PUT_BACK, began)
        if there is None or there.program != self.program():
            told = "whether it is still there is noted now"
            return self._at(HelperStep.PUT_BACK, told, skipped=skipped)
        if not self.evidence.all_show(self.table.after, there.state):
            told = self.evidence.what_shows(self.table.after)
            return self._at(HelperStep.SECOND_RUN, told, skipped=skipped)
        return self._at(HelperStep.REMOVE, skipped=skipped)

    def _is_over(self) -> bool:
        """Tell whether a sequence was ended, and nothing shows an older build or world since."""
        events = self._events()
        if not events or events[-1][2] is not None:
            return False
        when, id, _ = events[-1]
        if self._brought_back(id):
            return False
        seen = [(record.when, record.tag.version) for record in self.records]
        seen += [(record.when, record.version_after) for record in self.records]
        root = roots_of(self.install.place)
        seen += [(e.when, e.tag.version) for e in self.ledger.entries() if dict(e.roots) == root]
        return not any(
            text and at > when and self.fits(self._scheme.parse(text), self.table.source)
            for at, text in seen
        )

    def _done(self) -> HelperStatus:
        """Return that nothing is left to be done."""
        last = [note for _, note in self._notes() if note.step == HelperStep.REMOVE][-1:]
        without = bool(last and last[0].skipped)  # somebody agreed to go on without it
        states = dict.fromkeys(HelperStep, "done")
        if without:
            states = {
                step: "done" if step is HelperStep.UPDATE else "skipped" for step in HelperStep
            }
        return HelperStatus(self.helper, tuple(StepState(*each) for each in states.items()))

    def _missed(self) -> HelperStatus:
        told = "the update was made without it"
        steps = [
            StepState(HelperStep.PLACE, "later"),
            StepState(HelperStep.FIRST_RUN, "next", told),
        ]
        steps += [StepState(step, "later") for step in list(HelperStep)[2:]]
        return HelperStatus(self.helper, tuple(steps), missed=True)

    def _is_skipped(self, step: HelperStep, began: HelperBegan) -> bool:
        return any(
            note.skipped and note.step == step and note.at == began.id for _, note in self._notes()
        )

    def _at(
        self, step: HelperStep, told: str = "", *, skipped: set[HelperStep] | None = None
    ) -> HelperStatus:
        out = []
        state = "done"
        for each in HelperStep:
            if each is step:
                out.append(StepState(each, "next", told))
                state = "later"
            else:
                out.append(StepState(each, "skipped" if each in (skipped or ()) else state))
        return HelperStatus(self.helper, tuple(out))

    # ---- marks -------------------------------------------------------------------------------

    def note_what_is_seen(self) -> HelperStatus:
        """Note in the ledger what can be seen now and could not be seen later; return where it is then.

        That is: that a run is shown, and that the helper is still there after the update.
        """
        status = self.status()
        began = self.placed()
        if began is None:
            return status
        if status.step is HelperStep.UPDATE:
            self._note_step(HelperStep.FIRST_RUN, began)
        elif status.step is HelperStep.PUT_BACK and self.is_whole(began.entry):
            self._note_step(HelperStep.PUT_BACK, began)
            return self.status()
        elif status.step is HelperStep.REMOVE:
            self._note_step(HelperStep.SECOND_RUN, began)
        return status

    def _note_step(self, step: HelperStep, began: HelperBegan) -> None:
        noted = self._noted(step, began)
        if noted is None or (noted.program != self.program() and not noted.skipped):
            self._mark(_Note(step, began.id, self.evidence.state(), self.program()))

    def note_placed_by_hand(self) -> None:
        """Note that a person placed the helper: it is kept in the ledger, and not removed at the end.

        Raises:
            UsageError: nothing lies where the helper belongs.
        """
        if not self.here:
            raise UsageError(
                f"nothing lies in {self.at}",
                where=self.install.place.location,
                remedy="Say what is to be placed there: `source=FOLDER`.",
            )
        part, _, rest = self.at.partition("/")
        folder = os.path.join(roots_of(self.install.place)[part], *rest.split("/"))
        kept = keep_helper(self.ledger, folder, self.helper)
        self._mark(
            _Note(HelperStep.PLACE, "", self.evidence.state(), self.program(), entry=kept.id)
        )

    def skip(self, step: str) -> None:
        """Skip a run, by the name of the step; it must be the next one.

        Raises:
            UsageError: it is another step's turn, or this one is no run.
        """
        status = self.status()
        if step not in RUNS:
            raise UsageError(
                f"{step!r} is not skipped: only runs are",
                remedy=f"They are called {' and '.join(RUNS)}.",
            )
        if status.step != step:
            raise UsageError(
                f"it is not the turn of {step}: next is {status.step or 'nothing'}",
                where=self.install.place.location,
            )
        began = self.placed()
        if began is None:  # without the helper no run can be made, and nothing is to be removed
            self._mark(_Note(HelperStep.REMOVE, "", skipped=True))
            return
        self._mark(_Note(step, began.id, self.evidence.state(), self.program(), skipped=True))

    def note_over(self) -> None:
        """Note that the sequence is over, where nothing is to be removed."""
        self._mark(_Note(HelperStep.REMOVE, ""))

    def _mark(self, note: _Note) -> None:
        mark = self.ledger.mark(HELPER_MARK, self.subject, note=msgspec.json.encode(note).decode())
        self._marks.append(mark)


def keep_helper(ledger: Ledger, place: AnyPlace, helper: str) -> Entry:
    """Keep the files of a helper in the ledger, to be put back if it is deleted."""
    tag = Tag(title=helper, read_from="a helper")
    return ledger.backup(place, tag=tag, note="a helper, to be put back if it is deleted")


def helpers_at_update(
    card: Card, place: Place, *, before: Version | None, after: Version | None, ledger: Ledger
) -> tuple[list[Finding], tuple[HelperAtUpdate, ...]]:
    """Return what an update finds of helpers: those whose run before it is not shown, which stop it, and how
    things are that show the run after it."""
    findings: list[Finding] = []
    states: list[HelperAtUpdate] = []
    for name, table in card.file.helpers.items():
        if before is None or after is None:
            continue
        ranges = [VersionRange.parse(text, card.scheme) for text in (table.source, table.to)]
        if before not in ranges[0] or after not in ranges[1]:
            continue
        sequence = HelperSequence(Install(card, place, (), before), name, ledger)
        status = sequence.status()
        states.append(HelperAtUpdate(name, sequence.evidence.state()))
        if status.step is not HelperStep.UPDATE:
            step = next(each for each in status.steps if each.state == "next")
            why = f": {table.why}" if table.why else ""
            told = f" ({step.told})" if step.told else ""
            findings.append(
                Finding.conflict(
                    "helper-first",
                    f"{name} must run once before this update{why}; next is {step.step}{told}",
                    where=place.location,
                    remedy=f"Go on with it: kindred world helper INSTALL {name}",
                )
            )
    return findings, tuple(states)

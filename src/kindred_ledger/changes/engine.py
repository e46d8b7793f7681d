"""The engine: the one way a change is carried out.

    lock, look again, check the room, keep, stage, sync, swap, verify, record, clear

Until the journal says `swapping` nothing of the user's was touched and a cut leaves the place as
it was; from then on both directions are possible and `recover` takes one. What was written is read
back and verified by digest, and both sides of the books are counted from what was scanned.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from contextlib import nullcontext, suppress
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..errors import KindredError, PlaceChanged, PlaceError
from ..finding import Finding
from ..ledger import BEFORE, Ledger, Record, iso
from ..ledger.tidying import making_folders
from ..places import (
    DIR,
    Node,
    Place,
    Tree,
    capabilities_of,
    parents,
    parts_of,
    refusals,
    roots_of,
    same_content,
)
from ..progress import Progress
from ..statement import MANY, Line, Statement
from .actions import Action
from .archived import as_file_changeset
from .backend import Backend
from .backends import backend_of
from .books import balance
from .fitting import fitted
from .folder_times import dated, is_of_time
from .journal import STAGING, SWAPPING, Journal, Op
from .plan import Plan
from .swap import swap_back, swap_forward

_FEW = 10  # a change of fewer than one path in this many

__all__ = ["Applied", "apply_changeset", "close", "finish", "unwind"]


class Applied(Struct, frozen=True):
    """A change that was made: its record in the history, its books, and what was noticed.

    >>> done = kl.restore(ledger.backup(install), "copy", ledger=ledger).apply(ledger)
    >>> done.record.operation, done.statements[0].counted_after
    ('restore', 206)
    """

    record: Record
    statements: tuple[Statement, ...]
    findings: tuple[Finding, ...] = ()

    def __repr__(self) -> str:
        return f"<Applied {self.record.id}: {self.record.summary}>"

    def to_json(self, *, lines: bool | Callable[[Line], bool] = False) -> dict[str, Any]:
        """Return what was done as plain values; `lines` says which lines of the books."""
        return {
            "id": self.record.id,
            "entry": self.record.entry,
            "books": [statement.to_json(lines=lines) for statement in self.statements],
            "findings": [finding.to_json() for finding in self.findings],
        }


def apply_changeset(
    changeset: Plan, ledger: Ledger, *, group: str = "", progress: Progress
) -> Applied:
    """Carry out a changeset; see `Changeset.apply`."""
    changeset = fitted(changeset)
    if capabilities_of(changeset.place).is_archive:
        with as_file_changeset(changeset, ledger) as whole:
            return apply_changeset(whole, ledger, group=group, progress=progress)
    backend = backend_of(changeset.place, ledger)
    missing = capabilities_of(changeset.place).missing
    with making_folders(ledger.root, missing) if missing else nullcontext(), backend.hold():
        backend.check_unfinished()
        _check_unchanged(changeset, backend, progress)
        return _Application(changeset, ledger, backend, group, progress).run()


class _Application:
    """One run of the engine, phase by phase."""

    def __init__(
        self, changeset: Plan, ledger: Ledger, backend: Backend, group: str, progress: Progress
    ) -> None:
        self.group = group
        self.changeset = changeset
        self.ledger = ledger
        self.backend = backend
        self.progress = progress
        self.dated = dated(changeset.before, changeset.actions, ledger.clock())
        ops, self.sources = _operations(changeset.place, (*changeset.actions, *self.dated))
        self._recording = False  # whether the record may be in the history
        self.journal = Journal("", ledger.root, roots_of(changeset.place), tuple(ops))

    def run(self) -> Applied:
        changeset = self.changeset
        where = changeset.place.location
        with refusals(where):
            self.backend.check_space(changeset.actions)
        swapping = False
        try:  # one block: an interrupt between two would leave the journal to nobody
            with refusals(where):
                self.journal = journal = self.journal.claimed(self.ledger)
                self.backend.id = journal.id
                journal.write()
            record = self._keep()
            with refusals(where):
                self.backend.stage(journal.ops, self.sources, self.progress)
                self._write_record(record)
                journal.at(SWAPPING).write()
            swapping = True
            with refusals(where):
                swap_forward(journal.ops, self.backend, self.progress)
            statements, findings = balance(changeset, self._look_again())
            if changeset.proof is not None:
                changeset.proof()
            record = replace(record, statements=tuple(s.to_json() for s in statements))
            self._write_record(record)  # over the one with the planned books
            self._record(record)
            findings += self._close()
        except BaseException as error:
            if swapping:
                self._unwind(error)
            elif self.journal.id:
                self._abandon(error)
            raise
        if changeset.clear is not None:
            with suppress(KindredError, OSError):  # it is done; what is left goes another time
                changeset.clear()
        return Applied(record, statements, (*changeset.findings, *findings))

    def _look_again(self) -> Tree:
        """Return the place as it is now.

        After a change of little of a large place all names are listed again, and only what the change
        touched is looked at and read: the rest is taken to be as it was.
        """
        before, place = self.changeset.before, self.changeset.place
        touched = {action.path for action in self.changeset.actions}
        few = len(before) >= MANY and len(touched) * _FEW < len(before)
        names = self.backend.names() if few else None
        if names is None:
            return self.ledger.scan(place, progress=self.progress)
        planned, there, odd = self.changeset.after, 0, set(touched)
        for name in names:
            if name in planned:
                there += 1
            else:
                odd.add(name)
        looked = self.backend.look(odd, self.progress)
        if there == len(planned) and all(
            same_content(planned.get(path), looked.get(path)) for path in odd
        ):
            return planned
        still = set(self.backend.names() or ()) - touched
        stays = Tree({path: node for path, node in before.items() if path in still})
        return stays.overlay(looked)

    def _record(self, record: Record) -> None:
        """Enter the record; one that arrived, though what sent it failed, is there all the same."""
        self._recording = True
        try:
            self.ledger.take_in_record(record.id, self.journal.record_path)
        except (KindredError, OSError):
            if not self.ledger.has_record(record.id):
                raise
            self.ledger.storage.refresh()

    def _close(self) -> list[Finding]:
        """Clear up; what refuses that does not undo what is done and recorded."""
        try:
            close(self.journal, self.backend, self.ledger)
        except (KindredError, OSError) as error:
            why = f"what was put aside could not be cleared yet: {error}"
            return [Finding.warning("not-cleared", why, remedy="To do it: kindred recover")]
        return []

    def _abandon(self, error: BaseException) -> None:
        """Give up: nothing of the place was touched."""
        try:
            waits = self.backend.abandon()
        except (KindredError, OSError):  # what was staged stays, and the journal, which says so
            return
        if not waits:
            self.journal.clear(self.ledger)
        elif isinstance(error, KindredError):
            error.remedy = (
                "Nothing was changed there. What was sent so far waits: run this again to go on, or let"
                f" go of it with: kindred recover\n{error.remedy}"
            )

    def _keep(self) -> Record:
        changeset = self.changeset
        touched = {action.path for action in (*changeset.actions, *self.dated)}
        before = changeset.before.select(touched.__contains__)
        after = changeset.after.overlay({a.path: a.after for a in self.dated if a.after})
        entry = self.ledger.keep(
            changeset.place,
            changeset.tag,
            changeset.before if changeset.keep_whole else before,
            reason=f"{BEFORE}{changeset.operation}",
            complete=changeset.keep_whole,
            progress=self.progress,
        )
        return Record(
            id=self.journal.id,
            when=iso(self.ledger.clock()),
            operation=changeset.operation,
            summary=changeset.summary,
            tag=changeset.tag,
            roots=self.journal.roots,
            entry=entry.id,
            version_after=changeset.version_after,
            machine=self.ledger.machine,
            group=self.group,
            relations=changeset.relations,
            paths=tuple(a.path for a in changeset.actions if not is_of_time(a)),
            before=before,
            after=after.select(touched.__contains__),
            statements=tuple(s.to_json() for s in (changeset.preview(), *changeset.statements)),
        )

    def _write_record(self, record: Record) -> None:
        self.ledger.write_record(record, self.journal.record_path)

    def _unwind(self, error: BaseException) -> None:
        if self._recording and self._is_recorded(error):
            # It is done and recorded; only this was cut off.
            close(self.journal, self.backend, self.ledger)
            return
        try:
            with refusals(self.changeset.place.location):
                files = unwind(self.journal, self.backend, self.ledger)
        except (KindredError, OSError) as second:
            raise PlaceError(
                f"the change failed ({error}) and could not be taken back yet: {second}",
                where=self.changeset.place.location,
                remedy="Nothing is lost. Put right what refused, then run: kindred recover",
            ) from error
        if isinstance(error, KindredError) and files:
            error.remedy = (
                f"{files} of {len(self.changeset.actions)} files had been changed and were taken "
                f"back; the place is as it was.\n{error.remedy}"
            )

    def _is_recorded(self, error: BaseException) -> bool:
        """Tell whether the record arrived, though what sent it failed.

        Raises:
            PlaceError: nobody knows; then nothing is taken back of what may stand in the history.
        """
        try:
            return self.ledger.has_record(self.journal.id)
        except (KindredError, OSError) as second:
            raise PlaceError(
                f"the change was made, and its record could not be written ({error}) or looked for:"
                f" {second}",
                where=self.ledger.location,
                remedy="Nothing is lost. When the ledger can be reached again, run: kindred recover",
            ) from error


def close(journal: Journal, backend: Backend, ledger: Ledger) -> None:
    """Remove all that a change put aside, then its journal: it is over."""
    backend.clear()
    journal.clear(ledger)


def finish(journal: Journal, backend: Backend, ledger: Ledger) -> None:
    """Carry an unfinished change to its end: the rest of the swap, verify, record, clear.

    Raises:
        PlaceChanged: the place does not hold what was planned; not recorded.
    """
    swap_forward(journal.ops, backend)
    after = ledger.scan(journal.place(ledger))
    expected: dict[str, Node | None] = {}
    for op in journal.ops:
        path = f"{op.part}/{op.path}" if op.part else op.path
        if op.kind in ("remove", "rmdir"):
            expected.setdefault(path, None)
        else:
            expected[path] = op.after
    for path, node in expected.items():
        if not same_content(after.get(path), node):
            raise PlaceChanged(f"{path} is not what was planned")
    ledger.take_in_record(journal.id, journal.record_path)
    close(journal, backend, ledger)


def unwind(journal: Journal, backend: Backend, ledger: Ledger) -> int:
    """Take an unfinished change back and return how many files that moved.

    What somebody else wrote meanwhile goes into the ledger.
    """
    files = swap_back(journal.ops, backend)
    for place in backend.strangers():
        ledger.backup(place, note=f"found while change {journal.id} was taken back")
    journal.at(STAGING).write()  # from here on only the clearing is left
    close(journal, backend, ledger)
    return files


def _check_unchanged(changeset: Plan, backend: Backend, progress: Progress) -> None:
    """Look again at every path that will be touched, and at the folders on the way to it."""
    expected = {action.path: action.before for action in changeset.actions}
    inner = {path.rpartition("/")[0] for path in expected} - {""}
    for folder in {folder for path in inner for folder in (*parents(path), path)}:
        expected.setdefault(folder, changeset.before.get(folder))  # a link now would lead elsewhere
    now = backend.look(expected, progress)
    for path, node in expected.items():
        if not same_content(now.get(path), node):
            raise PlaceChanged(
                f"{path} changed since the change was computed",
                where=changeset.place.location,
                remedy="Nothing was written. Look at what changed it, then run this again.",
            )


def _operations(
    place: Place, actions: Iterable[Action]
) -> tuple[list[Op], dict[int, tuple[Place, str]]]:
    """Turn actions into operations on folders, with the source of each new content."""
    joined = "" not in parts_of(place)
    ops: list[Op] = []
    sources: dict[int, tuple[Place, str]] = {}
    for action in actions:
        part, _, path = action.path.partition("/") if joined else ("", "", action.path)
        if not path:
            continue  # the part's own top folder
        for kind, before, after in _steps(action):
            number = len(ops)
            ops.append(Op(kind, number, part, path, before, after))
            if kind == "put" and action.source is not None:
                sources[number] = action.source, action.source_path
    return ops, sources


def _steps(action: Action) -> list[tuple[str, Node | None, Node | None]]:
    """Return the operations an action takes, each with what it finds and what it leaves."""
    before, after = action.before, action.after
    if before is not None and after is not None:
        if is_of_time(action):  # the mode is not set anew: who may write in a folder may not own it
            return [("meta", before._replace(mode=0), after._replace(mode=0))]
        if same_content(before, after):
            return [("meta", before, after)]
        if before.kind != DIR and after.kind != DIR:
            return [("put", before, after)]
    steps: list[tuple[str, Node | None, Node | None]] = []
    if before is not None:
        steps.append(("rmdir" if before.kind == DIR else "remove", before, None))
    if after is not None and after.kind == DIR:
        steps += [("mkdir", None, after), ("meta", None, after)]
    elif after is not None:
        steps.append(("put", None, after))
    return steps

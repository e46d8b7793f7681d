"""Undoing and redoing: a change of the history is taken back, or made again after that.

What always holds: `undo` twice goes back two changes, and `redo` goes forward again, the last one that was
taken back first. Both are changes of the history themselves, and say which change they take back.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from ..errors import UsageError
from ..finding import Finding
from ..ledger import Ledger, Record, Undoes, not_undone
from ..places import DIR, limits_by_part_of, same_content
from ..progress import Progress
from .actions import Action
from .changeset import Changeset
from .engine import Applied
from .fitting import fitted
from .folder_times import times_as_before

__all__ = ["redo", "undo"]

LATEST = "latest"
_MOST_SHOWN = 3  # paths in one finding


def undo(
    change: Applied | str = LATEST, *, ledger: Ledger, progress: Progress | None = None
) -> Changeset:
    """Compute the change that takes back one change of the history.

    `change` is what applying it returned, or its id, the beginning of that, or `latest`: the last one that
    still applies, so that undoing twice goes back two changes. A path that changed since is brought back
    too, which is a loss that needs consent; the newer content is kept first, like everything a changeset
    touches. Given an undo, it does what `redo` does.

    Raises:
        UsageError: the change was taken back already, what was kept before it is retired, or there is none.

    >>> done = kl.update(install, "downloads/mossferry-2.0.zip", ledger=ledger).apply(ledger)
    >>> _ = kl.undo(done, ledger=ledger).apply(ledger)
    >>> card.open("mossferry").version.text
    '1.4'
    """
    chains = _Chains(ledger.records())
    if change == LATEST:
        found = chains.last(undos=False)
        if not found:
            raise UsageError(
                "there is nothing to undo: no change applies",
                remedy="To make one again that was taken back: kindred redo",
            )
        return _reversed(ledger, found, chains, progress)
    id = ledger.record(change if isinstance(change, str) else change.record.id).id
    found = chains.last(undos=chains.is_undo(id), of=id)
    if not found:
        raise UsageError(
            f"change {id} was taken back already", remedy=f"To make it again: kindred redo {id}"
        )
    return _reversed(ledger, found, chains, progress)


def redo(
    change: Applied | str = LATEST, *, ledger: Ledger, progress: Progress | None = None
) -> Changeset:
    """Compute the change that makes a change again that was taken back.

    `change` is the change, or the undo, or `latest`: the one that was taken back last. What changed since
    is treated as `undo` treats it.

    Raises:
        UsageError: the change was not taken back, what was kept is retired, or there is none.

    >>> _ = kl.update(install, "downloads/mossferry-2.0.zip", ledger=ledger).apply(ledger)
    >>> _ = kl.undo(ledger=ledger).apply(ledger)
    >>> _ = kl.redo(ledger=ledger).apply(ledger)
    >>> card.open("mossferry").version.text
    '2.0'
    """
    chains = _Chains(ledger.records())
    if change == LATEST:
        found, what = chains.last(undos=True), "there is nothing to redo: no change was taken back"
    else:
        id = ledger.record(change if isinstance(change, str) else change.record.id).id
        applies = chains.last(undos=False, of=id)
        found = "" if applies else chains.last(undos=True, of=id)
        what = f"change {id} was not taken back, so it cannot be made again"
    if not found:
        raise UsageError(what, remedy="To see what was done: kindred history")
    return _reversed(ledger, found, chains, progress)


class _Chains:
    """The chains of undoing and redoing in a history: a change, what took it back, what took that back.

    An odd member is an undo, an even one the change or a redo. `standing` are those that still apply.
    """

    def __init__(self, records: Sequence[Record]) -> None:
        self.records = {record.id: record for record in records}
        self.standing = [record.id for record in not_undone(records)]
        self._place: dict[
            str, tuple[str, int]
        ] = {}  # the change it began with, and which member it is
        for record in records:  # what is taken back is older
            begin, member = self._place.get(record.undoes, (record.undoes, 0))
            self._place[record.id] = (begin, member + 1) if record.undoes else (record.id, 0)

    def is_undo(self, id: str) -> bool:
        """Tell whether a change takes another one back, and does not make it again."""
        return bool(self._place[id][1] % 2)

    def began(self, id: str) -> str:
        """Return the change that a chain began with."""
        return self._place[id][0]

    def last(self, *, undos: bool, of: str = "") -> str:
        """Return the last change that still applies, or undo that does, of all or of a chain; "" if none."""
        fitting = (
            id
            for id in reversed(self.standing)
            if self.is_undo(id) is undos and (not of or self.began(id) == self.began(of))
        )
        return next(fitting, "")


def _reversed(ledger: Ledger, id: str, chains: _Chains, progress: Progress | None) -> Changeset:
    """Compute the change that brings back what was before a change."""
    record = ledger.record(id)
    again = chains.is_undo(id)
    place = ledger.place_at(record.roots)
    now = ledger.scan(place, progress=progress)
    if ledger.is_retired(record.entry):
        raise UsageError(
            f"what was kept before change {record.id} is retired, so it cannot be taken back",
            remedy="A whole state may still be there: kindred entries",
        )
    source = ledger.place(ledger.entry(record.entry))
    changed_by = _changed_by(ledger, record, chains)
    reason = f"as before {record.id}"
    actions, findings, stay = [], list(_converted_since(record, changed_by)), []
    going = {path for path in record.paths if path not in record.before}
    for path in record.paths:
        was, became, here = record.before.get(path), record.after.get(path), now.get(path)
        if here == was or (same_content(here, was) and was is not None and was.kind == DIR):
            continue
        if was is None and here is not None and here.kind == DIR:
            if any(inner.startswith(f"{path}/") and inner not in going for inner in now):
                stay.append(path)
                continue
        elif not same_content(here, became) and not same_content(here, was):
            later = changed_by.get(path)
            who = f"change {later.id} ({later.operation})" if later else "something else"
            why = f"{who} changed it after {record.operation}; that would be taken back too"
            findings.append(Finding.loss("changed-since", why, where=path))
        actions.append(Action(path, here, was, source, path, reason))
    done = {action.path for action in actions}
    folders = times_as_before(
        record.before, record.after, now, limits_by_part=limits_by_part_of(place)
    )
    actions += [action for action in folders if action.path not in done]
    findings += (
        Finding.note("folder-stays", "it stays: files made since lie in it", where=path)
        for path in stay
    )
    version = record.version_after or record.tag.version
    return fitted(
        Changeset(
            place=place,
            operation="redo" if again else "undo",
            summary=_summary(chains, record),
            before=now,
            actions=tuple(actions),
            tag=replace(record.tag, version=version),
            version_after=record.tag.version,
            findings=tuple(findings),
            relations=(Undoes(record.id),),
        )
    )


def _changed_by(ledger: Ledger, record: Record, chains: _Chains) -> dict[str, Record]:
    """Return, by path, the last change of the same place after this one that still applies."""
    found = {}
    for id in chains.standing[chains.standing.index(record.id) + 1 :]:
        if dict(chains.records[id].roots) == dict(record.roots):
            later = ledger.record(id)
            found.update(dict.fromkeys(later.paths, later))
    return found


def _converted_since(record: Record, changed_by: dict[str, Record]) -> Iterator[Finding]:
    """Yield what is to be said of conversions that came after a change of the build, and still apply."""
    if record.version_after == record.tag.version:
        return
    converted: dict[str, list[str]] = {}
    for path, later in changed_by.items():
        if later.operation == "convert" and path in later.after.files:
            converted.setdefault(later.id, []).append(path)
    for id, paths in converted.items():
        shown = ", ".join(paths[:_MOST_SHOWN]) + (" …" if len(paths) > _MOST_SHOWN else "")
        yield Finding.warning(
            "converted-since",
            f"change {id} converted {len(paths)} of the files since; {record.tag.version} may not read"
            f" them: {shown}",
            remedy=f"Take that back first: kindred undo {id}",
        )


def _summary(chains: _Chains, record: Record) -> str:
    """Say what is taken back or made again: the change that a chain of undoing and redoing began with."""
    first = chains.records.get(chains.began(record.id), record)
    verb = "make again" if chains.is_undo(record.id) else "take back"
    return f"{verb} {first.operation} {first.id}: {first.summary}"

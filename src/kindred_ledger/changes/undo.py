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
    """
    records = ledger.records()
    if change == LATEST:
        found = _last(records, taken_back=False)
        if found is None:
            raise UsageError(
                "there is nothing to undo: no change applies",
                remedy="To make one again that was taken back: kindred redo",
            )
        return _reversed(ledger, found.id, records, progress)
    id = ledger.record(change if isinstance(change, str) else change.record.id).id
    in_force = _in_force(records, id)
    if not in_force:
        raise UsageError(
            f"change {id} was taken back already", remedy=f"To make it again: kindred redo {id}"
        )
    return _reversed(ledger, in_force, records, progress)


def redo(
    change: Applied | str = LATEST, *, ledger: Ledger, progress: Progress | None = None
) -> Changeset:
    """Compute the change that makes a change again that was taken back.

    `change` is the change, or the undo, or `latest`: the one that was taken back last. What changed since
    is treated as `undo` treats it.

    Raises:
        UsageError: the change was not taken back, what was kept is retired, or there is none.
    """
    records = ledger.records()
    if change == LATEST:
        found = _last(records, taken_back=True)
        if found is None:
            raise UsageError(
                "there is nothing to redo: no change was taken back",
                remedy="To see what was done: kindred history",
            )
        return _reversed(ledger, found.id, records, progress)
    id = ledger.record(change if isinstance(change, str) else change.record.id).id
    depths = _depths(records)
    undone_by = id if depths[id] % 2 else _undo_in_force(records, id)
    if not undone_by or not _in_force(records, undone_by):
        raise UsageError(
            f"change {id} was not taken back, so it cannot be made again",
            remedy="To see what was done: kindred history",
        )
    return _reversed(ledger, undone_by, records, progress)


def _depths(records: Sequence[Record]) -> dict[str, int]:
    """Return how many changes each takes back through others: odd is an undo, even a change or a redo."""
    depths: dict[str, int] = {}
    for record in records:  # what is taken back is older
        depths[record.id] = depths.get(record.undoes, -1) + 1 if record.undoes else 0
    return depths


def _beginning(records: Sequence[Record], id: str) -> str:
    """Return the change that began a chain of undoing and redoing."""
    undoes = {record.id: record.undoes for record in records}
    while undoes.get(id):
        id = undoes[id]
    return id


def _last(records: Sequence[Record], *, taken_back: bool) -> Record | None:
    """Return the last change that still applies, or the last undo that does."""
    depths = _depths(records)
    of_kind = [each for each in not_undone(records) if depths[each.id] % 2 == taken_back]
    return of_kind[-1] if of_kind else None


def _in_force(records: Sequence[Record], id: str) -> str:
    """Return the last of the changes that made what `id` did, and still apply; "" if none does."""
    depths, begin = _depths(records), _beginning(records, id)
    same = [
        each.id
        for each in not_undone(records)
        if depths[each.id] % 2 == depths[id] % 2 and _beginning(records, each.id) == begin
    ]
    return same[-1] if same else ""


def _undo_in_force(records: Sequence[Record], id: str) -> str:
    """Return the undo that took a change back last, if that still applies."""
    depths, begin = _depths(records), _beginning(records, id)
    undos = [
        each.id
        for each in not_undone(records)
        if depths[each.id] % 2 and _beginning(records, each.id) == begin
    ]
    return undos[-1] if undos and not _in_force(records, id) else ""


def _reversed(
    ledger: Ledger, id: str, records: Sequence[Record], progress: Progress | None
) -> Changeset:
    """Compute the change that brings back what was before a change."""
    record = ledger.record(id)
    again = _depths(records)[id] % 2
    place = ledger.place_at(record.roots)
    now = ledger.scan(place, progress=progress)
    if ledger.is_retired(record.entry):
        raise UsageError(
            f"what was kept before change {record.id} is retired, so it cannot be taken back",
            remedy="A whole state may still be there: kindred entries",
        )
    source = ledger.place(ledger.entry(record.entry))
    changed_by = _changed_by(ledger, record, records)
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
            summary=_summary(records, record, again=bool(again)),
            before=now,
            actions=tuple(actions),
            tag=replace(record.tag, version=version),
            version_after=record.tag.version,
            findings=tuple(findings),
            relations=(Undoes(record.id),),
        )
    )


def _changed_by(ledger: Ledger, record: Record, records: Sequence[Record]) -> dict[str, Record]:
    """Return, by path, the last change of the same place after this one that still applies."""
    standing = not_undone(records)
    at = next((n for n, each in enumerate(standing) if each.id == record.id), len(standing))
    found = {}
    for later in standing[at + 1 :]:
        if dict(later.roots) == dict(record.roots):
            whole = ledger.record(later.id)
            found.update(dict.fromkeys(whole.paths, whole))
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


def _summary(records: Sequence[Record], record: Record, *, again: bool) -> str:
    """Say what is taken back or made again: the change that began a chain of undoing and redoing."""
    begin = _beginning(records, record.id)
    first = next((each for each in records if each.id == begin), record)
    verb = "make again" if again else "take back"
    return f"{verb} {first.operation} {first.id}: {first.summary}"

"""The steps of a helper sequence that change files: place, put back, remove; and the way back.

Which step is next, and whether it may be taken, says `planning.helper_sequence`.
"""

from __future__ import annotations

import os

from msgspec import Struct

from ..cards import PROGRAM, Install
from ..changes import Action, Changeset, fitted
from ..errors import DecisionNeeded, UsageError
from ..finding import Finding
from ..ledger import HelperPlaced, HelperRemoved, Ledger, Relation
from ..ledger.migrations import unsigned_migration
from ..places import (
    DIR,
    FILE,
    AnyPlace,
    FilePlace,
    Place,
    Tree,
    as_place,
    capabilities_of,
    roots_of,
)
from ..planning.helper_sequence import HelperSequence, HelperStep, keep_helper
from ..planning.operation import Operation
from ..planning.reverting import Restore, Undo
from ..progress import Progress
from ..wording import count
from .opened import find_worlds

__all__ = ["WayBack", "helper_step", "way_back"]

_WHAT = {
    HelperStep.PLACE: "place",
    HelperStep.PUT_BACK: "put back",
    HelperStep.REMOVE: "remove",
}


class WayBack(Struct, frozen=True):
    """What leads back to before an update that was made too early, in order; `told` says it in words.

    Empty where the ledger does not know the old build.

    >>> _ = ledger.backup(fen_install)
    >>> kl.way_back(fen_install, "bellkeeper", ledger=ledger).told[0]
    'kindred restore ...: all of it as it was in build 1.4'
    """

    operations: tuple[Operation, ...]
    told: tuple[str, ...]


def helper_step(
    install: Install,
    helper: str,
    *,
    ledger: Ledger,
    source: AnyPlace | None = None,
    keep: bool = True,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change of the next step of a helper's sequence.

    `source` is the helper, a folder, archive or file, when it is to be placed. It goes into the ledger then,
    so that it can be put back; without `keep` it does not, and the change is to be looked at only. A last
    step without anything to remove is over when that is noted: `HelperSequence.note_over`.

    Raises:
        DecisionNeeded: the next step is a run, or an update, which a person makes; or the update was made too
            early.
        UsageError: there is no such helper, nothing is left to be done, or `source` is missing.

    >>> kl.helper_step(fen_install, "bellkeeper", ledger=ledger, source="helpers/bellkeeper").summary
    'place bellkeeper: 2 files'
    """
    sequence = HelperSequence(install, helper, ledger)
    status = sequence.status()
    step = status.step
    if step is None:
        raise UsageError(f"{helper} is done: nothing is left to do", where=install.place.location)
    if step not in _WHAT:
        told = next(each.told for each in status.steps if each.step is step)
        what = f"it is your turn: {step}" + (f"; {told}" if told else "")
        raise DecisionNeeded(
            what if not status.missed else f"the update was made before the run with {helper}",
            where=install.place.location,
            choices=way_back(install, helper, ledger=ledger).told if status.missed else (),
            remedy=_turn(sequence, step, missed=status.missed),
        )
    now = ledger.scan(install.place, progress=progress)
    relations: tuple[Relation, ...] = ()
    findings: list[Finding] = []
    began = sequence.placed()
    if step is HelperStep.REMOVE:
        assert began is not None
        kept = ledger.tree(ledger.entry(began.entry))
        relations = (HelperRemoved(helper),)
        actions = []
        for path in kept.files if began.by_us else ():
            node = now.get(f"{sequence.at}/{path}")
            if node is not None and node.digest == kept[path].digest:
                actions.append(
                    Action(f"{sequence.at}/{path}", node, None, reason="the helper goes")
                )
        actions += _empty_folders(sequence.at, now, {action.path for action in actions})
        waiting = unsigned_migration(ledger, roots_of(install.place)[PROGRAM])
        if waiting is not None:
            findings.append(
                Finding.conflict(
                    "not-signed-off",
                    f"the migration to {waiting.to} is not signed off, so its helper stays",
                    where=sequence.at,
                    remedy="Look at what came of it, and sign it off: kindred migrate --sign PART",
                )
            )
        if not began.by_us:
            findings.append(
                Finding.note("helper-yours", "you placed it yourself: it stays", where=sequence.at)
            )
    else:
        place, entry = _contents(sequence, source, began.entry if began is not None else "")
        tree = ledger.scan(place, progress=progress)
        actions = [
            Action(
                f"{sequence.at}/{path}",
                now.get(f"{sequence.at}/{path}"),
                node,
                place,
                path,
                "the helper",
            )
            for path, node in tree.items()
            if node.kind == FILE and _differs(now.get(f"{sequence.at}/{path}"), node)
        ]
        if step is HelperStep.PUT_BACK:
            relations = (
                HelperPlaced(helper, entry, sequence.evidence.state(), sequence.program()),
            )
        else:
            if keep and not entry:
                entry = keep_helper(ledger, place, helper).id
            relations = (HelperPlaced(helper, entry, sequence.evidence.state()),)
            findings += [
                Finding.conflict(
                    "occupied",
                    "there is a file of this name, which is not the helper's",
                    where=action.path,
                    remedy="Move it away first.",
                )
                for action in actions
                if action.before is not None and began is None
            ]
    return fitted(
        Changeset(
            place=install.place,
            operation=f"helper {step}",
            summary=f"{_WHAT[step]} {helper}: {count(len(actions), 'file')}",
            before=now,
            actions=tuple(actions),
            tag=install.tag,
            version_after=install.tag.version,
            findings=tuple(findings),
            relations=relations,
        )
    )


def _empty_folders(at: str, now: Tree, gone: set[str]) -> list[Action]:
    """Return the actions that remove the folder of a helper, if nothing else is left in it."""
    inside = [path for path in now if path == at or path.startswith(f"{at}/")]
    if not gone or any(now[path].kind != DIR and path not in gone for path in inside):
        return []
    folders = sorted((path for path in inside if now[path].kind == DIR), key=len, reverse=True)
    return [Action(path, now[path], None, reason="the helper goes") for path in folders]


def _differs(now: object, node: object) -> bool:
    return getattr(now, "digest", None) != getattr(node, "digest", None)


def _contents(sequence: HelperSequence, source: AnyPlace | None, entry: str) -> tuple[Place, str]:
    """Return what holds the helper, and the entry that keeps it already."""
    if source is not None:
        if isinstance(source, (str, os.PathLike)) and os.path.isfile(os.fspath(source)):
            place: Place = as_place(source)
            return (FilePlace(source) if not _is_archive(place) else place), ""
        return as_place(source), ""
    if entry:
        return sequence.ledger.place(sequence.ledger.entry(entry)), entry
    raise UsageError(
        f"what is {sequence.helper}, and where is it?",
        where=sequence.at,
        remedy="Say it with `source=FOLDER`. If you placed it yourself already: `placed_by_hand=True`.",
    )


def _is_archive(place: Place) -> bool:
    return capabilities_of(place).is_archive


def _turn(sequence: HelperSequence, step: HelperStep, *, missed: bool) -> str:
    run = sequence.table.run or "Start the game once, with the helper in it, and save."
    why = f" Without it: {sequence.table.why}." if sequence.table.why else ""
    if missed:
        return f"Go back, then go on in order. To go on without it: `skip={HelperStep.FIRST_RUN}`.{why}"
    if step is HelperStep.UPDATE:
        return "Bring the install to the new build: kindred update"
    return f"{run} Then say this again. To go on without it: `skip={step}`.{why}"


def way_back(install: Install, helper: str, *, ledger: Ledger) -> WayBack:
    """Return what leads back to before an update that was made without the first run.

    Raises:
        UsageError: there is no such helper.

    >>> kl.way_back(fen_install, "bellkeeper", ledger=ledger).told
    ()
    """
    sequence = HelperSequence(install, helper, ledger)
    scheme = install.card.scheme
    for record in reversed(sequence.records):
        if record.version_after and record.tag.version:
            old, new = scheme.parse(record.tag.version), scheme.parse(record.version_after)
            if sequence.fits(old, sequence.table.source) and sequence.fits(new, sequence.table.to):
                return _with_world(
                    sequence, Undo(record.id), f"kindred undo {record.id}", record.when
                )
    for entry in reversed(ledger.entries()):
        if entry.tag.title != install.card.title or not entry.tag.version or not entry.complete:
            continue
        if sequence.fits(scheme.parse(entry.tag.version), sequence.table.source):
            told = f"kindred restore {entry.id}: all of it as it was in build {entry.tag.version}"
            return WayBack((Restore(entry.id),), (told,))
    return WayBack((), ())


def _with_world(sequence: HelperSequence, undo: Operation, told: str, when: str) -> WayBack:
    """Return the way back with the worlds as they were last in the old build, if an entry has them."""
    back = WayBack((undo,), (told,))
    scheme = sequence.install.card.scheme
    for entry in reversed(sequence.ledger.entries()):
        if entry.when > when or entry.tag.title != sequence.install.card.title:
            continue
        version = entry.tag.version
        if (
            entry.complete
            and version
            and sequence.fits(scheme.parse(version), sequence.table.source)
        ):
            names = _categories_of_worlds(sequence.install)
            chosen = " ".join(f"--category {name}" for name in names)
            more = f"kindred restore {entry.id} {chosen}: the worlds as they were in {version}"
            return (
                WayBack((undo, Restore(entry.id, categories=names)), (told, more))
                if names
                else back
            )
    return back


def _categories_of_worlds(install: Install) -> tuple[str, ...]:
    """Return the categories of a card that its worlds belong to."""
    if not install.card.worlds:
        return ()
    tree = install.place.survey()
    found: dict[str, None] = {}
    for world in find_worlds(install.card, install.place, tree):
        for path in world.files(tree)[:1]:
            found.setdefault(install.card.category_of(f"{world.folder}/{path}"))
    return tuple(name for name in found if name)

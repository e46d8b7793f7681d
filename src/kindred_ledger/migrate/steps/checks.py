"""What is looked at before a migration begins to change anything, and what is checked after it did.

Each is a function that says what is wrong; nothing is written. What cannot be looked at is wrong, too.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Final, NamedTuple

from ...changes import unfinished_in
from ...convert import routes_in
from ...errors import KindredError, UsageError
from ...finding import Finding, Severity, of_severity
from ...mods import check_mods
from ...places import disk_kind, roots_of, running_in
from ...planning.list_in_force import list_in_force
from ...wording import count
from ...worlds import find_landmarks, id_lists, open_world
from ...worlds.opened import find_worlds
from .base import StepContext

__all__ = ["AFTERWARDS", "BEFOREHAND", "Named", "looked"]

Look = Callable[[StepContext], Iterator[Finding]]

_NETWORK = frozenset("nfs nfs4 cifs smb3 smbfs afpfs webdav fuse.sshfs fuse.davfs 9p".split())


def _closed(at: StepContext) -> Iterator[Finding]:
    """Nothing runs from the install, or has files of it open."""
    for program in running_in(roots_of(at.install.place).values()):
        what, remedy = f"in use by {program}", "Close it, then go on."
        yield Finding.conflict("in-use", what, where=at.begun.install, remedy=remedy)


def _local(at: StepContext) -> Iterator[Finding]:
    """All of it lies on disks of this machine: a share may go away half-way."""
    for name, root in roots_of(at.install.place).items():
        kind = disk_kind(root)
        if kind in _NETWORK:
            what = f"{name} lies on a network share ({kind}), which may go away half-way"
            remedy = "Copy it to a disk of this machine, and migrate it there."
            yield Finding.conflict("on-a-share", what, where=root, remedy=remedy)


def _source_build(at: StepContext) -> Iterator[Finding]:
    """It is certainly of the build that this migration starts from."""
    version = at.install.sure_version
    if version != at.install.card.build(at.begun.source):
        what = f"this is {version}, and the migration begins with {at.begun.source}"
        remedy = (
            "Something else changed the build meanwhile. Take the migration back, and begin anew."
        )
        yield Finding.conflict("other-build-now", what, where=at.begun.install, remedy=remedy)


def _whole(at: StepContext) -> Iterator[Finding]:
    """No change was cut off in it."""
    for found in unfinished_in(at.install.place):
        yield Finding.conflict(found.code, found.what, where=at.begun.install, remedy=found.remedy)


def _target_build(at: StepContext) -> Iterator[Finding]:
    """It says that it is the build it was to become."""
    version = at.install.sure_version
    if version != at.install.card.build(at.begun.to):
        what = f"this says that it is {version}, not {at.begun.to}"
        yield Finding.error("other-build-now", what, where=at.begun.install)


def _readable(at: StepContext) -> Iterator[Finding]:
    """The build reads every file whose format the card describes."""
    build = at.install.card.build(at.begun.to)
    try:
        routes = routes_in(at.install, at.install.card, build)
    except UsageError:  # there is none of a format that the card has
        return
    for route in routes:
        some = f"{', '.join(route.files[:3])}{' …' if len(route.files) > 3 else ''}"
        if route.source is None:
            yield Finding.error("format-unread", route.fault, where=some)
        elif route.source not in route.format.read_by(build):
            what = f"{build} does not read {route.format.name} of format {route.source}"
            yield Finding.error("format-unread", what, where=some)


def _kept(at: StepContext) -> Iterator[Finding]:
    """Every file of yours that was stored before is still there, or a step accounts for it."""
    if not at.start:
        what, remedy = "nothing was stored to compare with", "Put a step `store` in the runbook."
        yield Finding.error("nothing-stored", what, where=at.begun.install, remedy=remedy)
        return
    stored = at.ledger.tree(at.ledger.entry(at.start))
    now = at.install.place.survey()
    told = {path for record in at.records for path in at.ledger.record(record.id).paths}
    for path in stored.leaves:
        if path not in now and path not in told and at.install.card.protected_by(path):
            what = "it was there when the migration began, and no step removed it"
            yield Finding.error("gone-untold", what, where=path)


def _mods(at: StepContext) -> Iterator[Finding]:
    """The mods load in the build, as far as can be told without starting it."""
    if not at.install.card.mods:
        return
    try:
        check = check_mods(at.install, at.begun.to, ledger=at.ledger)
    except UsageError:  # there are none
        return
    for found in of_severity(check.findings, Severity.ERROR, Severity.CONFLICT):
        yield Finding.error(found.code, found.what, where=found.where, remedy=found.remedy)


def _worlds(at: StepContext) -> Iterator[Finding]:
    """The ids of every world mean what they mean in the build."""
    install = at.install
    if not install.card.worlds:
        return
    tree, build = install.place.survey(), id_lists(install)
    for world in find_worlds(install.card, install.place, tree):
        for name in world.kind.table.lists:
            kept = install.tag.id_lists
            own = list_in_force(world, name, tree, kept=kept, ledger=at.ledger)
            new = build[name].numbers
            wrong = [each for each, number in own.numbers.items() if new.get(each) != number]
            if wrong:
                what = f"{count(len(wrong), 'id')} mean something else in this build: {wrong[0]}"
                remedy = "Remap it before the update: put a step `remap` in the runbook."
                yield Finding.error("world-ids", what, where=world.folder, remedy=remedy)


def _landmarks(at: StepContext) -> Iterator[Finding]:
    """The landmarks of every world, which the card names, are where they were."""
    install = at.install
    if not install.card.worlds:
        return
    for world in find_worlds(install.card, install.place, install.place.survey()):
        opened = open_world(install, world.name, ledger=at.ledger)
        for seen in find_landmarks(opened):
            if not seen.is_right:
                what = f"{seen.landmark.name} is not there: {seen.landmark.content}"
                at_ = f"{seen.landmark.x}, {seen.landmark.z}"
                yield Finding.error("landmark-gone", what, where=world.folder, field=at_)


class Named(NamedTuple):
    """A look or a check, and what it says in words."""

    words: str
    act: Look


BEFOREHAND: Final[Mapping[str, Named]] = {
    "closed": Named("nothing runs from it", _closed),
    "local": Named("it lies on disks of this machine", _local),
    "whole": Named("no change was cut off in it", _whole),
    "build": Named("its build is certain", _source_build),
}
AFTERWARDS: Final[Mapping[str, Named]] = {
    "whole": Named("no change was cut off", _whole),
    "build": Named("it is the new build", _target_build),
    "readable": Named("the build reads every file", _readable),
    "kept": Named("nothing of yours is missing", _kept),
    "mods": Named("the mods fit", _mods),
    "worlds": Named("the ids of worlds mean the same", _worlds),
    "landmarks": Named("landmarks are in their places", _landmarks),
}


def looked(
    at: StepContext, looks: Mapping[str, Named], names: tuple[str, ...]
) -> tuple[Finding, ...]:
    """Return what is wrong by some looks, those that could not be made among it."""
    found: list[Finding] = []
    for name in names:
        try:
            found += looks[name].act(at)
        except KindredError as error:
            severity = Severity.CONFLICT if looks is BEFOREHAND else Severity.ERROR
            found.append(error.finding("check-failed", severity=severity))
    return tuple(found)

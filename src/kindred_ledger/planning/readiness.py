"""Readiness: what must be there before an install is brought to another build, looked at before
anything is written. What is missing is a decision to be made, with what to do about it; nothing is
installed or taken away for it."""

from __future__ import annotations

import glob
import os
from collections.abc import Iterable, Iterator

from ..cards import PROGRAM, Card, Surroundings, expand_folder
from ..cards.detect import detect
from ..cards.models import RequireTable
from ..changes import Action, check_space
from ..errors import PlaceError
from ..finding import Finding
from ..ledger import Ledger
from ..places import DIR, FILE, FolderPlace, Place, Tree, folders_of
from ..versions import Version, VersionRange

__all__ = ["readiness"]

_LONGEST_ON_WINDOWS = 259  # characters of a path, unless a setting of the machine lifts it
_SHOWN = 3


def readiness(
    card: Card,
    place: Place,
    actions: Iterable[Action],
    *,
    before: Version | None,
    after: Version | None,
    ledger: Ledger,
    around: Surroundings | None = None,
) -> list[Finding]:
    """Look whether a change can be made here, and whether the build it leads to can run here.

    What is in the way is a conflict, with its remedy; what was found to be right is noted.

    `before` is None where nothing is there yet; `around` is this machine, if not given.
    """
    around = around or Surroundings.here()
    actions = list(actions)
    found = [*_start(card, place, before, after), *_writable(place, actions)]
    found += _too_long(place, actions, around)
    found += _read_only(actions)
    try:
        check_space(place, actions, ledger)
    except PlaceError as error:
        found.append(
            Finding.conflict(
                "no-space", error.what, where=error.where, remedy="Free some space first."
            )
        )
    for need in card.file.requires:
        if after is not None and after in VersionRange.parse(need.builds, card.scheme):
            found.append(_programs(need, place, around))
    return found


def _start(
    card: Card, place: Place, before: Version | None, after: Version | None
) -> Iterator[Finding]:
    if before is not None and after is not None:
        start = card.updates.start_missed(before, after)
        if start is not None:
            why = start.otherwise or f"{after} is reached from {start.source} only"
            yield Finding.conflict(
                "build-between-needed",
                f"it is {before}: {why}",
                where=place.location,
                remedy=f"Bring it to {start.source} first.",
            )


def _programs(need: RequireTable, place: Place, around: Surroundings) -> Finding:
    """Return which of the programs that are here is the right one, or that none is."""
    wanted = VersionRange.parse(need.versions)
    folders = folders_of(place)
    program = folders[PROGRAM].root if PROGRAM in folders else place.location
    found: dict[str, Version | None] = {}
    for template in getattr(need, around.platform):
        pattern = expand_folder(template, program, around=around)
        for folder in sorted(glob.glob(os.path.normpath(pattern))) if pattern else ():
            if os.path.isdir(folder):
                found[folder] = _version_in(need, folder)
    right = {folder: version for folder, version in found.items() if version and version in wanted}
    others = [
        f"{version or 'unknown'} in {folder}"
        for folder, version in found.items()
        if folder not in right
    ]
    besides = f" (not {', '.join(others)}, which may stay)" if others else ""
    if right:
        folder = max(right, key=lambda f: right[f])
        what = f"needs {need.name} {need.versions}: {right[folder]} in {folder} is right{besides}"
        return Finding.note("program-found", what)
    have = f"there is only {', '.join(others)}" if others else "none was found"
    return Finding.conflict(
        "program-missing",
        f"{need.versions} is needed and {have}"
        if need.versions != "*"
        else f"it is needed and {have}",
        where=need.name,
        remedy=need.otherwise
        or f"Install {need.name} {need.versions} beside what is there, then run this again.",
    )


def _version_in(need: RequireTable, folder: str) -> Version | None:
    place = FolderPlace(folder)
    tree = Tree(place.look(table.file for table in need.detect if table.file))
    name = os.path.basename(folder)
    evidence = detect(place, tree, need.detect, Version.parse, folder=name, prefix="")
    return next((piece.version for piece in evidence if piece.version), None)


def _writable(place: Place, actions: list[Action]) -> Iterator[Finding]:
    """Yield the folders in which files are to change and cannot."""
    seen: set[str] = set()
    for name, folder in folders_of(place).items():
        top = f"{name}/" if name else ""
        for action in actions:
            if not action.path.startswith(top):
                continue
            path = folder.path(action.path[len(top) :].rpartition("/")[0])
            if path in seen:
                continue
            seen.add(path)
            if os.path.isdir(path) and not _may_write(path):
                yield Finding.conflict(
                    "not-writable",
                    "you have no permission to write in this folder",
                    where=path,
                    remedy="Change who may write there, or move the install to a folder of your own.",
                )


def _may_write(folder: str) -> bool:
    effective = os.access in os.supports_effective_ids
    return os.access(folder, os.W_OK | os.X_OK, effective_ids=effective)


def _read_only(actions: list[Action]) -> Iterator[Finding]:
    locked = [
        action.path
        for action in actions
        if action.before is not None
        and action.before.kind == FILE
        and action.before.mode
        and not action.before.mode & 0o222
    ]
    if locked:
        shown = ", ".join(locked[:_SHOWN]) + (" …" if len(locked) > _SHOWN else "")
        files = f"{len(locked)} files are" if len(locked) > 1 else "1 file is"
        what = f"{files} read-only and changes all the same: {shown}"
        what = what.replace("changes", "change") if len(locked) > 1 else what
        yield Finding.note("read-only", what)


def _too_long(place: Place, actions: list[Action], around: Surroundings) -> Iterator[Finding]:
    for name, folder in folders_of(place).items():
        top = f"{name}/" if name else ""
        longest = _LONGEST_ON_WINDOWS if around.platform == "windows" else _limit(folder.root)
        paths = (
            folder.path(action.path[len(top) :])
            for action in actions
            if action.after is not None and action.after.kind != DIR and action.path.startswith(top)
        )
        long = [path for path in paths if len(os.fsencode(path)) > longest]
        if long:
            yield Finding.conflict(
                "path-too-long",
                f"{len(long)} paths would be longer than the {longest} characters this system takes",
                where=max(long, key=len),
                remedy="Move the install to a folder nearer to the top, then run this again.",
            )


def _limit(root: str) -> int:
    """Return the longest path the system takes, in bytes."""
    try:
        return os.pathconf(root, "PC_PATH_MAX") - 1
    except (AttributeError, OSError, ValueError):
        return 1023

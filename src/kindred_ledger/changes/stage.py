"""Staging: writing all new contents beside the old, verified and synced, before anything moves."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable

import msgspec
from blake3 import blake3

from ..errors import PlaceChanged, PlaceError
from ..ledger import Ledger
from ..places import (
    FILE,
    LINK,
    WORK_FOLDER,
    Node,
    Place,
    folders_of,
    refusals,
    sync_dir,
    sync_files,
)
from ..progress import Progress
from .actions import Action
from .journal import Journal, Op

__all__ = ["check_space", "stage_contents", "unfinished_in"]

_MARGIN = 16 << 20  # bytes left over for folders, manifests and whoever else writes to the disk


def check_space(journal: Journal, actions: Iterable[Action], ledger: Ledger) -> None:
    """Raise `PlaceError` unless each disk has room for what will be written, before any of it is.

    The new contents are written beside the old ones; the old ones go to the ledger too.
    """
    needs: dict[int, tuple[str, int]] = {}

    def need(folder: str, size: int) -> None:
        device = os.stat(folder).st_dev
        needs[device] = folder, needs.get(device, ("", 0))[1] + size

    folders = journal.folders()
    for op in journal.ops:
        if op.kind == "put" and op.after is not None:
            need(folders[op.part].root, op.after.size)
    for action in actions:
        if action.before is not None and action.before.kind == FILE:
            need(ledger.root, action.before.size)
    for folder, size in needs.values():
        free = shutil.disk_usage(folder).free
        if size + _MARGIN > free:
            raise PlaceError(
                f"the disk has {free / 1e6:,.0f} MB free and {(size + _MARGIN) / 1e6:,.0f} MB are needed",
                where=folder,
                remedy="Nothing was written. Free some space, then run this again.",
            )


def stage_contents(
    journal: Journal, sources: dict[int, tuple[Place, str]], progress: Progress
) -> None:
    """Write the new content of every `put` into the stage, check its digest and sync it.

    `sources` gives, by the number of the operation, the place and path the content is read from.

    Raises:
        PlaceChanged: a source does not hold what it held when the change was computed.
        PlaceError: the system refuses.
    """
    for part in journal.folders():
        _open_stage(journal, part)
    puts = {op.number: op for op in journal.ops if op.kind == "put"}
    files: dict[int, Op] = {}
    for op in puts.values():
        assert op.after is not None
        if op.after.kind == LINK:
            os.symlink(op.after.target, _staged(journal, op))
        else:
            files[op.number] = op
    total = sum(op.after.size for op in files.values() if op.after)
    written: list[str] = []
    with progress.task("writing", total=total, unit="bytes") as task:
        for source, by_path in _by_source(files, sources).items():
            for path, blocks in source.read(list(by_path)):
                for op in _write_first(journal, by_path[path], path, blocks, source, written):
                    task.advance(op.after.size if op.after else 0)
    sync_files(written)
    for part in journal.folders():
        sync_dir(os.path.join(journal.stage(part), "new"))


def unfinished_in(place: Place) -> list[str]:
    """Return what is to be said about changes that were cut off in a place, a line each."""
    found = []
    for folder in folders_of(place).values():
        work = folder.path(WORK_FOLDER)
        for name in sorted(os.listdir(work)) if os.path.isdir(work) else ():
            owner = _owner_of(os.path.join(work, name))
            found.append(f"a change was cut off here; run: kindred recover --ledger {owner}")
    return found


def _owner_of(stage: str) -> str:
    """Return the ledger that an abandoned stage belongs to, as it is shown to people."""
    try:
        with open(os.path.join(stage, "owner.json"), "rb") as file:
            return str(msgspec.json.decode(file.read())["ledger"])
    except (OSError, msgspec.MsgspecError, KeyError, TypeError):
        return "unknown"


def _open_stage(journal: Journal, part: str) -> None:
    stage = journal.stage(part)
    for name in ("new", "old"):
        os.makedirs(os.path.join(stage, name))
    with open(os.path.join(stage, "owner.json"), "wb") as file:
        file.write(msgspec.json.encode({"ledger": journal.ledger, "id": journal.id}))


def _by_source(
    files: dict[int, Op], sources: dict[int, tuple[Place, str]]
) -> dict[Place, dict[str, list[Op]]]:
    """Group the files by place and path, so that each place is read in its own order, once."""
    grouped: dict[Place, dict[str, list[Op]]] = {}
    for number, op in files.items():
        place, path = sources[number]
        grouped.setdefault(place, {}).setdefault(path, []).append(op)
    return grouped


def _write_first(
    journal: Journal,
    ops: list[Op],
    path: str,
    blocks: Iterable[bytes],
    source: Place,
    written: list[str],
) -> list[Op]:
    """Write one content to the first operation's file and copy it to the others'."""
    first = _staged(journal, ops[0])
    hasher = blake3()
    with refusals(first), open(first, "wb") as file:
        for block in blocks:
            hasher.update(block)
            file.write(block)
    for op in ops:
        assert op.after is not None
        if hasher.digest() != op.after.digest:
            raise PlaceChanged(
                f"{path} is not what it was when the change was computed",
                where=source.location,
                remedy="Something writes there. Close the game and its launcher, then run this again.",
            )
        target = _staged(journal, op)
        with refusals(target):
            if target != first:
                shutil.copyfile(first, target)
            _finish(target, op.after, op.before)
        written.append(target)
    return ops


def _finish(path: str, node: Node, before: Node | None) -> None:
    mode = node.mode or (before.mode if before else 0)
    if mode:
        os.chmod(path, mode)
    if node.mtime_ns:
        os.utime(path, ns=(node.mtime_ns, node.mtime_ns))


def _staged(journal: Journal, op: Op) -> str:
    return os.path.join(journal.stage(op.part), "new", str(op.number))

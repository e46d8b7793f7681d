"""Swapping: the moves that carry a change out, and the moves that take it back.

Each step looks at what is there and does only what is missing, so a step that was cut off, done
or half done is finished by doing it again. An old file is moved aside, never overwritten: taking
back needs no room and restores the very same file. A file that is not what was kept is not moved:
something else wrote it, and the change ends there.
"""

from __future__ import annotations

import contextlib
from collections.abc import Sequence

from ..errors import PlaceChanged, PlaceError
from ..places import DIR, refusals, refused
from ..progress import Progress
from .ground import Ground
from .journal import Op

__all__ = ["swap_back", "swap_forward"]

# Files leave before folders, the deepest folder first; folders come before files, the outermost
# first; times and modes last, since putting a file changes its folder's.
_ORDER = {"remove": 0, "rmdir": 1, "mkdir": 2, "put": 3, "meta": 4}
_BATCH = 64  # operations between two looks at whether to stop


def swap_forward(ops: Sequence[Op], ground: Ground, progress: Progress | None = None) -> None:
    """Carry out every operation that has not happened yet.

    Raises:
        PlaceChanged: a path does not hold what was kept of it.
        PlaceError: the place refuses.
    """
    ground.check_present()
    watch = progress or Progress()
    ordered = _in_order(ops)
    if ground.aside_first:
        _put_aside(ordered, ground)
    with watch.task("changing", total=len(ordered)) as task:
        for start in range(0, len(ordered), _BATCH):
            some = ordered[start : start + _BATCH]
            for op in some:
                final = ground.final(op)
                try:
                    _forward(op, final, ground)
                except OSError as error:
                    raise refused(error, final) from error
            task.advance(len(some))
    ground.seal(ordered)


def swap_back(ops: Sequence[Op], ground: Ground) -> int:
    """Take back every operation that has happened; return how many files that moved.

    Raises:
        PlaceError: the place refuses; doing it again is safe.
    """
    ground.check_present()
    files = 0
    for op in reversed(_in_order(ops)):
        final = ground.final(op)
        with refusals(final):
            files += _back(op, final, ground)
    _folders_back(ops, ground)
    ground.seal(())
    ground.check_present()  # or it went meanwhile, and what was not there may be
    return files


def _in_order(ops: Sequence[Op]) -> list[Op]:
    def key(op: Op) -> tuple[int, int, str]:
        depth = op.path.count("/")
        return _ORDER[op.kind], -depth if op.kind == "rmdir" else depth, op.path

    return sorted(ops, key=key)


def _forward(op: Op, final: str, ground: Ground) -> None:
    if op.kind == "mkdir":
        if not ground.there(final):
            ground.make_folder(final)
    elif op.kind == "rmdir":
        if ground.there(final) and not ground.remove_folder(final):
            raise _foreign(final)
    elif op.kind == "meta":
        if op.after is not None:
            ground.set_metadata(final, op.after)
    else:
        _aside(op, final, ground)
        if op.kind == "put":
            _move_in(ground.new(op), final, ground)


def _put_aside(ordered: Sequence[Op], ground: Ground) -> None:
    """Move all old files aside, durably, before anything new is moved in.

    Else a power cut might keep what was moved in and lose where the old one was moved to: then what
    was not moved yet could not be taken back together with it.
    """
    for op in ordered:
        if op.kind in ("remove", "put") and op.before is not None:
            final = ground.final(op)
            with refusals(final):
                _aside(op, final, ground)
    ground.sync_aside()


def _aside(op: Op, final: str, ground: Ground) -> None:
    old = ground.old(op)
    if op.before is not None and not ground.there(old) and not _is_made(op, final, ground):
        _move_aside(op, final, old, ground)


def _is_made(op: Op, final: str, ground: Ground) -> bool:
    """Tell whether the new file is in place, though the old one was not moved aside.

    A power cut may keep the second renaming and lose the first. What was there is in the ledger.
    """
    if op.kind != "put" or op.after is None or ground.there(ground.new(op)):
        return False
    return ground.holds(final, op.after)


def _move_aside(op: Op, final: str, old: str, ground: Ground) -> None:
    """Move the old file away, if it still is the one that was kept."""
    assert op.before is not None
    if not ground.holds(final, op.before):
        raise _foreign(final)
    ground.move(final, old)


def _move_in(new: str, final: str, ground: Ground) -> None:
    """Move a staged file to where nothing is, unless that has happened."""
    if ground.there(final):
        if ground.there(new):
            raise _foreign(final)
        return
    try:
        ground.move(new, final)
    except FileNotFoundError:
        if ground.there(new):
            raise


def _back(op: Op, final: str, ground: Ground) -> bool:
    """Take one operation back; tell whether a file was moved for it."""
    if op.kind == "mkdir":
        with contextlib.suppress(OSError, PlaceError):  # somebody put something there
            ground.remove_folder(final)
    elif op.kind == "rmdir":
        if not ground.there(final):
            ground.make_folder(final)
    elif op.kind == "meta":
        if op.before is not None:
            ground.set_metadata(final, op.before)
    else:
        return _file_back(op, final, ground)
    return False


def _folders_back(ops: Sequence[Op], ground: Ground) -> None:
    """Give folders their times and modes again, once everything is back in them."""
    for op in ops:
        if op.before is not None and op.before.kind == DIR:
            final = ground.final(op)
            with refusals(final):
                if ground.holds(final, op.before):
                    ground.set_metadata(final, op.before)


def _file_back(op: Op, final: str, ground: Ground) -> bool:
    new, old = ground.new(op), ground.old(op)
    moved = False
    if ground.there(final) and (ground.there(old) or (op.before is None and not ground.there(new))):
        ours = op.kind == "put" and op.after is not None and ground.holds(final, op.after)
        ground.move(final, new if ours else ground.foreign(op))
        moved = True
    if ground.there(old):
        ground.move(old, final)
        moved = True
    return moved


def _foreign(path: str) -> PlaceChanged:
    return PlaceChanged(
        "this changed after it was kept, so it was not touched",
        where=path,
        remedy="Something is writing here. Close the game and its launcher, then run this again.",
    )

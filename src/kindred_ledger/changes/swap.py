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
from .backend import Backend
from .journal import Op

__all__ = ["swap_back", "swap_forward"]

# Files leave before folders, the deepest folder first; folders come before files, the outermost
# first; times and modes last, since putting a file changes its folder's.
_ORDER = {"remove": 0, "rmdir": 1, "mkdir": 2, "put": 3, "meta": 4}
_BATCH = 64  # operations between two looks at whether to stop


def swap_forward(ops: Sequence[Op], backend: Backend, progress: Progress | None = None) -> None:
    """Carry out every operation that has not happened yet.

    Raises:
        PlaceChanged: a path does not hold what was kept of it.
        PlaceError: the place refuses.
    """
    backend.check_present()
    watch = progress or Progress()
    ordered = _in_order(ops)
    if backend.aside_first:
        _put_aside(ordered, backend)
    with watch.task("changing", total=len(ordered)) as task:
        for start in range(0, len(ordered), _BATCH):
            some = ordered[start : start + _BATCH]
            for op in some:
                final = backend.final(op)
                try:
                    _forward(op, final, backend)
                except OSError as error:
                    raise refused(error, final) from error
            task.advance(len(some))
    backend.make_durable(ordered)


def swap_back(ops: Sequence[Op], backend: Backend) -> int:
    """Take back every operation that has happened; return how many files that moved.

    Raises:
        PlaceError: the place refuses; doing it again is safe.
    """
    backend.check_present()
    files = 0
    for op in reversed(_in_order(ops)):
        final = backend.final(op)
        with refusals(final):
            files += _back(op, final, backend)
    _folders_back(ops, backend)
    backend.make_durable(())
    backend.check_present()  # or it went meanwhile, and what was not there may be
    return files


def _in_order(ops: Sequence[Op]) -> list[Op]:
    def key(op: Op) -> tuple[int, int, str]:
        depth = op.path.count("/")
        return _ORDER[op.kind], -depth if op.kind == "rmdir" else depth, op.path

    return sorted(ops, key=key)


def _forward(op: Op, final: str, backend: Backend) -> None:
    if op.kind == "mkdir":
        if not backend.there(final):
            backend.make_folder(final)
    elif op.kind == "rmdir":
        if backend.there(final) and not backend.remove_folder(final):
            raise _foreign(final)
    elif op.kind == "meta":
        if op.after is not None:
            backend.set_metadata(final, op.after)
    else:
        _aside(op, final, backend)
        if op.kind == "put":
            _move_in(backend.new(op), final, backend)


def _put_aside(ordered: Sequence[Op], backend: Backend) -> None:
    """Move all old files aside, durably, before anything new is moved in.

    Else a power cut might keep what was moved in and lose where the old one was moved to: then what
    was not moved yet could not be taken back together with it.
    """
    for op in ordered:
        if op.kind in ("remove", "put") and op.before is not None:
            final = backend.final(op)
            with refusals(final):
                _aside(op, final, backend)
    backend.sync_aside()


def _aside(op: Op, final: str, backend: Backend) -> None:
    old = backend.old(op)
    if op.before is not None and not backend.there(old) and not _is_made(op, final, backend):
        _move_aside(op, final, old, backend)


def _is_made(op: Op, final: str, backend: Backend) -> bool:
    """Tell whether the new file is in place, though the old one was not moved aside.

    A power cut may keep the second renaming and lose the first. What was there is in the ledger.
    """
    if op.kind != "put" or op.after is None or backend.there(backend.new(op)):
        return False
    return backend.holds(final, op.after)


def _move_aside(op: Op, final: str, old: str, backend: Backend) -> None:
    """Move the old file away, if it still is the one that was kept."""
    assert op.before is not None
    if not backend.holds(final, op.before):
        raise _foreign(final)
    backend.move(final, old)


def _move_in(new: str, final: str, backend: Backend) -> None:
    """Move a staged file to where nothing is, unless that has happened."""
    if backend.there(final):
        if backend.there(new):
            raise _foreign(final)
        return
    try:
        backend.move(new, final)
    except FileNotFoundError:
        if backend.there(new):
            raise


def _back(op: Op, final: str, backend: Backend) -> bool:
    """Take one operation back; tell whether a file was moved for it."""
    if op.kind == "mkdir":
        with contextlib.suppress(OSError, PlaceError):  # somebody put something there
            backend.remove_folder(final)
    elif op.kind == "rmdir":
        if not backend.there(final):
            backend.make_folder(final)
    elif op.kind == "meta":
        if op.before is not None:
            backend.set_metadata(final, op.before)
    else:
        return _file_back(op, final, backend)
    return False


def _folders_back(ops: Sequence[Op], backend: Backend) -> None:
    """Give folders their times and modes again, once everything is back in them."""
    for op in ops:
        if op.before is not None and op.before.kind == DIR:
            final = backend.final(op)
            with refusals(final):
                if backend.holds(final, op.before):
                    backend.set_metadata(final, op.before)


def _file_back(op: Op, final: str, backend: Backend) -> bool:
    new, old = backend.new(op), backend.old(op)
    moved = False
    if backend.there(final) and (
        backend.there(old) or (op.before is None and not backend.there(new))
    ):
        ours = op.kind == "put" and op.after is not None and backend.holds(final, op.after)
        backend.move(final, new if ours else backend.foreign(op))
        moved = True
    if backend.there(old):
        backend.move(old, final)
        moved = True
    return moved


def _foreign(path: str) -> PlaceChanged:
    return PlaceChanged(
        "this changed after it was kept, so it was not touched",
        where=path,
        remedy="Something is writing here. Close the game and its launcher, then run this again.",
    )

"""Locks between processes, free at once when their holder dies."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator

from blake3 import blake3

from ..errors import PlaceBusy

__all__ = ["hold", "hold_place", "is_held"]


@contextlib.contextmanager
def hold(path: str, *, busy: str) -> Iterator[None]:
    """Hold the lock file at `path` for the block.

    Raises:
        PlaceBusy: another process holds it; `busy` says what of.
    """
    from filelock import FileLock, Timeout

    lock = FileLock(path, timeout=0)
    try:
        lock.acquire()
    except Timeout as error:
        raise PlaceBusy(busy, remedy="Wait until it is done, then run this again.") from error
    try:
        yield
    finally:
        lock.release()


def is_held(path: str) -> bool:
    """Tell whether a live process holds the lock file at `path`."""
    try:
        with hold(path, busy=""):
            return False
    except PlaceBusy:
        return True


@contextlib.contextmanager
def hold_place(root: str) -> Iterator[None]:
    """Be the only one of this user's processes that changes the folder `root`, for the block.

    The lock lies among the user's own files, not in the place, which is left as it was.
    """
    from platformdirs import user_state_dir

    folder = os.path.join(user_state_dir("kindred-ledger", appauthor=False), "locks")
    os.makedirs(folder, exist_ok=True)
    name = blake3(os.path.realpath(root).encode()).hexdigest()[:32]
    with hold(os.path.join(folder, name), busy=f"another command is changing {root}"):
        yield

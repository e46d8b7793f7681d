"""Locks between processes, free at once when their holder dies."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import time
from collections.abc import Callable, Iterator

from blake3 import blake3

from ..errors import PlaceBusy, PlaceError
from ..os_names import as_text

__all__ = ["hold", "hold_place", "is_held"]


_FLAGS = (
    os.O_RDWR
    | os.O_CREAT
    | getattr(os, "O_NOFOLLOW", 0)
    | getattr(os, "O_CLOEXEC", 0)
    | getattr(os, "O_NONBLOCK", 0)  # what has its name may be a pipe, which must not be waited for
)


@contextlib.contextmanager
def hold(path: str, *, busy: str, patience_seconds: float = 0.0) -> Iterator[None]:
    """Hold the lock file at `path` for the block.

    `patience_seconds` is for locks that others only try for a moment, to see whether they are held.

    Raises:
        PlaceBusy: another process holds it; `busy` says what of.
    """
    release = _acquired(path)
    until = time.monotonic() + patience_seconds
    while release is None and time.monotonic() < until:
        time.sleep(0.005)
        release = _acquired(path)
    if release is None:
        raise PlaceBusy(busy, remedy="Wait until it is done, then run this again.")
    try:
        yield
    finally:
        release()


def _acquired(path: str) -> Callable[[], None] | None:
    """Take a lock file; return what releases it, or None if another process holds it."""
    try:
        import fcntl
    except ImportError:  # Windows
        from filelock import FileLock, Timeout

        lock = FileLock(path, timeout=0)
        try:
            lock.acquire()
        except Timeout:
            return None
        return lock.release
    # The same call that filelock makes here, without the 60 ms it takes to import.
    try:
        fd = os.open(path, _FLAGS, 0o600)  # a link would have it made wherever that leads
    except OSError as error:
        if error.errno != errno.ELOOP:
            raise
        raise _no_file("a link", path) from error
    if not stat.S_ISREG(os.fstat(fd).st_mode):
        os.close(fd)
        raise _no_file("a pipe or device", path)
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        os.close(fd)
        return None
    except BaseException:
        os.close(fd)
        raise
    return lambda: os.close(fd)


def _no_file(what: str, path: str) -> PlaceError:
    return PlaceError(
        f"{what} has the place of a lock", where=path, remedy="Remove it, then run this again."
    )


def is_held(path: str) -> bool:
    """Tell whether a live process holds the lock file at `path`."""
    try:
        with hold(path, busy=""):
            return False
    except PlaceBusy:
        return True


@contextlib.contextmanager
def hold_place(root: str) -> Iterator[None]:
    """Be the only one of this user's processes that changes the folder or remote `root`, for the block.

    The lock lies among the user's own files, not in the place, which is left as it was.
    """
    from platformdirs import user_state_dir

    folder = os.path.join(user_state_dir("kindred-ledger", appauthor=False), "locks")
    os.makedirs(folder, mode=0o700, exist_ok=True)
    whole = root if "://" in root else os.path.realpath(root)
    name = blake3(as_text(whole).encode()).hexdigest()[:32]
    with hold(os.path.join(folder, name), busy=f"another command is changing {root}"):
        yield

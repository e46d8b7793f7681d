"""Writing files so that a power cut leaves the old or the new one, and saying why a system refused."""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Iterator

from ..errors import PlaceError

__all__ = ["refusals", "remove_tree", "sync_dir", "write_atomic"]

_REMEDIES = {
    errno.EACCES: "You may not write or read here. Check the permissions of the folder.",
    errno.EPERM: "You may not write or read here. Check the permissions of the folder.",
    errno.EROFS: "This disk can only be read. Choose another place.",
    errno.ENOSPC: "The disk is full. Free some space and run the command again.",
    errno.EDQUOT: "Your share of the disk is used up. Free some space and run the command again.",
    errno.EFBIG: "This disk takes no files that large. Choose another place.",
    errno.ENOENT: "Check the path; something may have been moved or deleted.",
    errno.ENAMETOOLONG: "The path is too long for this system. Choose a shorter folder.",
    errno.EBUSY: "Something holds this file open. Close the game and its launcher.",
    errno.ETXTBSY: "The program is running. Close it first.",
}


@contextlib.contextmanager
def refusals(where: str) -> Iterator[None]:
    """Turn an OSError of the block into a `PlaceError` that names `where` and a remedy.

    A broken pipe is none of a place's and passes through.
    """
    try:
        yield
    except BrokenPipeError:
        raise
    except OSError as error:
        raise PlaceError(
            f"the system refused: {os.strerror(error.errno) if error.errno else error}",
            where=where if not error.filename else str(error.filename),
            remedy=_REMEDIES.get(error.errno or 0, "Nothing was left half done."),
        ) from error


def sync_dir(path: str) -> None:
    """Make the names in a folder durable (nothing to do where folders cannot be opened)."""
    if os.name == "nt":
        return
    fd = os.open(path, os.O_RDONLY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def write_atomic(path: str, data: bytes) -> None:
    """Write beside the target, sync, then rename: at every instant the old or the new file."""
    beside = f"{path}.part"
    with open(beside, "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    os.replace(beside, path)
    sync_dir(os.path.dirname(path) or ".")


def remove_tree(path: str) -> None:
    """Remove a folder of ours and all in it; one that is not there is fine."""
    import shutil

    with contextlib.suppress(FileNotFoundError):
        shutil.rmtree(path)

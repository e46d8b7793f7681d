"""Writing files so that a power cut leaves the old or the new one, and saying why a system refused."""

from __future__ import annotations

import contextlib
import errno
import os
import sys
from collections.abc import Iterator, Sequence
from typing import BinaryIO

from ..errors import PlaceError
from ..os_names import as_name
from .open_folder import OpenFolder

__all__ = [
    "discard",
    "make_folders",
    "new_file",
    "private_file",
    "refusals",
    "refused",
    "remove_tree",
    "sync_dir",
    "sync_files",
    "write_atomic",
    "write_once",
    "written_once",
]

_MANY = 32  # files; fewer are synced one by one, which disturbs nobody else's writing
_SYNC_THREADS = 8
_NO_LINK = getattr(os, "O_NOFOLLOW", 0)

_GONE = "The disk does not answer. Is it still in its slot? Put it back, then run: kindred recover"
_REMEDIES = {
    errno.EACCES: "You have no access to this folder. Check its permissions.",
    errno.EPERM: "You have no access to this folder. Check its permissions.",
    errno.EROFS: "This disk can only be read. Choose another place.",
    errno.ENOSPC: "The disk is full. Free some space and run the command again.",
    errno.EDQUOT: "Your share of the disk is used up. Free some space and run the command again.",
    errno.EFBIG: "This disk takes no files that large. Choose another place.",
    errno.ENOENT: "Check the path; something may have been moved or deleted.",
    errno.ENAMETOOLONG: "The path is too long for this system. Choose a shorter folder.",
    errno.EIO: _GONE,
    errno.ENODEV: _GONE,
    errno.ENXIO: _GONE,
    errno.EBUSY: "Something holds this file open. Close the game and its launcher.",
    errno.ETXTBSY: "The program is running. Close it first.",
}


@contextlib.contextmanager
def refusals(where: str) -> Iterator[None]:
    """Turn an OSError of the block into a `PlaceError` that names `where` and a remedy.

    A broken pipe is none of a place's and passes through.

    Raises:
        PlaceError: the system refused something in the block.
    """
    try:
        yield
    except BrokenPipeError:
        raise
    except OSError as error:
        raise refused(error, where) from error


def refused(error: OSError, where: str) -> PlaceError:
    """Return what to raise from an error of the system's."""
    return PlaceError(
        os.strerror(error.errno) if error.errno else str(error),
        where=where if not error.filename else str(error.filename),
        remedy=_REMEDIES.get(error.errno or 0, "Nothing was left half done."),
    )


def sync_dir(path: str) -> None:
    """Make the names in a folder durable (nothing to do where folders cannot be opened)."""
    if os.name == "nt":
        return
    fd = os.open(path, os.O_RDONLY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def make_folders(path: str, *, private: bool = False) -> None:
    """Make a folder and those on the way to it, durably; one that is there is fine.

    `private` lets nobody but the user look into those that are made.
    """
    missing = []
    path = os.path.abspath(path)
    while not os.path.isdir(path):
        missing.append(path)
        path = os.path.dirname(path)
    for folder in reversed(missing):
        with contextlib.suppress(FileExistsError):
            os.mkdir(folder, 0o700 if private else 0o777)
        sync_dir(os.path.dirname(folder))


def sync_files(opened: OpenFolder, folder: str, names: Sequence[str]) -> None:
    """Make files in a folder durable; with the whole file system where they are many.

    A call for each file waits for the disk each time; one for the file system waits once.
    """
    if not names:
        return
    with opened.listed(folder) as fd:
        if len(names) >= _MANY and isinstance(fd, int) and _sync_file_system(fd):
            return
        from concurrent.futures import ThreadPoolExecutor

        def sync(name: str) -> None:
            where = opened.full(f"{folder}/{name}" if folder else name)
            name = as_name(name)
            with refusals(where):
                if isinstance(fd, int):
                    _sync_file(os.open(name, os.O_RDONLY | _NO_LINK, dir_fd=fd))
                else:
                    _sync_file(os.open(where, os.O_RDWR))

        with ThreadPoolExecutor(_SYNC_THREADS) as pool:
            for _ in pool.map(sync, names):
                pass


def _sync_file(fd: int) -> None:
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def _sync_file_system(fd: int) -> bool:
    """Sync the file system that holds an open folder (syncfs, Linux); tell whether that was possible."""
    if not sys.platform.startswith("linux"):
        return False
    try:
        import ctypes
    except ImportError:  # some builds of Python are without it
        return False

    call = getattr(ctypes.CDLL(None, use_errno=True), "syncfs", None)
    if call is None:
        return False
    if call(fd):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
    return True


def write_atomic(path: str, data: bytes) -> None:
    """Write beside the target, sync, then rename: at every instant the old or the new file.

    Nobody but the user may read it.
    """
    with _beside(path, private=True) as (beside, file):
        file.write(data)
        _sync(file)
        os.replace(beside, path)
        sync_dir(os.path.dirname(path) or ".")


def write_once(path: str, data: bytes, *, private: bool = True) -> None:
    """Write a file that is there whole or not at all, and that nobody may have written before.

    Raises:
        FileExistsError: there is one; it is as it was.
    """
    with written_once(path, private=private) as file:
        file.write(data)


@contextlib.contextmanager
def written_once(path: str, *, private: bool = False) -> Iterator[BinaryIO]:
    """Give a file to write that takes its name, which nothing may have, when the block ends well.

    Raises:
        FileExistsError: something has it; it is as it was.
    """
    with _beside(path, private=private) as (beside, file):
        yield file
        _sync(file)
        linked = _linked(beside, path)
        if not linked:
            if os.path.lexists(path):
                raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), path)
            os.rename(beside, path)
        try:
            if linked:
                os.remove(beside)
            sync_dir(os.path.dirname(path) or ".")
        except OSError:
            os.remove(path)  # there whole and durably, or not at all
            raise


@contextlib.contextmanager
def _beside(path: str, *, private: bool) -> Iterator[tuple[str, BinaryIO]]:
    """Make a file beside another, of a name that nobody can know before; it goes if the block fails."""
    beside = f"{path}.{os.urandom(8).hex()}.part"
    with new_file(beside, private=private) as file:
        try:
            yield beside, file
        except BaseException:
            file.close()
            with contextlib.suppress(OSError):
                os.remove(beside)
            raise


def new_file(path: str, *, private: bool = True) -> BinaryIO:
    """Open a file to write and to read that nothing may be in the place of, not even a link.

    `private` lets nobody but the user read it.

    Raises:
        FileExistsError: something is there.
    """
    mode = 0o600 if private else 0o666
    return open(path, "x+b", opener=lambda name, flags: os.open(name, flags, mode))


def _linked(beside: str, path: str) -> bool:
    """Give a file its name if nothing has that, in one step; tell whether this disk can do so."""
    try:
        os.link(beside, path)
    except FileExistsError:
        raise
    except OSError:  # a file system, or a system, without links
        return False
    return True


def private_file(path: str) -> BinaryIO:
    """Open a file to write that nobody but the user may read, over what is there."""
    return open(path, "wb", opener=lambda name, flags: os.open(name, flags, 0o600))


def _sync(file: BinaryIO) -> None:
    file.flush()
    os.fsync(file.fileno())


def discard(path: str) -> None:
    """Remove a folder of ours that is of no use any more; what refuses that is left to be cleared later.

    What was done with it is not undone by that.
    """
    with contextlib.suppress(OSError):
        remove_tree(path)


def remove_tree(path: str) -> None:
    """Remove a folder of ours and all in it; one that is not there is fine."""
    folder, name = os.path.split(os.path.abspath(path))
    with contextlib.suppress(FileNotFoundError), OpenFolder(folder) as opened:
        opened.remove_tree(name)

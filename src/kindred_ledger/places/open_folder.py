"""OpenFolder: a folder that is opened once, and what lies below it, reached without following a link.

The system resolves a path anew at each call: who owns a folder on the way may swap it for a link between
the look and the change, and lead the change elsewhere (CWE-367). A descriptor goes on naming the folder
that was opened, and each step down from there is taken by `openat` with `O_NOFOLLOW`. Where a system
knows no descriptors of folders, each folder on the way is looked at instead, just before.
"""

from __future__ import annotations

import contextlib
import errno
import os
import stat as stat_bits
from collections.abc import Callable, Iterator
from functools import wraps
from typing import Concatenate, NamedTuple, ParamSpec, TypeVar

from ..os_names import as_name, as_text

__all__ = ["OpenFolder", "PathAt", "is_folder"]

_WALK = (
    getattr(os, "O_PATH", os.O_RDONLY)  # a folder that may be passed need not be one to be listed
    | getattr(os, "O_DIRECTORY", 0)
    | getattr(os, "O_NOFOLLOW", 0)
    | getattr(os, "O_CLOEXEC", 0)
)
_LIST = _WALK & ~getattr(os, "O_PATH", 0)
_FILE = (
    getattr(os, "O_BINARY", 0)
    | getattr(os, "O_NOFOLLOW", 0)
    | getattr(os, "O_CLOEXEC", 0)
    | getattr(os, "O_NONBLOCK", 0)  # what became a pipe must not be waited for
)
_HAS_DESCRIPTORS = (
    hasattr(os, "O_DIRECTORY") and {os.open, os.rename, os.stat} <= os.supports_dir_fd
)
_HELD_OPEN = 48  # folders on the way to the last one; a process may have few files open

_Args = ParamSpec("_Args")
_Result = TypeVar("_Result")


class PathAt(NamedTuple):
    """How the system is asked for something: its name, and the descriptor of the folder it is in.

    Without a descriptor the name is the whole path.
    """

    name: str
    dir_fd: int | None


def _naming(
    method: Callable[Concatenate[OpenFolder, str, _Args], _Result],
) -> Callable[Concatenate[OpenFolder, str, _Args], _Result]:
    """Have the errors of a method name the whole path, not the name that the system was given."""

    @wraps(method)
    def named(self: OpenFolder, path: str, /, *args: _Args.args, **more: _Args.kwargs) -> _Result:
        try:
            return method(self, path, *args, **more)
        except OSError as error:
            error.filename = self.full(path)
            raise

    return named


class OpenFolder:
    """See the module; for one thread at a time, `again` gives another one its own.

    Paths are relative, with `/` between their parts; "" is the folder itself. Names that are no valid
    text are given as `as_text` makes them, and taken so.

    Raises:
        FileNotFoundError, NotADirectoryError: on the way to what is asked for nothing is there, or a link.
        OSError: as the system says.
    """

    def __init__(self, path: str, *, real: str = "") -> None:
        """`real` is the path without links, if it is known what it was; it is opened then, and no link."""
        self.path = path
        self.real = real or path
        self._start = os.path.join(path, "")
        self._root = _opened(real or path, follow=not real) if _HAS_DESCRIPTORS else None
        self._way: list[
            tuple[str, int | None]
        ] = []  # the folders open below the root, outermost first

    def again(self) -> OpenFolder:
        """Return the same folder, opened for somebody else."""
        return self.inside("")

    def inside(self, path: str) -> OpenFolder:
        """Return a folder of this one, opened for somebody else."""
        other = OpenFolder.__new__(OpenFolder)
        other.path = self.full(path)
        other.real = os.path.join(self.real, *filter(None, as_name(path).split("/")))
        other._start = os.path.join(other.path, "")
        other._way = []
        fd = self._folder(path) if path else self._root
        other._root = os.open(".", _WALK, dir_fd=fd) if fd is not None else None
        return other

    def __enter__(self) -> OpenFolder:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the folder."""
        self._forget("")
        if self._root is not None:
            os.close(self._root)
            self._root = None

    def full(self, path: str) -> str:
        """Return the whole path, to be shown."""
        if os.sep != "/":
            path = path.replace("/", os.sep)
        return f"{self._start}{as_name(path)}" if path else self.path

    def at(self, path: str) -> PathAt:
        """Return how the system is asked for what is at a path; it holds until the next call."""
        folder, _, name = path.rpartition("/")
        fd = self._folder(folder)
        return PathAt(as_name(name) or ".", fd) if fd is not None else PathAt(self.full(path), None)

    @_naming
    def lstat(self, path: str) -> os.stat_result | None:
        """Return the status of what is at a path; None if nothing is, or not in a folder of this one."""
        try:
            name, fd = self.at(path)
            return os.lstat(name, dir_fd=fd)
        except (FileNotFoundError, NotADirectoryError):
            return None

    def is_folder(self, path: str) -> bool:
        """Tell whether a folder is at a path: itself, and no link to one."""
        stat = self.lstat(path)
        return stat is not None and is_folder(stat, self.full(path))

    @_naming
    def open(self, path: str, flags: int, mode: int = 0o777) -> int:
        """Open a file; a link is refused (ELOOP)."""
        name, fd = self.at(path)
        return os.open(name, flags | _FILE, mode, dir_fd=fd)

    @contextlib.contextmanager
    def listed(self, path: str) -> Iterator[int | str]:
        """Open a folder for the block, to be listed or synced, or for names in it.

        Gives a descriptor, or the whole path where folders have none.
        """
        fd = self._folder(path)
        if fd is None:
            yield self.full(path)
            return
        try:
            opened = os.open(".", _LIST, dir_fd=fd)
        except OSError as error:
            error.filename = self.full(path)
            raise
        try:
            yield opened
        finally:
            os.close(opened)

    @contextlib.contextmanager
    def scan(self, path: str) -> Iterator[Iterator[os.DirEntry[str]]]:
        """List a folder as `os.scandir` does, for the block; with names as the system has them."""
        with self.listed(path) as fd, os.scandir(fd) as entries:
            yield entries

    @_naming
    def listdir(self, path: str) -> list[str]:
        """Return the names in a folder, sorted."""
        with self.listed(path) as fd:
            return sorted(map(as_text, os.listdir(fd)))

    @_naming
    def sync(self, path: str) -> None:
        """Make the names in a folder durable, and its mode; where folders can be opened."""
        with self.listed(path) as fd:
            if isinstance(fd, int):
                os.fsync(fd)

    @_naming
    def mkdir(self, path: str, mode: int = 0o777) -> None:
        """Make a folder."""
        name, fd = self.at(path)
        os.mkdir(name, mode, dir_fd=fd)

    def make_folders(self, path: str, mode: int = 0o777) -> None:
        """Make a folder and those on the way to it; those that are there are fine."""
        done = ""
        for part in filter(None, path.split("/")):
            done = f"{done}/{part}" if done else part
            if not self.is_folder(done):
                self.mkdir(done, mode)

    @_naming
    def rmdir(self, path: str) -> None:
        """Remove an empty folder."""
        self._forget(path)
        name, fd = self.at(path)
        os.rmdir(name, dir_fd=fd)

    @_naming
    def remove(self, path: str) -> None:
        """Remove a file or a link."""
        name, fd = self.at(path)
        os.unlink(name, dir_fd=fd)

    @_naming
    def rename(
        self, source: str, target: str, *, into: OpenFolder | None = None, over: bool = False
    ) -> None:
        """Move a file or a link; to where something is only if `over` (some systems do it anyway).

        `into` is the open folder that the target's path begins at, None for this one. Where much is moved
        between two of its folders, give what `again` returned: then the way to each stays open.
        """
        if into is None:
            with self.again() as there:
                self.rename(source, target, into=there, over=over)
            return
        self._forget(source)
        into._forget(target)
        name, fd = self.at(source)
        to, to_fd = into.at(target)
        (os.replace if over else os.rename)(name, to, src_dir_fd=fd, dst_dir_fd=to_fd)

    @_naming
    def readlink(self, path: str) -> str:
        """Return what a link leads to."""
        name, fd = self.at(path)
        return as_text(os.readlink(name, dir_fd=fd))

    @_naming
    def set_time(self, path: str, mtime_ns: int) -> None:
        """Set the time of what is at a path, itself and nothing it leads to."""
        name, fd = self.at(path)
        follow = os.utime not in os.supports_follow_symlinks
        os.utime(name, ns=(mtime_ns, mtime_ns), dir_fd=fd, follow_symlinks=follow)

    @_naming
    def set_mode(self, path: str, mode: int) -> None:
        """Set the mode of a file or folder, and of nothing it leads to."""
        name, fd = self.at(path)
        if fd is None:
            os.chmod(name, mode)
            return
        try:
            os.chmod(name, mode, dir_fd=fd, follow_symlinks=False)
        except (NotImplementedError, ValueError):  # older C libraries
            opened = os.open(name, os.O_RDONLY | _FILE, dir_fd=fd)
            try:
                os.fchmod(opened, mode)
            finally:
                os.close(opened)

    def remove_tree(self, path: str) -> None:
        """Remove a folder and all below it, also from folders that may not be written in."""
        folders = [path]
        for folder in folders:  # grows while it runs
            for name in self._listed_somehow(folder):
                inner = f"{folder}/{name}"
                if self.is_folder(inner):
                    folders.append(inner)
                else:
                    self._remove_somehow(inner, path)
        for folder in reversed(folders):
            self._remove_somehow(folder, path, folder=True)

    def _listed_somehow(self, folder: str) -> list[str]:
        try:
            return self.listdir(folder)
        except PermissionError:
            self.set_mode(folder, 0o700)
            return self.listdir(folder)

    def _remove_somehow(self, path: str, top: str, *, folder: bool = False) -> None:
        """Remove; where that may not be, open the folder below `top` it is in, or on Windows itself."""
        remove = self.rmdir if folder else self.remove
        try:
            remove(path)
        except FileNotFoundError:
            return
        except PermissionError:
            if os.name != "nt" and path == top:
                raise
            self.set_mode(path if os.name == "nt" else path.rpartition("/")[0], 0o700)
            remove(path)

    def walk(self, path: str) -> Iterator[tuple[str, os.stat_result]]:
        """Yield all that lies below a folder, folders before what is in them, each with its status."""
        folders = [path]
        while folders:
            folder = folders.pop()
            for name in self.listdir(folder):
                inner = f"{folder}/{name}" if folder else name
                stat = self.lstat(inner)
                if stat is not None:
                    yield inner, stat
                    if is_folder(stat, self.full(inner)):
                        folders.append(inner)

    def _folder(self, path: str) -> int | None:
        """Return the descriptor of a folder, opening those on the way that are not open yet."""
        while self._way and (self._root is None or not _is_on_the_way(self._way[-1][0], path)):
            self._close_last()
        at, fd = self._way[-1] if self._way else ("", self._root)
        if at == path:
            return fd
        for name in path[len(at) + 1 if at else 0 :].split("/"):
            step = self._step(at, name, fd)
            if len(self._way) >= _HELD_OPEN:
                self._close_last()
            at = f"{at}/{name}" if at else name
            fd = step
            self._way.append((at, fd))
        return fd

    def _step(self, at: str, name: str, fd: int | None) -> int | None:
        if fd is None:
            full = self.full(f"{at}/{name}" if at else name)
            if not is_folder(os.lstat(full), full):
                raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), full)
            return None
        try:
            return os.open(as_name(name), _WALK, dir_fd=fd)
        except OSError as error:
            full = self.full(f"{at}/{name}" if at else name)
            if error.errno == errno.ELOOP:  # so some systems call a link
                raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), full) from error
            error.filename = full
            raise

    def _forget(self, path: str) -> None:
        """Close a folder, which may become another one, and those in it; all, if it is the root."""
        while self._way and (not path or _is_on_the_way(path, self._way[-1][0])):
            self._close_last()

    def _close_last(self) -> None:
        fd = self._way.pop()[1]
        if fd is not None:
            os.close(fd)


def is_folder(stat: os.stat_result, full: str) -> bool:
    """Tell whether a status is that of a folder; a junction of Windows is a link."""
    if not stat_bits.S_ISDIR(stat.st_mode):
        return False
    return not getattr(os.path, "isjunction", lambda _: False)(full)


def _is_on_the_way(folder: str, path: str) -> bool:
    return path == folder or path.startswith(f"{folder}/")


def _opened(path: str, *, follow: bool) -> int:
    """Open a folder by its whole path; without following links, if they were resolved before."""
    if follow:
        return os.open(path, _WALK & ~getattr(os, "O_NOFOLLOW", 0))
    if not hasattr(os, "O_PATH"):  # macOS has a flag for it
        return os.open(path, _WALK | getattr(os, "O_NOFOLLOW_ANY", 0))
    fd = os.open("/", _WALK)
    for name in filter(None, path.split("/")):
        try:
            step = os.open(name, _WALK, dir_fd=fd)
        finally:
            os.close(fd)
        fd = step
    return fd

"""The handheld's card, simulated: a folder that behaves, in this process, as a small FAT disk does.

Names are found whatever their case, some cannot be; permissions and links there are none; time goes in
steps of two seconds; writing may be slow; and the card may be pulled out in the middle of it, which loses
what was not synced of the file being written.
"""

from __future__ import annotations

import builtins
import contextlib
import errno
import functools
import io
import os
import stat
import time
from collections.abc import Callable, Iterator
from typing import Any

__all__ = ["CardReader", "simulated_card"]

_FORBIDDEN = set('"*:<>?|\\') | {chr(n) for n in range(32)}
_LARGEST = (4 << 30) - 1
_STEP_NS = 2_000_000_000
_MOUNTS = "/proc/self/mountinfo"
_WRITES = os.O_WRONLY | os.O_RDWR
_ONE_PATH = ("stat", "lstat", "scandir", "listdir", "rmdir", "remove", "unlink", "mkdir")
_CHANGES = {"rmdir", "remove", "unlink", "mkdir"}


class CardReader:
    """The card in its slot: how many changes were made to it, and whether it is still there."""

    def __init__(
        self, root: str, *, pulled_at: int, unmounts: bool, bytes_per_second: float
    ) -> None:
        self.root = os.path.realpath(root)
        self.changes = 0
        self.is_out = False
        self._pulled_at = pulled_at
        self._unmounts = unmounts
        self._bytes_per_second = bytes_per_second
        self._open: dict[int, str] = {}  # the paths of descriptors of the card
        self._folders: dict[int, str] = {}  # and of all that a way to the card may begin with
        self._unsynced: dict[str, int] = {}  # of files being written: the bytes that are safe

    def holds(self, path: Any) -> bool:
        """Tell whether a path, or a descriptor, is on the card."""
        if isinstance(path, int):
            return path in self._open
        full = os.path.abspath(os.fsdecode(path))
        return full == self.root or full.startswith(self.root + os.sep)

    def check(self, *, change: bool = False) -> None:
        """Count a change; raise as the system does when the card is out."""
        if change and not self.is_out:
            self.changes += 1
            if self.changes == self._pulled_at:
                self.is_out = True
                self._lose()
        if self.is_out:
            number = errno.ENOENT if self._unmounts else errno.EIO
            raise OSError(number, os.strerror(number))

    def _lose(self) -> None:
        for path, safe in list(self._unsynced.items()):
            with contextlib.suppress(OSError):
                _TRUE["truncate"](path, safe)

    def whole(self, path: Any, dir_fd: int | None) -> Any:
        """Return the whole path of one that begins at an open folder."""
        if dir_fd is None or dir_fd not in self._folders or isinstance(path, int):
            return path
        return os.path.normpath(os.path.join(self._folders[dir_fd], os.fsdecode(path)))

    def real(self, path: Any) -> Any:
        """Return the path as the names on the card are spelled."""
        if isinstance(path, int):
            return path
        full = os.path.abspath(os.fsdecode(path))
        at = self.root
        for part in filter(None, full[len(self.root) :].split(os.sep)):
            _check_name(part)
            at = os.path.join(at, self._spelled(at, part))
        return at

    def _spelled(self, folder: str, name: str) -> str:
        try:
            _TRUE["lstat"](os.path.join(folder, name))
        except OSError:
            with contextlib.suppress(OSError):
                for known in _TRUE["listdir"](folder):
                    if known.casefold() == name.casefold():
                        return str(known)
        return name

    def passed(self, fd: int, path: Any, flags: int) -> None:
        if flags & getattr(os, "O_DIRECTORY", 0):
            self._folders[fd] = os.path.abspath(os.fsdecode(path))

    def opened(self, fd: int, path: str, flags: int) -> None:
        self._open[fd] = path
        self.passed(fd, path, flags)
        if flags & _WRITES:
            size = 0 if flags & os.O_TRUNC else _TRUE["fstat"](fd).st_size
            self._unsynced[path] = size

    def closed(self, fd: int) -> None:
        self._open.pop(fd, None)
        self._folders.pop(fd, None)

    def wrote(self, fd: int, count: int) -> None:
        if self._bytes_per_second:
            time.sleep(count / self._bytes_per_second)
        if _TRUE["lseek"](fd, 0, os.SEEK_CUR) > _LARGEST:
            raise OSError(errno.EFBIG, os.strerror(errno.EFBIG))

    def synced(self, fd: int) -> None:
        if stat.S_ISREG(_TRUE["fstat"](fd).st_mode):
            self._unsynced.pop(self._open[fd], None)


def _check_name(name: str) -> None:
    if _FORBIDDEN & set(name) or name[-1] in ". ":
        raise OSError(errno.EINVAL, os.strerror(errno.EINVAL), name)


@contextlib.contextmanager
def simulated_card(
    root: str, *, pulled_at: int = 0, unmounts: bool = False, bytes_per_second: float = 0.0
) -> Iterator[CardReader]:
    """Have a folder behave as a card for the block; at change `pulled_at`, if not 0, it goes.

    What is asked of it then gives an error of the disk; or, if the system `unmounts` it, nothing is there.
    """
    card = CardReader(
        root, pulled_at=pulled_at, unmounts=unmounts, bytes_per_second=bytes_per_second
    )
    replaced = {name: getattr(os, name) for name in _TRUE if hasattr(os, name)}
    true_open = builtins.open
    for name, function in _functions(card).items():
        setattr(os, name, function)
    builtins.open = _opening(card, true_open)
    try:
        yield card
    finally:
        builtins.open = true_open
        for name, function in replaced.items():
            setattr(os, name, function)


def _functions(card: CardReader) -> dict[str, Callable[..., Any]]:
    made: dict[str, Callable[..., Any]] = {}

    def on_one(name: str) -> Callable[..., Any]:
        true = _TRUE[name]

        @functools.wraps(true)
        def call(path: Any = ".", *args: Any, dir_fd: Any = None, **more: Any) -> Any:
            whole = card.whole(path, dir_fd)
            if not card.holds(whole):
                return true(path, *args, **(more if dir_fd is None else {**more, "dir_fd": dir_fd}))
            card.check(change=name in _CHANGES)
            return true(card.real(whole), *args, **more)

        return call

    for name in _ONE_PATH:
        made[name] = on_one(name)

    def open_(path: Any, flags: int, mode: int = 0o777, *, dir_fd: int | None = None) -> int:
        whole = card.whole(path, dir_fd)
        if not card.holds(whole):
            fd = int(_TRUE["open"](path, flags, mode, dir_fd=dir_fd))
            card.passed(fd, whole, flags)
            return fd
        card.check(change=bool(flags & _WRITES))
        real = card.real(whole)
        fd = int(_TRUE["open"](real, flags, mode))
        card.opened(fd, str(real), flags)
        return fd

    def close(fd: int) -> None:
        card.closed(fd)
        _TRUE["close"](fd)

    def write(fd: int, data: Any) -> int:
        if not card.holds(fd):
            return int(_TRUE["write"](fd, data))
        card.check(change=True)
        done = int(_TRUE["write"](fd, data))
        card.wrote(fd, done)
        return done

    def read(fd: int, count: int) -> bytes:
        if card.holds(fd):
            card.check()
        return bytes(_TRUE["read"](fd, count))

    def fsync(fd: int) -> None:
        if card.holds(fd):
            card.check(change=True)
            card.synced(fd)
        _TRUE["fsync"](fd)

    def two(name: str) -> Callable[..., Any]:
        def call(source: Any, target: Any, **fds: Any) -> Any:
            near, far = fds.get("src_dir_fd"), fds.get("dst_dir_fd")
            whole = card.whole(source, near), card.whole(target, far)
            if not any(map(card.holds, whole)):
                return _TRUE[name](source, target, **fds)
            source, target = whole
            ends = [card.real(end) if card.holds(end) else end for end in (source, target)]
            if ends != [source, target] or card.holds(source) or card.holds(target):
                card.check(change=True)
                if card.holds(source) != card.holds(target):
                    raise OSError(errno.EXDEV, os.strerror(errno.EXDEV))
                if os.path.basename(os.fsdecode(ends[1])) != os.path.basename(os.fsdecode(target)):
                    ends[1] = os.path.join(os.path.dirname(ends[1]), os.path.basename(target))
            return _TRUE[name](*ends)

        return call

    def refuse(name: str) -> Callable[..., Any]:
        def call(first: Any, second: Any, *rest: Any, **more: Any) -> Any:
            target = card.whole(second if name == "symlink" else first, more.get("dir_fd"))
            if card.holds(target):
                card.check()
                raise PermissionError(errno.EPERM, os.strerror(errno.EPERM), str(target))
            return _TRUE[name](first, second, *rest, **more)

        return call

    def utime(path: Any, times: Any = None, *, ns: Any = None, **more: Any) -> None:
        whole = card.whole(path, more.get("dir_fd"))
        if card.holds(whole):
            path = whole
            more.pop("dir_fd", None)
            card.check(change=True)
            path = card.real(path)
            ns = ns or (tuple(int(t * 1e9) for t in times) if times else None)
            if ns:
                ns, times = tuple(n - n % _STEP_NS for n in ns), None
        if ns:
            _TRUE["utime"](path, ns=ns, **more)
        else:
            _TRUE["utime"](path, times, **more)

    def copy_file_range(source: int, target: int, count: int, *args: Any, **more: Any) -> int:
        if card.holds(source) or card.holds(target):
            raise OSError(errno.EXDEV, os.strerror(errno.EXDEV))
        return int(_TRUE["copy_file_range"](source, target, count, *args, **more))

    made |= {"open": open_, "close": close, "write": write, "read": read, "fsync": fsync}
    made |= {"rename": two("rename"), "replace": two("replace"), "utime": utime}
    made |= {"symlink": refuse("symlink"), "chmod": refuse("chmod")}
    if "copy_file_range" in _TRUE:
        made["copy_file_range"] = copy_file_range
    return made


def _opening(card: CardReader, true: Callable[..., Any]) -> Callable[..., Any]:
    def open_(file: Any, mode: str = "r", *args: Any, **more: Any) -> Any:
        if file == _MOUNTS:
            text = true(file, mode, *args, **more).read()
            where = card.root.replace(" ", "\\040")
            return io.StringIO(f"{text}9999 1 8:1 / {where} rw - vfat /dev/card rw\n")
        if not isinstance(file, int) and card.holds(file):
            card.check(change=any(letter in mode for letter in "wax+"))
            file = card.real(file)
        return true(file, mode, *args, **more)

    return open_


_TRUE: dict[str, Callable[..., Any]] = {
    name: getattr(os, name)
    for name in (
        *_ONE_PATH, "open", "close", "write", "read", "fsync", "fstat", "lseek", "truncate",
        "rename", "replace", "utime", "symlink", "chmod", "copy_file_range",
    )
    if hasattr(os, name)
}  # fmt: skip

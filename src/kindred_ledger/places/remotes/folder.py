"""A folder as a remote: a share on the network, or a disk that is lent."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Iterable, Iterator
from urllib.parse import SplitResult
from urllib.request import url2pathname

from ...errors import Vanished
from ..durable import make_folders, refusals, write_once
from ..open_folder import OpenFolder
from ..place import BLOCK
from .credentials import Login
from .remote import Capabilities, Found, Inside

__all__ = ["FolderRemote"]


class FolderRemote:
    """`file:///path`."""

    capabilities = Capabilities(resume=True, times=True)

    def __init__(self, parts: SplitResult, login: Login) -> None:
        self._root = url2pathname(parts.path)
        self.location = parts.geturl().rstrip("/")

    def _path(self, path: str) -> str:
        return os.path.join(self._root, *path.split("/"))

    def _opened(self) -> OpenFolder:
        return OpenFolder(self._root)

    def list(self, folder: str) -> list[Found]:
        return self.inside(folder).files

    def inside(self, folder: str) -> Inside:
        found = Inside([], [])
        with refusals(self.location):
            try:
                with self._opened() as opened, opened.scan(folder) as entries:
                    for entry in entries:
                        # One that goes meanwhile is left out; it must not take the others with it.
                        with contextlib.suppress(FileNotFoundError):
                            status = entry.stat(follow_symlinks=False)
                            if stat.S_ISREG(status.st_mode):
                                size = status.st_size
                                found.files.append(Found(entry.name, size, status.st_mtime))
                            elif stat.S_ISDIR(status.st_mode):
                                found.folders.append(entry.name)
            except FileNotFoundError:
                return Inside([], [])
        return Inside(sorted(found.files), sorted(found.folders))

    def stat(self, path: str) -> Found | None:
        with refusals(self.location):
            try:
                with self._opened() as opened:
                    found = opened.lstat(path)
            except FileNotFoundError:
                return None
        if found is None or not stat.S_ISREG(found.st_mode):
            return None
        return Found(path.rpartition("/")[2], found.st_size, found.st_mtime)

    def read(self, path: str, *, start: int = 0, length: int | None = None) -> Iterator[bytes]:
        with refusals(self.location):
            try:
                with self._opened() as opened:
                    fd = opened.open(path, os.O_RDONLY)
            except FileNotFoundError:
                raise Vanished("it is not there", where=f"{self.location}/{path}") from None
            except OSError as error:
                if error.errno != errno.ELOOP:
                    raise
                where = f"{self.location}/{path}"
                raise Vanished("it is a link, which is not followed", where=where) from error
            with open(fd, "rb", buffering=0) as file:
                file.seek(start)
                left = length
                while left is None or left > 0:
                    block = file.read(BLOCK if left is None else min(BLOCK, left))
                    if not block:
                        return
                    left = None if left is None else left - len(block)
                    yield block

    def write(self, path: str, blocks: Iterable[bytes], *, start: int = 0) -> None:
        flags = os.O_RDWR if start else os.O_RDWR | os.O_CREAT | os.O_TRUNC
        with refusals(self.location):
            with self._opened() as opened:
                fd = opened.open(path, flags, 0o600)  # for nobody else, if it is new
            self._write(fd, blocks, start)

    def _write(self, fd: int, blocks: Iterable[bytes], start: int) -> None:
        with open(fd, "r+b") as file:
            file.seek(start)
            for block in blocks:
                file.write(block)
            file.truncate()
            file.flush()
            os.fsync(file.fileno())

    def create(self, path: str, data: bytes) -> None:
        try:
            with refusals(self.location):
                with self._opened() as opened:
                    opened.at(path)  # no link is on the way
                write_once(self._path(path), data)
        except Exception as error:
            if isinstance(error.__cause__, FileExistsError):
                raise error.__cause__ from None
            raise

    def rename(self, source: str, target: str) -> None:
        with refusals(self.location), self._opened() as opened:
            opened.rename(source, target, over=True)
            opened.sync(target.rpartition("/")[0])

    def delete(self, path: str) -> None:
        with refusals(self.location), self._opened() as opened:
            try:
                opened.remove(path)
            except FileNotFoundError:
                return
            opened.sync(path.rpartition("/")[0])

    def make_folder(self, path: str) -> None:
        with refusals(self.location):
            make_folders(self._path(path), private=True)

    def remove_folder(self, path: str) -> None:
        missing = contextlib.suppress(FileNotFoundError)
        with refusals(self.location), missing, self._opened() as opened:
            opened.rmdir(path)

    def set_time(self, path: str, seconds: float) -> None:
        with contextlib.suppress(OSError), self._opened() as opened:
            opened.set_time(path, int(seconds * 1e9))

    def close(self) -> None:
        pass

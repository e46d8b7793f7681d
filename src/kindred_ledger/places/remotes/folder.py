"""A folder as a remote: a share on the network, or a disk that is lent."""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Iterable, Iterator
from urllib.parse import SplitResult
from urllib.request import url2pathname

from ...errors import Vanished
from ..durable import make_folders, refusals, sync_dir, write_once
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

    def list(self, folder: str) -> list[Found]:
        return self.inside(folder).files

    def inside(self, folder: str) -> Inside:
        found = Inside([], [])
        with refusals(self.location):
            try:
                entries = os.scandir(self._path(folder))
            except FileNotFoundError:
                return found
            with entries:
                for entry in entries:
                    # One that goes meanwhile is left out; it must not take the others with it.
                    with contextlib.suppress(FileNotFoundError):
                        if entry.is_file():
                            status = entry.stat()
                            found.files.append(Found(entry.name, status.st_size, status.st_mtime))
                        elif entry.is_dir(follow_symlinks=False):
                            found.folders.append(entry.name)
        return Inside(sorted(found.files), sorted(found.folders))

    def stat(self, path: str) -> Found | None:
        try:
            found = os.stat(self._path(path))
        except (FileNotFoundError, NotADirectoryError):
            return None
        if not stat.S_ISREG(found.st_mode):
            return None
        return Found(path.rpartition("/")[2], found.st_size, found.st_mtime)

    def read(self, path: str, *, start: int = 0, length: int | None = None) -> Iterator[bytes]:
        with refusals(self.location):
            try:
                file = open(self._path(path), "rb", buffering=0)  # noqa: SIM115
            except FileNotFoundError:
                raise Vanished("it is not there", where=f"{self.location}/{path}") from None
            with file:
                file.seek(start)
                left = length
                while left is None or left > 0:
                    block = file.read(BLOCK if left is None else min(BLOCK, left))
                    if not block:
                        return
                    left = None if left is None else left - len(block)
                    yield block

    def write(self, path: str, blocks: Iterable[bytes], *, start: int = 0) -> None:
        mode = "r+b" if start else "wb"
        with refusals(self.location), open(self._path(path), mode, opener=_private) as file:
            file.seek(start)
            for block in blocks:
                file.write(block)
            file.truncate()
            file.flush()
            os.fsync(file.fileno())

    def create(self, path: str, data: bytes) -> None:
        try:
            with refusals(self.location):
                write_once(self._path(path), data)
        except Exception as error:
            if isinstance(error.__cause__, FileExistsError):
                raise error.__cause__ from None
            raise

    def rename(self, source: str, target: str) -> None:
        with refusals(self.location):
            os.replace(self._path(source), self._path(target))
            sync_dir(os.path.dirname(self._path(target)))

    def delete(self, path: str) -> None:
        with refusals(self.location):
            try:
                os.remove(self._path(path))
            except FileNotFoundError:
                return
            sync_dir(os.path.dirname(self._path(path)))

    def make_folder(self, path: str) -> None:
        with refusals(self.location):
            make_folders(self._path(path), private=True)

    def remove_folder(self, path: str) -> None:
        with refusals(self.location), contextlib.suppress(FileNotFoundError):
            os.rmdir(self._path(path))

    def set_time(self, path: str, seconds: float) -> None:
        with contextlib.suppress(OSError):
            os.utime(self._path(path), (seconds, seconds))

    def close(self) -> None:
        pass


def _private(path: str, flags: int) -> int:
    """Open a file that nobody but the user may read if it is new."""
    return os.open(path, flags, 0o600)

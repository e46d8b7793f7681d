"""ServerRemote: what FTP and SFTP have in common: a root, folders, and making files that must be new.

Such servers make no file exclusively, but folders: so a file that nobody else may make is claimed by a
folder beside it; see `claims`.
"""

from __future__ import annotations

import contextlib
from abc import ABC, abstractmethod
from collections.abc import Iterable
from urllib.parse import SplitResult, unquote

from ...errors import PlaceError, Vanished
from .claims import LEASE_SECONDS, Watch, is_over, owned, owner_of
from .credentials import Login
from .remote import Capabilities, Found, Inside

__all__ = ["ServerRemote"]

Names = list[str]  # in the class `list` is what lists files
_TRIES = 50  # listings of a folder that changes meanwhile
_REFUSALS = 8  # of a claim that nobody has


class ServerRemote(ABC):
    """A folder of a server; `create` stands on what a kind brings. See `Remote`."""

    capabilities = Capabilities(resume=True, times=True)

    def __init__(self, parts: SplitResult, login: Login) -> None:
        self._parts = parts
        self._login = login
        self._root = "/" + unquote(parts.path).strip("/")
        host = parts.netloc.rpartition("@")[2]
        self.location = f"{parts.scheme}://{host}{parts.path.rstrip('/')}"

    def _path(self, path: str) -> str:
        return f"{self._root.rstrip('/')}/{path}"

    def list(self, folder: str) -> list[Found]:
        """Return the files of a folder; none if there is no such folder.

        Servers say the same of a folder that is not there and of a file in it that went while they
        listed it; an empty answer to that would have others' packs taken for unused.
        """
        return self.inside(folder).files

    def inside(self, folder: str) -> Inside:
        """Return the files and folders of a folder; see `list`.

        Raises:
            PlaceError: the folder changes faster than it can be listed.
        """
        for _ in range(_TRIES):
            try:
                found = self._inside(folder)
                return Inside(sorted(found.files), sorted(found.folders))
            except Vanished:
                if not self._is_folder(folder):
                    return Inside([], [])
        raise PlaceError(
            "the folder changes faster than the server can list it",
            where=f"{self.location}/{folder}",
            remedy="Run this again when fewer machines write there.",
        )

    @abstractmethod
    def _inside(self, folder: str) -> Inside:
        """Return the files and folders of a folder, or raise `Vanished`."""

    @abstractmethod
    def _is_folder(self, folder: str) -> bool:
        """Tell whether a folder is there."""

    def _above(self, path: str) -> Names:
        """Return a folder on the server and all it is in, the outermost first."""
        whole = self._path(path).strip("/").split("/")
        return ["/" + "/".join(whole[:depth]) for depth in range(1, len(whole) + 1)]

    def create(self, path: str, data: bytes) -> None:
        """Write a file that is there whole or not at all, under a claim.

        A claim whose maker died is taken over; one of another machine is waited for first.

        Raises:
            FileExistsError: the file is there.
            PlaceError: the server makes no folder, or is too slow for a claim to hold.
        """
        with owned() as owner:
            aside = f"{path}.{owner}.part"
            try:
                self.write(aside, (data,))
                self._name_once(aside, path, owner)
            except BaseException:
                with contextlib.suppress(PlaceError, Vanished):
                    self.delete(aside)
                raise

    def _name_once(self, aside: str, path: str, owner: str) -> None:
        """Give what was written its name, if nothing has it."""
        self._take(path, owner)
        held = Watch(owner)
        try:
            if self.stat(path) is not None:
                raise FileExistsError(path)
            if held.seconds() > LEASE_SECONDS:  # others may take it over any moment
                raise PlaceError(
                    "the server took too long to answer",
                    where=f"{self.location}/{path}",
                    remedy="Nothing was made. Run this again.",
                )
            self.rename(aside, path)
        finally:
            self._release(f"{path}.claim")

    def _take(self, path: str, owner: str) -> None:
        """Make the claim of a path, or wait until it can be."""
        folder, _, name = path.rpartition("/")
        watch, refused = Watch(owner), 0
        while not self._claim(f"{path}.claim"):
            owners = {owner_of(one.name, name): one.name for one in self.inside(folder).files}
            owners.pop("", None)
            if self.stat(path) is not None:
                raise FileExistsError(path)
            if not self._is_folder(f"{path}.claim"):
                refused += 1  # it was released just now; or none can be made
                if refused == _REFUSALS:
                    raise PlaceError(
                        "the server makes no folder here",
                        where=f"{self.location}/{folder}",
                        remedy="Check the permissions of that folder on the server.",
                    )
            elif watch.is_free(owners):
                for left in owners.keys() - {owner}:
                    if is_over(left):
                        self.delete(f"{folder}/{owners[left]}" if folder else owners[left])
                self._release(f"{path}.claim")
            else:
                watch.wait()

    @abstractmethod
    def _claim(self, path: str) -> bool:
        """Make a folder; tell whether nobody had."""

    @abstractmethod
    def _release(self, path: str) -> None:
        """Remove a folder that was a claim, if that can be."""

    @abstractmethod
    def stat(self, path: str) -> Found | None:
        """See `Remote`."""

    @abstractmethod
    def write(self, path: str, blocks: Iterable[bytes], *, start: int = 0) -> None:
        """See `Remote`."""

    @abstractmethod
    def rename(self, source: str, target: str) -> None:
        """See `Remote`."""

    @abstractmethod
    def delete(self, path: str) -> None:
        """See `Remote`."""

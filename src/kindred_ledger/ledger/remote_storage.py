"""RemoteStorage: a ledger on a remote, with a folder on this machine for what is looked at often.

The local cache holds copies of all manifests, packs that were read lately, the index and unfinished work;
nothing in it is needed by anybody else, and the remote alone is the ledger.
"""

from __future__ import annotations

import contextlib
import os
import re
import struct
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime
from functools import cached_property

from blake3 import blake3

from ..errors import LedgerDamaged, LedgerError, NoLedger, PlaceBusy, PlaceError, Vanished
from ..places import discard, hold, make_folders, refusals, write_atomic
from ..places.remotes import Remote, digest_of, fetch, send
from . import keys, settings
from .encryption import PLAIN, Encryption
from .storage import Storage

__all__ = ["RemoteStorage", "open_remote_storage"]

_ENCRYPTED = "sealed"  # a file of the local cache: the ledger has been seen encrypted
_MANIFESTS = ("entries", "history", "marks")
_KINDS = (*_MANIFESTS, "packs", "keys", "writers", "retiring", "newest")
_RESERVED = ".reserved.part"
_NAME = re.compile(r"[0-9a-z][0-9a-z.-]*", re.I)
_TRAILER = struct.Struct("<32sQ8s")  # of a pack; see `packs`
_GUESS = 16 << 10  # bytes: most indexes are smaller, and so come with the first request
_CACHE = 1 << 30  # bytes of packs that stay in the local cache
_DEAD_SECONDS = 2 * 86_400  # a session that was announced so long ago has died


class RemoteStorage(Storage):
    """The files of the ledger on a remote; `root` is the folder of the local cache."""

    def __init__(self, root: str, remote: Remote, *, encryption: Encryption = PLAIN) -> None:
        super().__init__(root, encryption=encryption)
        self._remote = remote
        self._turn = threading.RLock()  # a remote is used from one thread at a time
        self._announced = ""

    @cached_property
    def writer(self) -> str:
        return blake3(self.root.encode() + _host()).hexdigest()[:8]

    @property
    def location(self) -> str:
        return self._remote.location

    def refresh(self) -> None:
        for folder in _MANIFESTS:
            there = set(self._listed(folder))
            here = set(os.listdir(os.path.join(self.root, folder)))
            for name in sorted(there - here):
                with contextlib.suppress(Vanished):
                    self._fetch(folder, name)
            for name in here - there:  # retired elsewhere
                if not name.endswith(".part"):
                    os.remove(os.path.join(self.root, folder, name))

    def names(self, folder: str) -> list[str]:
        if folder in _MANIFESTS:
            return super().names(folder)  # as of `refresh`
        return self._listed(folder)

    def _listed(self, folder: str) -> list[str]:
        """Return the names in a folder there that a ledger may give; what a server says is not trusted."""
        with self._turn:
            found = self._remote.list(folder)
        return [
            one.name for one in found if _NAME.fullmatch(one.name) and not _unfinished(one.name)
        ]

    def path(self, folder: str, name: str) -> str:
        path = super().path(folder, name)
        if not os.path.exists(path):
            with self._turn:
                if not os.path.exists(path):
                    self._trim()
                    try:
                        self._fetch(folder, name)
                    except Vanished as error:
                        raise LedgerDamaged(error.what, where=error.where) from error
        return path

    def _fetch(self, folder: str, name: str) -> None:
        beside = os.path.join(self.root, "work", f"fetching-{os.urandom(6).hex()}")
        with refusals(self.root):
            try:
                with self._turn:
                    fetch(self._remote, f"{folder}/{name}", beside)
                os.replace(beside, os.path.join(self.root, folder, name))
            finally:
                with contextlib.suppress(FileNotFoundError):
                    os.remove(beside)

    def _trim(self) -> None:
        """Let go of the packs that were read longest ago, beyond what stays in the local cache."""
        packs = sorted(
            os.scandir(os.path.join(self.root, "packs")), key=lambda one: one.stat().st_atime
        )
        total = sum(one.stat().st_size for one in packs)
        for one in packs:
            if total <= _CACHE:
                return
            total -= one.stat().st_size
            with contextlib.suppress(OSError):
                os.remove(one.path)

    def settings(self) -> bytes:
        with self._turn:
            found = _settings_of(self._remote)
        if found is None:
            raise FileNotFoundError(settings.SETTINGS)
        return found

    def mend_settings(self, *, id: str = "") -> None:
        """Write the settings again, with the id that is given, else the one that is known here."""
        text = settings.new(id=id or settings.read(self.root).id)
        with self._turn:
            self._remote.delete(settings.SETTINGS)
            self._remote.create(settings.SETTINGS, text)
        write_atomic(os.path.join(self.root, settings.SETTINGS), text)
        self.__dict__.pop("ledger_id", None)  # which may have been looked up with the old ones

    def damaged_keys(self) -> dict[str, str]:
        with self._turn:
            return keys.damaged_keys(self._remote)

    def mend_keys(self) -> None:
        with self._turn:
            keys.mend_keys(self._remote)

    def change_passphrase(self, passphrase: str, *, cost: int) -> None:
        """Have a passphrase, and no other, open the ledger; see `keys`."""
        with self._turn:
            if not self.encryption.key:
                super().change_passphrase(passphrase, cost=cost)
            keys.change_passphrase(self._remote, self.encryption.key, passphrase, cost=cost)

    def tail(self, name: str) -> str:
        cached = super().path("packs", name)
        if os.path.exists(cached):
            return cached
        where = f"{self.location}/packs/{name}"
        with self._turn:
            found = self._remote.stat(f"packs/{name}")
            if found is None:
                raise FileNotFoundError(name)
            start = max(0, found.size - _GUESS)
            end = b"".join(self._remote.read(f"packs/{name}", start=start))
            if len(end) < _TRAILER.size:
                raise LedgerDamaged("the pack is cut short", where=where)
            _, length, _ = _TRAILER.unpack(end[-_TRAILER.size :])
            missing = length + _TRAILER.size - len(end)
            if 0 < missing <= start:
                more = self._remote.read(f"packs/{name}", start=start - missing, length=missing)
                end = b"".join(more) + end
        folder = os.path.join(self.root, "tails")
        make_folders(folder, private=True)
        path = os.path.join(folder, name)
        write_atomic(path, end)
        return path

    @contextlib.contextmanager
    def as_kept(self, folder: str, name: str) -> Iterator[str]:
        room = os.path.join(self.root, "work", f"kept-{os.urandom(6).hex()}")
        os.mkdir(room, 0o700)
        try:
            path = os.path.join(room, name)
            try:
                with self._turn:
                    fetch(self._remote, f"{folder}/{name}", path)
            except Vanished as error:
                raise FileNotFoundError(name) from error
            yield path
        finally:
            discard(room)

    def stat(self, folder: str, name: str) -> tuple[int, float]:
        with self._turn:
            found = self._remote.stat(f"{folder}/{name}")
        if found is None:
            raise FileNotFoundError(name)
        return found.size, found.changed or 0.0

    def exists(self, folder: str, name: str) -> bool:
        with self._turn:
            return self._remote.stat(f"{folder}/{name}") is not None

    def place(self, folder: str, name: str, part: str) -> None:
        with self._turn, self._sending() as sender:
            self._remote.make_folder(folder)
            send(self._remote, part, f"{folder}/{name}", sender=sender)
        if folder in (*_MANIFESTS, "newest"):
            super().place(folder, name, part)
        else:
            os.remove(part)

    @contextlib.contextmanager
    def _sending(self) -> Iterator[str]:
        """Give a name to send under that nobody else has; this machine's own, if it is free."""
        lock = os.path.join(self.root, "work", "sending.lock")
        try:
            with hold(lock, busy="sending"):
                yield self.writer
        except PlaceBusy:
            yield os.urandom(4).hex()

    def claim(self, folder: str, name: str, data: bytes) -> None:
        with self._turn:
            self._remote.make_folder(folder)
            self._remote.create(f"{folder}/{name}", data)
            if digest_of(self._remote, f"{folder}/{name}") != blake3(data).digest():
                self._remote.delete(f"{folder}/{name}")
                raise PlaceError(
                    "the upload could not be verified",
                    where=f"{self.location}/{folder}/{name}",
                    remedy="Run this again; if it goes on, look at the room there is on that server.",
                )
        if folder in _MANIFESTS:
            write_atomic(os.path.join(self.root, folder, name), data)

    def reserve(self, folder: str, name: str) -> bool:
        path = f"{folder}/{name}"
        with self._turn:
            self._remote.make_folder(folder)
            try:
                self._remote.create(path + _RESERVED, b"\n")
            except FileExistsError:
                return False
        if not self.exists(
            folder, name
        ):  # asked now: who had reserved it wrote it before releasing
            return True
        self.release(folder, name)
        return False

    def release(self, folder: str, name: str) -> None:
        with contextlib.suppress(PlaceError), self._turn:  # one that stays is cleared in two days
            self._remote.delete(f"{folder}/{name}{_RESERVED}")

    def remove(self, folder: str, names: Iterable[str]) -> None:
        for name in names:
            with self._turn:
                self._remote.delete(f"{folder}/{name}")
            with contextlib.suppress(FileNotFoundError):
                os.remove(os.path.join(self.root, folder, name))

    def announce(self, session: str) -> None:
        stamp = datetime.fromtimestamp(time.time(), UTC).strftime("%Y%m%dT%H%M%S")
        self._announced = f"{stamp}-{session}"
        with self._turn:
            self._remote.make_folder("writers")
            self._remote.create(f"writers/{self._announced}", b"\n")

    def withdraw(self, session: str) -> None:
        with contextlib.suppress(PlaceError), self._turn:
            self._remote.delete(f"writers/{self._announced}")
        self._announced = ""

    def announced(self) -> list[str]:
        now = datetime.fromtimestamp(time.time(), UTC)
        alive = []
        with self._turn:
            for found in self._remote.list("writers"):
                stamp, _, session = found.name.partition("-")
                if found.name == self._announced or _unfinished(found.name):
                    continue
                if (now - _moment(stamp)).total_seconds() > _DEAD_SECONDS:
                    self._remote.delete(f"writers/{found.name}")
                else:
                    alive.append(session)
        return alive

    @contextlib.contextmanager
    def deleting(self, *, patience_seconds: float = 0.0) -> Iterator[None]:
        stamp = datetime.fromtimestamp(time.time(), UTC).strftime("%Y%m%dT%H%M%S")
        with super().deleting(patience_seconds=patience_seconds):
            with self._turn:
                try:
                    self._remote.create("retiring.lock", stamp.encode())
                except FileExistsError:
                    began = _moment(b"".join(self._remote.read("retiring.lock")).decode()[:15])
                    age = datetime.fromtimestamp(time.time(), UTC) - began
                    if age.total_seconds() < _DEAD_SECONDS:
                        raise self._busy(
                            "If it died, delete retiring.lock there; it counts for two days."
                        ) from None
                    self._remote.delete("retiring.lock")
                    self._remote.create("retiring.lock", stamp.encode())
                self._clear_left_overs()
            try:
                yield
            finally:
                with self._turn:
                    self._remote.delete("retiring.lock")

    def _clear_left_overs(self) -> None:
        """Remove parts of files that nobody goes on with, and claims beside which there is no part."""
        before = time.time() - _DEAD_SECONDS
        for folder in ("", *_KINDS):
            found = self._remote.inside(folder)
            start = f"{folder}/" if folder else ""
            parts = [one for one in found.files if one.name.endswith(".part")]
            for part in parts:
                if part.changed is not None and part.changed < before:
                    self._remote.delete(start + part.name)
            for claim in (name for name in found.folders if name.endswith(".claim")):
                if not any(p.name.startswith(claim.removesuffix("claim")) for p in parts):
                    self._remote.remove_folder(start + claim)


def open_remote_storage(
    remote: Remote, local_cache: str, *, create: bool, passphrase: Callable[[], str] | None
) -> RemoteStorage:
    """Return the storage of the ledger on a remote; `create` makes one where there is none.

    Raises:
        LedgerError: there is none, one of another format, or another than unfinished work is for.
        WrongPassphrase: it is encrypted, and the passphrase does not open it.
    """
    text = _settings_of(remote)
    root = local_cache or _local_cache_folder(remote.location)
    copy = os.path.join(root, settings.SETTINGS)
    if text is None and not remote.list("packs"):  # else only that file is lost: `verify` tells it
        if not create:
            raise NoLedger(
                "there is no ledger here", where=remote.location, remedy="Check the URL."
            )
        text = settings.new()
        remote.make_folder("")
        try:
            remote.create(settings.SETTINGS, text)
        except FileExistsError:  # somebody else, just now
            text = _settings_of(remote) or text
    with refusals(root):
        for name in (*_MANIFESTS, "packs", "work"):
            make_folders(os.path.join(root, name), private=True)
    there = settings.parsed(text or b"", where=remote.location)  # refuses another format
    if not os.path.exists(copy):
        write_atomic(copy, text if text is not None and there.intact else settings.new())
    if text is not None and there.intact and settings.read(root).id != there.id:
        _begin_anew(root, text, remote.location)
    storage = RemoteStorage(root, remote, encryption=keys.unlocked(remote, passphrase))
    _check_sealing(root, storage)
    storage.refresh()
    return storage


def _check_sealing(root: str, storage: RemoteStorage) -> None:
    """Refuse to write plainly to what was encrypted before: its keys are gone, or were taken away."""
    mark = os.path.join(root, _ENCRYPTED)
    if storage.encryption.key:
        if not os.path.exists(mark):
            write_atomic(mark, b"")
    elif os.path.exists(mark):
        raise LedgerDamaged(
            "this ledger was encrypted, and its keys are gone",
            where=storage.location,
            remedy="Bring its folder `keys` back from a copy. Nothing was read or written.",
        )


def _begin_anew(root: str, text: bytes, location: str) -> None:
    """Have a local cache be for another ledger than before: one that was made, or mended, elsewhere."""
    if any(name.startswith("change-") for name in os.listdir(os.path.join(root, "work"))):
        raise LedgerError(
            "this is another ledger than was here before, and a change is unfinished",
            where=location,
            remedy=f"If the old one is gone for good, delete what is known of it: {root}",
        )
    for name in os.listdir(root):
        if name == _ENCRYPTED or name.startswith("index.sqlite"):
            os.remove(os.path.join(root, name))
    write_atomic(os.path.join(root, settings.SETTINGS), text)


def _settings_of(remote: Remote) -> bytes | None:
    try:
        return b"".join(remote.read(settings.SETTINGS))
    except Vanished:
        return None


def _local_cache_folder(location: str) -> str:
    from platformdirs import user_data_dir

    name = blake3(location.encode()).hexdigest()[:16]
    return os.path.join(user_data_dir("kindred-ledger", appauthor=False), "near", name)


def _host() -> bytes:
    import platform

    return platform.node().encode()


def _unfinished(name: str) -> bool:
    return name.endswith((".part", ".claim"))


def _moment(stamp: str) -> datetime:
    try:
        return datetime.strptime(stamp, "%Y%m%dT%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        return datetime.fromtimestamp(0, UTC)

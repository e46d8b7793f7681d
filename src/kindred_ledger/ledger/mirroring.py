"""Mirroring: a ledger's packs, entries and history copied to another ledger, what it lacks only.

What always holds: a file gets its name there when every byte of it is durable and verified, and an
entry when all it refers to is. So a mirror that was cut off is a ledger like any other, and goes on
where it stopped.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections import Counter
from collections.abc import Callable, Iterator

from msgspec import Struct

from ..errors import LedgerDamaged, UsageError
from ..places import BLOCK, discard, new_file, refusals
from ..progress import Progress
from ..small_files import open_regular
from . import manifest
from .encryption import Encryption
from .entries import Entry
from .ledger import Ledger
from .manifest import SUFFIX, lost_files
from .packs import PACK_SUFFIX, check_pack
from .reading import EMPTY
from .storage import Storage

__all__ = ["Mirrored", "adopt", "mirror"]

_Check = Callable[[str, Encryption], None]
_PASSES = 10  # a source that retires all the while is looked at so often
_PAUSE_SECONDS = 0.1  # before the next pass


class Mirrored(Struct, frozen=True):
    """How many files of each kind were copied, with how many bytes; and what was not, and why.

    >>> _ = ledger.backup(install)
    >>> kl.mirror(ledger, kl.Ledger.open("mirror")).entries
    1
    """

    packs: int
    entries: int
    changes: int
    marks: int
    size_bytes: int
    not_copied: tuple[str, ...] = ()


def mirror(source: Ledger, target: Ledger, *, progress: Progress | None = None) -> Mirrored:
    """Copy to `target` what it lacks of `source`; nothing that is there is touched.

    What was retired in the target does not come back, and what is retired in the source stays in it.

    What is damaged in the source is not copied, nor an entry whose contents are not all there.

    Raises:
        UsageError: both are one folder.
        PlaceError: the system refuses; what was copied stays.

    >>> _ = ledger.backup(install)
    >>> kl.mirror(ledger, kl.Ledger.open("mirror")).entries
    1
    """
    if os.path.realpath(source.root) == os.path.realpath(target.root):
        raise UsageError("a ledger is no mirror of itself", where=target.location)
    with _copying(target) as copying:
        for _ in range(_PASSES):
            copying.vanished, copying.held = False, []
            copying.copy_all(source, progress or Progress())
            if not copying.vanished and not (copying.held and copying.retiring):
                break  # nothing was retired there meanwhile
            time.sleep(_PAUSE_SECONDS)
        copied = copying.copied
        return Mirrored(
            packs=copied["packs"],
            entries=copied["entries"],
            changes=copied["history"],
            marks=copied["marks"],
            size_bytes=copying.size_bytes,
            not_copied=tuple(copying.held),
        )


def adopt(target: Ledger, folder: str, path: str) -> bool:
    """Put a whole copy of a ledger's file in the place of a damaged or missing one.

    Return whether that was done; it is not if the copy is damaged itself.
    """
    check = _check_pack if folder == "packs" else _check_manifest
    with _copying(target) as copying:
        return copying.copy(folder, path, check)


def _missing(source: Ledger, target: Ledger, folder: str) -> list[str]:
    suffix = PACK_SUFFIX if folder == "packs" else SUFFIX
    names = {*source.storage.names(folder)} - {*target.storage.names(folder)}
    if folder == "packs":
        names -= {name + suffix for name in source.sessions.condemned()}
    if folder == "entries":
        names -= {entry.id + suffix for entry in target.retired()}
    return sorted(name for name in names if name.endswith(suffix))


def _taken(source: Ledger, target: Ledger) -> Iterator[str]:
    """Say which manifests cannot be copied, as the target has another one under their id.

    Ids are drawn: two ledgers that are mirrored to a third may have drawn the same.
    """
    for folder, store in source.manifest_stores.items():
        there = {header["id"]: header for header in target.manifest_stores[folder].headers()}
        for header in store.headers():
            if there.get(header["id"], header) != header:
                yield f"{folder}/{header['id']}{SUFFIX}: another one has this id in the target"


@contextlib.contextmanager
def _copying(target: Ledger) -> Iterator[_Copying]:
    """Hold a room in a ledger's `work` for the block, to copy files through."""
    with target.sessions.hold() as session:
        room = f"{session}-mirror"
        os.mkdir(room, 0o700)
        try:
            yield _Copying(target, room)
        finally:
            discard(room)


class _Copying:
    """Copies files into a ledger, each verified there before it gets its name."""

    def __init__(self, target: Ledger, room: str) -> None:
        self._target = target
        self._room = room
        self.size_bytes = 0
        self.held: list[str] = []
        self.copied: Counter[str] = Counter()
        self.vanished = False  # whether something went away before it was copied
        self.retiring = False  # whether packs were left out, as they are about to go

    def copy_all(self, source: Ledger, watch: Progress) -> None:
        """Copy all that is missing."""
        target = self._target
        source.storage.refresh()
        target.storage.refresh()
        # Manifests are listed first: what they need was there before them, should somebody be writing.
        missing = {name: _missing(source, target, name) for name in source.manifest_stores}
        self.held += _taken(source, target)
        if source.storage.encryption.key != target.storage.encryption.key:
            self._translate_all(source, missing, watch)
            return
        self.retiring = bool(source.sessions.condemned())
        packs = _missing(source, target, "packs")
        total = sum(_size(source.storage, name) for name in packs)
        with watch.task("mirroring", total=total, unit="bytes") as task:
            before = self.size_bytes
            for _ in self._copy_some(source, "packs", packs, _check_pack):
                task.advance(self.size_bytes - before)
                before = self.size_bytes
        target.index.sync(avoid=target.sessions.condemned())
        whole = {EMPTY, *target.index.readable(lasting=True)}
        checks = {"entries": _complete(whole), "history": _check_manifest, "marks": _check_manifest}
        for folder, check in checks.items():
            for _ in self._copy_some(source, folder, missing[folder], check):
                pass

    def _translate_all(
        self, source: Ledger, missing: dict[str, list[str]], watch: Progress
    ) -> None:
        """Keep anew in the target what stands in the source under another key, or under none."""
        for folder, names in missing.items():
            for name in names:
                try:
                    self._translate(source, folder, name, watch)
                except LedgerDamaged as error:
                    self.held.append(f"{folder}/{name}: {error.what}")
                    continue
                self.copied[folder] += 1

    def _translate(self, source: Ledger, folder: str, name: str, watch: Progress) -> None:
        id, part = name.removesuffix(SUFFIX), os.path.join(self._room, name)
        header, body = source.manifest_stores[folder].read(id)
        storing, manifest_store = self._target.storing, self._target.manifest_stores[folder]
        with storing.session() as again:
            while folder == "entries" and again():
                place = source.place(Entry.from_json(header))
                storing.store(place, place.survey(), None, watch)
            manifest_store.write(part, header, body)
            self.size_bytes += os.path.getsize(part)
            manifest_store.take_in(id, part)

    def _copy_some(
        self, source: Ledger, folder: str, names: list[str], check: _Check
    ) -> Iterator[None]:
        for name in names:
            try:
                with source.storage.as_kept(folder, name) as path:
                    self.copied[folder] += self.copy(folder, path, check)
            except FileNotFoundError:
                self.vanished = True
            yield

    def copy(self, folder: str, path: str, check: _Check) -> bool:
        """Copy one file; tell whether it was, and note in `held` why it was not."""
        name = os.path.basename(path)
        part = os.path.join(self._room, name)
        with refusals(f"{self._target.location}/{folder}/{name}"):
            try:
                size = _copied(path, part)
            except FileNotFoundError:
                if os.path.exists(path) or not os.path.isdir(os.path.dirname(path)):
                    raise
                self.vanished = True
                return False
            try:
                check(part, self._target.storage.encryption)
            except LedgerDamaged as error:
                os.remove(part)  # it is tried again if what it needs went to another pack meanwhile
                self.held.append(f"{folder}/{name}: {error.what}")
                return False
            self._target.storage.place(folder, name, part)
        self.size_bytes += size
        return True


def _copied(path: str, part: str) -> int:
    """Copy a file to a new one, durably; return its size."""
    with open_regular(path, buffering=0, follow=False) as source, new_file(part) as file:
        while block := source.read(BLOCK):
            file.write(block)
        file.flush()
        os.fsync(file.fileno())
        return file.tell()


def _size(storage: Storage, name: str) -> int:
    try:
        return storage.stat("packs", name)[0]
    except FileNotFoundError:
        return 0


def _check_pack(path: str, encryption: Encryption) -> None:
    faults = check_pack(path, None, encryption).faults
    if faults:
        raise LedgerDamaged(faults[0])


def _check_manifest(path: str, encryption: Encryption) -> None:
    manifest.read(path, encryption)


def _complete(whole: set[bytes]) -> _Check:
    """Return a check that an entry is as it was written, and that all its contents are there."""

    def check(path: str, encryption: Encryption) -> None:
        body = manifest.read(path, encryption)[1]
        if "tree" not in body:
            raise LedgerDamaged("it has no tree")
        lost = lost_files(body["tree"], whole)
        if lost:
            raise LedgerDamaged(f"the contents of {len(lost)} of its files are not here")

    return check

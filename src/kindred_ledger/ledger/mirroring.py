"""Mirroring: a ledger's packs, entries and history copied to another ledger, what it lacks only.

What always holds: a file gets its name there when every byte of it is durable and verified, and an
entry when all it refers to is. So a mirror that was cut off is a ledger like any other, and goes on
where it stopped.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterator

from msgspec import Struct

from ..errors import LedgerDamaged, UsageError
from ..places import BLOCK, refusals, remove_tree, sync_dir
from ..progress import Progress
from .binder import SUFFIX, read_manifest
from .ledger import Ledger
from .manifest import lost_files
from .packs import PACK_SUFFIX, check_pack
from .reading import EMPTY

__all__ = ["Mirrored", "adopt", "mirror"]


class Mirrored(Struct, frozen=True):
    """How many files of each kind were copied, with how many bytes; and what was not, and why."""

    packs: int
    entries: int
    changes: int
    marks: int
    size_bytes: int
    held: tuple[str, ...] = ()


def mirror(source: Ledger, target: Ledger, *, progress: Progress | None = None) -> Mirrored:
    """Copy to `target` what it lacks of `source`; nothing that is there is touched.

    What is damaged in the source is not copied, nor an entry whose contents are not all there.

    Raises:
        UsageError: both are one folder.
        PlaceError: the system refuses; what was copied stays.
    """
    if os.path.realpath(source.root) == os.path.realpath(target.root):
        raise UsageError("a ledger is no mirror of itself", where=target.root)
    # Manifests are listed first: what they need was there before them, should somebody be writing.
    missing = {name: _missing(source, target, name) for name in source.binders}
    packs = _missing(source, target, "packs")
    watch = progress or Progress()
    sizes = [os.path.getsize(os.path.join(source.folder("packs"), name)) for name in packs]
    with (
        _copying(target) as copying,
        watch.task("mirroring", total=sum(sizes), unit="bytes") as task,
    ):

        def copy_all(folder: str, names: list[str], check: Callable[[str], None]) -> Iterator[bool]:
            for name in names:
                yield copying.copy(folder, os.path.join(source.folder(folder), name), check)
            with refusals(target.root):
                sync_dir(target.folder(folder))

        copied_packs = 0
        for size, copied in zip(sizes, copy_all("packs", packs, _check_pack), strict=True):
            copied_packs += copied
            task.advance(size)
        target.index.sync()
        whole = {EMPTY, *target.index.readable()}
        return Mirrored(
            packs=copied_packs,
            entries=sum(copy_all("entries", missing["entries"], _complete(whole))),
            changes=sum(copy_all("history", missing["history"], _check_manifest)),
            marks=sum(copy_all("marks", missing["marks"], _check_manifest)),
            size_bytes=copying.size_bytes,
            held=tuple(copying.held),
        )


def adopt(target: Ledger, folder: str, path: str) -> bool:
    """Put a whole copy of a ledger's file in the place of a damaged or missing one.

    Return whether that was done; it is not if the copy is damaged itself.
    """
    check = _check_pack if folder == "packs" else _check_manifest
    with _copying(target) as copying:
        copied = copying.copy(folder, path, check)
        sync_dir(target.folder(folder))
    return copied


def _missing(source: Ledger, target: Ledger, folder: str) -> list[str]:
    suffix = PACK_SUFFIX if folder == "packs" else SUFFIX
    names = {*os.listdir(source.folder(folder))} - {*os.listdir(target.folder(folder))}
    return sorted(name for name in names if name.endswith(suffix))


@contextlib.contextmanager
def _copying(target: Ledger) -> Iterator[_Copying]:
    """Hold a room in a ledger's `work` for the block, to copy files through."""
    with target.storing.session() as session:
        room = f"{session}-mirror"
        os.mkdir(room)
        try:
            yield _Copying(target, room)
        finally:
            remove_tree(room)


class _Copying:
    """Copies files into a ledger, each verified there before it gets its name."""

    def __init__(self, target: Ledger, room: str) -> None:
        self._target = target
        self._room = room
        self.size_bytes = 0
        self.held: list[str] = []

    def copy(self, folder: str, path: str, check: Callable[[str], None]) -> bool:
        """Copy one file; tell whether it was, and note in `held` why it was not."""
        name = os.path.basename(path)
        part, final = (
            os.path.join(self._room, name),
            os.path.join(self._target.folder(folder), name),
        )
        with refusals(final):
            size = _copied(path, part)
            try:
                check(part)
            except LedgerDamaged as error:
                self.held.append(f"{folder}/{name}: {error.what}")
                return False
            os.replace(part, final)
        self.size_bytes += size
        return True


def _copied(path: str, part: str) -> int:
    """Copy a file to a new one, durably; return its size."""
    with open(path, "rb", buffering=0) as source, open(part, "wb", buffering=0) as file:
        while block := source.read(BLOCK):
            file.write(block)
        os.fsync(file.fileno())
        return file.tell()


def _check_pack(path: str) -> None:
    faults = check_pack(path, None).faults
    if faults:
        raise LedgerDamaged(faults[0])


def _check_manifest(path: str) -> None:
    read_manifest(path)


def _complete(whole: set[bytes]) -> Callable[[str], None]:
    """Return a check that an entry is as it was written, and that all its contents are there."""

    def check(path: str) -> None:
        lost = lost_files(read_manifest(path)[1]["tree"], whole)
        if lost:
            raise LedgerDamaged(f"the contents of {len(lost)} of its files are not here")

    return check

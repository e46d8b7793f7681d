"""The journal: what an unfinished change needs to be finished or unwound after a power cut.

It lies in the ledger's `work` folder and is written twice: before staging begins, and (once all
that is needed for either direction is durable) with the state `swapping`. Each operation on a
path can be done and taken back any number of times: what has happened is read off the disk.
"""

from __future__ import annotations

import os
from collections.abc import Mapping

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..errors import LedgerDamaged, LedgerError
from ..ledger import Ledger
from ..os_names import as_name, json_bytes
from ..places import (
    WORK_FOLDER,
    FilePlace,
    Node,
    Place,
    is_ours,
    remove_tree,
    sync_dir,
    write_atomic,
)
from ..small_files import read_small

__all__ = ["STAGING", "SWAPPING", "Journal", "Op", "unfinished"]

_FORMAT = 2
_KINDS = frozenset(("put", "remove", "mkdir", "rmdir", "meta"))
_STEPS = frozenset(("", ".", ".."))  # parts of a path that lead elsewhere
STAGING, SWAPPING = "staging", "swapping"
_LARGEST = 1 << 30  # bytes
_NAME = "journal.json"
_RECORD = "record.json.zst"


class Op(Struct, frozen=True, array_like=True):
    """One step on one path. `kind` is put, remove, mkdir, rmdir or meta.

    `part` names the folder of the place, `path` is relative to it, `number` names the staged file.
    """

    kind: str
    number: int
    part: str
    path: str
    before: Node | None
    after: Node | None


class Journal(Struct, frozen=True):
    """An unfinished change: where, in which order, and how far."""

    id: str
    ledger: str
    roots: Mapping[str, str]
    ops: tuple[Op, ...]
    state: str = STAGING
    format: int = _FORMAT

    @property
    def folder(self) -> str:
        """The change's folder in the ledger's `work`."""
        return os.path.join(self.ledger, "work", f"change-{self.id}")

    @property
    def record_path(self) -> str:
        """Where the record waits until it enters the history."""
        return os.path.join(self.folder, _RECORD)

    def place(self, ledger: Ledger) -> Place:
        """Open the place that is being changed.

        A place that is one file (or an archive) has none while the old one makes room for the new;
        what is staged beside it tells that it is no folder.
        """
        root = self.roots.get("", "")
        if root and "://" not in root and not os.path.lexists(root):
            beside = os.path.join(os.path.dirname(root), WORK_FOLDER, self.id)
            if os.path.isdir(beside):
                return FilePlace(root)
        return ledger.place_at(self.roots)

    def claimed(self, ledger: Ledger) -> Journal:
        """Return the journal under an id of its own.

        Its folder in `work` keeps it from others of this machine, the ledger from other machines.
        """
        while True:
            journal = replace(self, id=ledger.new_record_id())
            try:
                os.mkdir(journal.folder, 0o700)
            except FileExistsError:
                continue
            reserved = False
            try:
                reserved = ledger.reserve_record(journal.id)
            finally:
                if not reserved:
                    os.rmdir(journal.folder)
            if reserved:
                return journal

    def write(self) -> None:
        """Make the journal durable in its present state."""
        write_atomic(os.path.join(self.folder, _NAME), json_bytes(self))
        sync_dir(os.path.dirname(self.folder))

    def at(self, state: str) -> Journal:
        """Return the journal in another state."""
        return replace(self, state=state)

    def clear(self, ledger: Ledger) -> None:
        """Remove the journal: the change is over, and what it put aside is gone."""
        remove_tree(self.folder)
        ledger.release_record(self.id)

    @staticmethod
    def read(ledger: Ledger, name: str) -> Journal | None:
        """Read the journal in one folder of `work`; None if it was never finished.

        Raises:
            LedgerDamaged: it cannot be read, or leads out of its place.
            LedgerError: another program wrote it.
        """
        path = os.path.join(ledger.folder("work"), name, _NAME)
        try:
            journal = msgspec.json.decode(
                read_small(path, most=_LARGEST, follow=False), type=Journal
            )
        except FileNotFoundError:
            return None
        except (msgspec.MsgspecError, OSError) as error:
            raise LedgerDamaged(f"the journal cannot be read: {error}", where=path) from error
        if journal.format != _FORMAT:
            raise LedgerError(
                f"this change was begun by a program that writes journals of format {journal.format}",
                where=path,
                remedy="Finish or unwind it with that program: kindred recover",
            )
        if fault := _fault(journal, name):
            raise LedgerDamaged(
                f"the journal is not as it was written: {fault}",
                where=path,
                remedy="Nothing was touched. What a change replaces is kept before: kindred entries",
            )
        roots = {name: as_name(root) for name, root in journal.roots.items()}
        return replace(journal, ledger=ledger.root, roots=roots)


def _fault(journal: Journal, name: str) -> str:
    """Say what of a journal leads out of the place it was made for, "" if nothing does."""
    if f"change-{journal.id}" != name or not journal.id.isalnum():
        return f"it is of change {journal.id!r}"
    known = {"" if name == "." else name for name in journal.roots}  # an item is named by its paths
    for op in journal.ops:
        parts = op.path.replace(os.sep, "/").split("/")
        if op.part not in known or op.kind not in _KINDS or op.number < 0:
            return f"there is no step {op.kind!r} in {op.part!r}"
        if "\0" in as_name(op.path) or not _STEPS.isdisjoint(parts) or is_ours(op.path):
            return f"the path {op.path!r} leaves the place"
    return ""


def unfinished(ledger: Ledger) -> list[str]:
    """Return the names of the folders of unfinished changes."""
    work = ledger.folder("work")
    return sorted(name for name in os.listdir(work) if name.startswith("change-"))

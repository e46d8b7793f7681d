"""The journal: what an unfinished change needs to be finished or unwound after a power cut.

It lies in the ledger's `work` folder and is written twice: before staging begins, and (once all
that is needed for either direction is durable) with the state `swapping`. Each operation on a
path can be done and taken back any number of times: what has happened is read off the disk.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..errors import LedgerDamaged
from ..ledger import Ledger
from ..places import (
    WORK_FOLDER,
    FolderPlace,
    Node,
    Place,
    folders_of,
    place_at,
    remove_tree,
    sync_dir,
    write_atomic,
)

__all__ = ["STAGING", "SWAPPING", "Journal", "Op", "unfinished"]

_FORMAT = 1
STAGING, SWAPPING = "staging", "swapping"
_NAME = "journal.json"
_RECORD = "record.json.zst"


class Op(Struct, frozen=True):
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
    ops: Sequence[Op]
    state: str = STAGING

    @property
    def folder(self) -> str:
        """The change's folder in the ledger's `work`."""
        return os.path.join(self.ledger, "work", f"change-{self.id}")

    @property
    def record_path(self) -> str:
        """Where the record waits until it enters the history."""
        return os.path.join(self.folder, _RECORD)

    def place(self) -> Place:
        """Open the place that is being changed."""
        return place_at(self.roots)

    def folders(self) -> dict[str, FolderPlace]:
        """Return the folders of the place by name."""
        return folders_of(self.place())

    def stage(self, part: str) -> str:
        """Return the folder in which the contents for one part are staged."""
        return os.path.join(self.folders()[part].root, WORK_FOLDER, self.id)

    def write(self) -> None:
        """Make the journal durable in its present state."""
        os.makedirs(self.folder, exist_ok=True)
        values = {
            "format": _FORMAT,
            "id": self.id,
            "state": self.state,
            "roots": self.roots,
            "ops": [
                [op.kind, op.number, op.part, op.path, _plain(op.before), _plain(op.after)]
                for op in self.ops
            ],
        }
        write_atomic(os.path.join(self.folder, _NAME), msgspec.json.encode(values))
        sync_dir(os.path.dirname(self.folder))

    def at(self, state: str) -> Journal:
        """Return the journal in another state."""
        return replace(self, state=state)

    def clear(self) -> None:
        """Remove the staged files, then the journal: the change is over."""
        for part in self.folders():
            stage = self.stage(part)
            remove_tree(stage)
            work = os.path.dirname(stage)
            if os.path.isdir(work) and not os.listdir(work):
                os.rmdir(work)
        remove_tree(self.folder)

    @staticmethod
    def read(ledger: Ledger, name: str) -> Journal | None:
        """Read the journal in one folder of `work`; None if it was never finished."""
        path = os.path.join(ledger.folder("work"), name, _NAME)
        try:
            with open(path, "rb") as file:
                values = msgspec.json.decode(file.read(), type=dict[str, Any])
            ops = [
                Op(kind, number, part, path, _node(before), _node(after))
                for kind, number, part, path, before, after in values["ops"]
            ]
            return Journal(values["id"], ledger.root, values["roots"], ops, values["state"])
        except FileNotFoundError:
            return None
        except (msgspec.MsgspecError, KeyError, TypeError, ValueError) as error:
            raise LedgerDamaged(f"the journal cannot be read: {error}", where=path) from error


def unfinished(ledger: Ledger) -> list[str]:
    """Return the names of the folders of unfinished changes."""
    work = ledger.folder("work")
    return sorted(name for name in os.listdir(work) if name.startswith("change-"))


def _plain(node: Node | None) -> list[Any] | None:
    if node is None:
        return None
    return [*node[:2], node.digest.hex() if node.digest else None, *node[3:]]


def _node(plain: list[Any] | None) -> Node | None:
    if plain is None:
        return None
    digest = bytes.fromhex(plain[2]) if plain[2] else None
    return Node(plain[0], plain[1], digest, *plain[3:])

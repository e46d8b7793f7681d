"""What was there: every manifest names those written last before it, so that a deletion is noticed.

The body of each manifest has `known`: the ledger's id, and by folder the ids of the newest manifests that
its writer saw. What is newest is named by none of them yet: each machine that writes to the ledger keeps a
file in `newest` that says the same, written anew after each manifest; `writer` in `known` is its name. A
manifest that is named, not retired and not there any more was deleted, and so was a file of a writer.
Copies in a mirror name what was in the ledger they were made for; there they say nothing.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Mapping
from typing import Any

from ..errors import KindredError, LedgerDamaged
from ..places import make_folders, new_file
from . import manifest
from .manifest import SUFFIX
from .storage import Storage

__all__ = [
    "FOLDERS",
    "KNOWN",
    "LEDGER",
    "NEWEST",
    "ensure_newest",
    "known",
    "ledger_ids",
    "named_in",
    "note_newest",
    "write_newest",
    "writer_in",
]

KNOWN = "known"
LEDGER = "ledger"  # under which the cache knows the ledger's id
FOLDERS = ("entries", "history", "marks")
NEWEST = "newest"  # the folder of the writers' files
_LAST = 16  # of each kind: more than write at once, so that each is named by some that come later


def known(storage: Storage) -> dict[str, Any]:
    """Return what a manifest that is written now says of those before it."""
    noted = _noted(storage)
    newest = {folder: _newest(storage, folder, noted.get(folder, [])) for folder in FOLDERS}
    return {"ledger": storage.ledger_id, "writer": storage.writer, **newest}


def _newest(storage: Storage, folder: str, noted: list[str]) -> list[str]:
    ids = {name[: -len(SUFFIX)] for name in storage.names(folder) if name.endswith(SUFFIX)}
    return sorted(ids.union(noted))[-_LAST:]


def _noted(storage: Storage) -> dict[str, list[str]]:
    """Return what this machine noted last, by folder; what was deleted since is still in it."""
    name = storage.writer + SUFFIX
    noted: dict[str, list[str]] = {}
    with contextlib.suppress(LedgerDamaged):  # or missing: `verify` tells
        if storage.is_near(NEWEST, name) or storage.exists(NEWEST, name):
            _, body = manifest.read(storage.path(NEWEST, name), storage.encryption)
            for folder, id in named_in(body, storage.ledger_id):
                noted.setdefault(folder, []).append(id)
    return noted


def ensure_newest(storage: Storage) -> None:
    """Have this machine's file be there before the first manifest that says so."""
    name = storage.writer + SUFFIX
    if not (storage.is_near(NEWEST, name) or storage.exists(NEWEST, name)):
        write_newest(storage)


def note_newest(storage: Storage) -> None:
    """Note what is newest, a manifest having been written; that it is there does not depend on it."""
    with contextlib.suppress(KindredError, OSError):
        write_newest(storage)


def write_newest(storage: Storage, writer: str = "") -> None:
    """Write the file of a writer anew: this machine's, or another's that was lost."""
    id = writer or storage.writer
    part = os.path.join(storage.root, "work", f"newest.{os.urandom(8).hex()}.part")
    written: dict[str, Any] = {}
    # Others of this machine may have written since it was looked: who comes last writes all there is.
    while (now := {**known(storage), "writer": id}) != written:
        with new_file(part) as file:
            file.write(manifest.encode({"id": id}, {KNOWN: now}, storage.encryption))
            file.flush()
            os.fsync(file.fileno())
        make_folders(os.path.join(storage.root, NEWEST), private=True)
        storage.place(NEWEST, id + SUFFIX, part)
        written = now


def named_in(body: Mapping[str, Any], ledger_id: str) -> Iterator[tuple[str, str]]:
    """Yield the folder and id of each manifest that one of this ledger names."""
    found = _known_in(body, ledger_id)
    for folder in FOLDERS:
        ids = found.get(folder)
        for id in ids if isinstance(ids, list) else ():
            if isinstance(id, str) and id.isalnum():
                yield folder, id


def writer_in(body: Mapping[str, Any], ledger_id: str) -> str:
    """Return the writer of a manifest of this ledger; empty if it names none."""
    writer = _known_in(body, ledger_id).get("writer")
    return writer if isinstance(writer, str) and writer.isalnum() else ""


def ledger_ids(storage: Storage) -> set[str]:
    """Return the ids of the ledger that the writers' files name: one, unless somebody mixed them."""
    found = set()
    for name in storage.names(NEWEST):
        unread = contextlib.suppress(LedgerDamaged, FileNotFoundError)
        with unread, storage.as_kept(NEWEST, name) as path:
            id = manifest.read(path, storage.encryption)[1].get(KNOWN, {}).get("ledger")
            found |= {id} if isinstance(id, str) and id else set()
    return found


def _known_in(body: Mapping[str, Any], ledger_id: str) -> Mapping[str, Any]:
    found = body.get(KNOWN)
    ours = isinstance(found, dict) and ledger_id and found.get("ledger") == ledger_id
    return found if ours else {}  # type: ignore[return-value]

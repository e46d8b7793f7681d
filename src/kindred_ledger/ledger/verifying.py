"""Verifying: every byte of a ledger held against the digests it was written with.

What is damaged is named by file, and what that costs by entry and path. A damaged pack costs no
more than the contents in its damaged frames. The cache is held against what it mirrors, and made
anew where it says anything else.
"""

from __future__ import annotations

import os
import sqlite3
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from msgspec import Struct

from ..errors import LedgerDamaged
from ..finding import Finding
from ..progress import Progress
from . import manifest, settings
from .cache_sum import faults_of
from .entries import LOST, Entry, Mark
from .index import Index
from .known import NEWEST, named_in, writer_in
from .ledger import Ledger
from .manifest import SUFFIX, lost_files
from .packs import PACK_SUFFIX, PackCheck, PackIndex, check_pack
from .reading import EMPTY
from .records import Record
from .sessions import is_old
from .storage import NEEDED, missing

__all__ = ["GONE", "MOVED", "Cost", "Verified", "verify"]

GONE = "it was deleted"

_WORKERS = 2  # reading and hashing release the interpreter lock
_CACHE = "index.sqlite"
_LOOKS = 4  # at a cache that seems damaged
_PAUSE_SECONDS = 0.1
MOVED = ".moved"  # what healing has behind a name while it puts names right
_Plain = dict[str, Any]


class Cost(Struct, frozen=True):
    """What of an entry cannot be brought back: some `paths`; None if nothing of it can be read."""

    entry: str
    name: str
    paths: tuple[str, ...] | None


class Verified(Struct, frozen=True):
    """What was looked at (packs and their bytes, entries, changes), what is wrong, what it costs.

    `findings` are about files of the ledger, by their paths in it.

    >>> _ = ledger.backup(install)
    >>> verified = kl.verify(ledger)
    >>> verified.findings, verified.entries
    ((), 1)
    """

    packs: int
    packs_total: int
    size_bytes: int
    entries: int
    changes: int
    findings: tuple[Finding, ...] = ()
    costs: tuple[Cost, ...] = ()


def verify(ledger: Ledger, *, share: float = 1.0, progress: Progress | None = None) -> Verified:
    """Check the settings, every entry and change, and packs; see the module.

    `share` below 1 takes the packs that were not checked for the longest until that share of all
    bytes is checked, so that several calls check everything. Writes to the cache alone.

    >>> _ = ledger.backup(install)
    >>> kl.verify(ledger).findings
    ()
    """
    return _Verification(ledger, progress or Progress()).run(share)


class _Verification:
    """One run: what was found so far."""

    def __init__(self, ledger: Ledger, progress: Progress) -> None:
        self._ledger = ledger
        self._progress = progress
        self._findings: list[Finding] = []
        self._damaged: dict[str, Sequence[tuple[int, int]]] = {}  # by pack, parts of its stream
        self._cache_is_right = True
        self._named: set[tuple[str, str]] = set()  # what manifests say was there
        self._writers: set[str] = set()  # who have a file in `newest`, as manifests say
        self._vanished = False  # whether a pack went away after it was listed
        self._lost_packs = False  # whether there are packs that do not say what they hold

    def run(self, share: float) -> Verified:
        self._check_folders()
        self._check_cache()
        self._ledger.storage.refresh()
        # Manifests first: what they need was there before them, should somebody be writing.
        ids = {folder: self._names(folder, SUFFIX) for folder in self._ledger.manifest_stores}
        self._ledger.index.sync()
        sizes = dict(self._sizes(self._names("packs", PACK_SUFFIX)))
        chosen = self._chosen(sizes, share)
        self._check_settings()
        self._check_keys()
        self._check_packs({name: sizes[name] for name in chosen})
        self._mend_cache()
        if self._vanished:
            self._ledger.index.sync()
        whole = {EMPTY, *self._ledger.index.readable()}
        costs = []
        for id, header, body in self._manifests("entries", ids["entries"]):
            lost = lost_files(body["tree"], whole) if body else None
            if lost or lost is None:
                costs.append(Cost(id, Entry.from_json(header).name if header else "", lost))
        for kind in ("history", "marks"):
            for _ in self._manifests(kind, ids[kind]):
                pass
        self._check_newest()
        self._check_deleted()
        self._mend_cache()
        damaged = self._lost_packs or self._damaged or self._ledger.index.damaged
        if any(cost.paths for cost in costs) and not damaged and len(chosen) == len(sizes):
            self._found(
                "missing", "packs", "what these files need is in none of them: one is missing"
            )
        self._ledger.index.remember_checked(chosen, self._ledger.clock())
        self._ledger.index.note_sum()
        return Verified(
            packs=len(chosen),
            packs_total=len(sizes),
            size_bytes=sum(sizes[name] for name in chosen),
            entries=len(ids["entries"]),
            changes=len(ids["history"]),
            findings=tuple(self._findings),
            costs=tuple(costs),
        )

    def _found(self, code: str, file: str, what: str) -> None:
        self._findings.append(Finding.error(code, what, where=file))

    def _sizes(self, names: Iterable[str]) -> Iterator[tuple[str, int]]:
        for name in names:
            try:
                yield name, self._ledger.storage.stat("packs", name + PACK_SUFFIX)[0]
            except FileNotFoundError:
                self._vanished = True

    def _names(self, folder: str, suffix: str) -> list[str]:
        """Return the names in a folder without their suffix; what has another is no file of ours."""
        names = self._ledger.storage.names(folder)
        for name in names:
            if name.endswith(suffix):
                continue
            path = os.path.join(self._ledger.folder(folder), name)
            if name.endswith(MOVED) or is_old(path):  # else it is under way
                what = "this is no file of the ledger; a write that was cut off may have left it"
                self._found("foreign-file", f"{folder}/{name}", what)
        return [name.removesuffix(suffix) for name in names if name.endswith(suffix)]

    def _chosen(self, sizes: dict[str, int], share: float) -> list[str]:
        checked = self._ledger.index.checked()
        weights = {name: max(1, size) for name, size in sizes.items()}  # an empty one is damaged
        wanted, so_far, chosen = share * sum(weights.values()), 0, []
        for name in sorted(sizes, key=lambda name: (checked.get(name, 0.0), name)):
            if so_far >= wanted:
                break
            chosen.append(name)
            so_far += weights[name]
        return chosen

    def _check_folders(self) -> None:
        for name in NEEDED if not self._ledger.is_remote else ():
            path = self._ledger.folder(name)
            if not os.path.isdir(path):
                self._found("missing", name, missing(path).what)
                self._ledger.storage.forgives = True  # all else is looked at, too

    def _check_cache(self) -> None:
        """Hold the cache's file against its sum; before it is opened, which may write to it.

        Another process may be writing to it: only what stays wrong while nobody is at work is damage.
        """
        path = self._ledger.folder(_CACHE)
        found = faults_of(path)
        for _ in range(_LOOKS if found else 0):
            time.sleep(_PAUSE_SECONDS)
            found = {} if self._ledger.sessions.under_way() else faults_of(path)
            if not found:
                return
        for end, what in found.items():
            self._found("damaged", _CACHE + end, what)
            self._ledger.index.renew()

    def _check_settings(self) -> None:
        try:
            storage = self._ledger.storage
            if not settings.parsed(storage.settings(), where=storage.location).intact:
                self._found("damaged", settings.SETTINGS, "it is not as it was written")
        except FileNotFoundError:
            self._found("missing", settings.SETTINGS, "it is missing")

    def _check_keys(self) -> None:
        for name, what in self._ledger.storage.damaged_keys().items():
            self._found("damaged", f"keys/{name}", what)

    def _check_packs(self, sizes: dict[str, int]) -> None:
        total = sum(sizes.values())
        with self._progress.task("verifying", total=total, unit="bytes") as task:
            for name, check in _checked(self._ledger.index, sizes):
                self._note(name, check)
                task.advance(sizes[name])

    def _note(self, name: str, check: PackCheck) -> None:
        index = self._ledger.index
        mirrored = self._is_mirrored(name, check)
        if not mirrored and index.storage.exists("packs", name + PACK_SUFFIX):
            index.sync()  # written meanwhile, or about to go: every command brings that in line first
            mirrored = self._is_mirrored(name, check)
        if (check.faults or not mirrored) and not index.storage.exists("packs", name + PACK_SUFFIX):
            self._vanished = True  # retired; if it was not, what needs it will tell
            return
        for what in check.faults:
            self._found("damaged", f"packs/{name}{PACK_SUFFIX}", what)
        if check.damaged:
            self._damaged[name] = check.damaged
        self._lost_packs |= check.found is None
        self._cache_is_right &= mirrored

    def _is_mirrored(self, name: str, check: PackCheck) -> bool:
        index = self._ledger.index
        try:
            return check.found is None or index.mirrors(name, check.found, check.damaged)
        except sqlite3.DatabaseError:
            return False

    def _mend_cache(self) -> None:
        """Make the cache anew if it lies; let it forget what is damaged, to be kept when met again."""
        if not self._cache_is_right:
            self._found("damaged", _CACHE, "it did not say what it mirrors; it was made anew")
            self._ledger.index.renew()
            self._cache_is_right = True
        for name, parts in self._damaged.items():
            self._ledger.index.forget(name, parts)

    def _note_named(self, body: _Plain) -> None:
        """Note what a manifest says was there."""
        id = self._ledger.storage.ledger_id
        self._named.update(named_in(body, id))
        self._writers.add(writer_in(body, id))

    def _check_newest(self) -> None:
        """Check the files in which each writer keeps what is newest; name those that were deleted."""
        storage = self._ledger.storage
        there = self._names(NEWEST, SUFFIX)
        for writer in there:
            try:
                with storage.as_kept(NEWEST, writer + SUFFIX) as path:
                    self._note_named(manifest.read(path, storage.encryption)[1])
            except FileNotFoundError:  # written anew just now
                continue
            except LedgerDamaged as error:
                self._found("damaged", f"{NEWEST}/{writer}{SUFFIX}", error.what)
        gone = sorted(self._writers - {"", *there})
        for writer in gone:
            self._found("missing", f"{NEWEST}/{writer}{SUFFIX}", GONE)

    def _check_deleted(self) -> None:
        """Name the manifests that others, or the cache, speak of, and that are not there any more."""
        ledger = self._ledger
        for folder, manifest_store in ledger.manifest_stores.items():
            self._named.update((folder, id) for id in ledger.index.ids(manifest_store.noun))
        ledger.storage.refresh()
        there = {
            (folder, id)
            for folder, manifest_store in ledger.manifest_stores.items()
            for id in manifest_store.ids()
        }
        gone = self._named - there
        if gone:
            gone -= {("entries", entry.id) for entry in ledger.retired()}
            lost = {mark.subject for mark in ledger.marks(LOST)}
            gone = {(folder, id) for folder, id in gone if f"{folder}/{id}" not in lost}
        for folder, id in sorted(gone):
            self._found("missing", f"{folder}/{id}{SUFFIX}", GONE)

    def _manifests(self, folder: str, ids: list[str]) -> Iterator[tuple[str, _Plain, _Plain]]:
        """Yield manifests one by one: id, header and body; both empty if it is damaged."""
        manifest_store = self._ledger.manifest_stores[folder]
        known = self._ledger.index.headers(manifest_store.noun, ids)
        for id in ids:
            try:
                with self._ledger.storage.as_kept(folder, id + SUFFIX) as path:
                    header, body = manifest.read(path, self._ledger.storage.encryption)
                manifest_store.check_body(body, where=path)
                _MODELS[folder](header)
                self._note_named(body)
            except (LedgerDamaged, FileNotFoundError) as error:
                if folder == "entries" and self._ledger.is_retired(id):
                    continue  # just now
                what = error.what if isinstance(error, LedgerDamaged) else "it is missing"
                self._found("damaged", f"{folder}/{id}{SUFFIX}", what)
                yield id, {}, {}
                continue
            if id in known and known[id] != header:
                self._cache_is_right = False
            yield id, header, body


_MODELS: dict[str, Callable[[dict[str, Any]], object]] = {
    "entries": Entry.from_json,
    "history": Record.from_json,
    "marks": Mark.from_json,
}


def _checked(index: Index, names: Iterable[str]) -> Iterator[tuple[str, PackCheck]]:
    """Yield packs with their checks, made a few ahead of need: what a pack holds takes memory."""
    coming: deque[tuple[str, Future[PackCheck]]] = deque()
    with ThreadPoolExecutor(_WORKERS) as pool:
        for name in names:
            check = pool.submit(_check, index, name, index.frames_of(name))
            coming.append((name, check))
            if len(coming) > _WORKERS:
                first, done = coming.popleft()
                yield first, done.result()
        for first, done in coming:
            yield first, done.result()


def _check(index: Index, name: str, frames: PackIndex | None) -> PackCheck:
    try:
        with index.storage.as_kept("packs", name + PACK_SUFFIX) as path:
            return check_pack(path, frames, index.storage.encryption)
    except FileNotFoundError:
        return PackCheck(["it is missing"])

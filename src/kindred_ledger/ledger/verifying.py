"""Verifying: every byte of a ledger held against the digests it was written with.

What is damaged is named by file, and what that costs by entry and path. A damaged pack costs no
more than the contents in its damaged frames. The cache is held against what it mirrors, and made
anew where it says anything else.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from msgspec import Struct

from ..errors import LedgerDamaged
from ..progress import Progress
from . import settings
from .ledger import Ledger
from .packs import PACK_SUFFIX, PackCheck, check_pack
from .reading import EMPTY

__all__ = ["Cost", "Fault", "Verified", "verify"]

_WORKERS = 2  # reading and hashing release the interpreter lock
_CACHE = "index.sqlite"


class Fault(Struct, frozen=True):
    """A file of the ledger that is not as it was written; `file` is relative to the ledger."""

    file: str
    what: str


class Cost(Struct, frozen=True):
    """What of an entry cannot be brought back: some `paths`; None if nothing of it can be read."""

    entry: str
    name: str
    paths: tuple[str, ...] | None


class Verified(Struct, frozen=True):
    """What was looked at (packs and their bytes, entries, changes), what is wrong, what it costs."""

    packs: int
    packs_in_all: int
    size_bytes: int
    entries: int
    changes: int
    faults: tuple[Fault, ...] = ()
    costs: tuple[Cost, ...] = ()


def verify(ledger: Ledger, *, share: float = 1.0, progress: Progress | None = None) -> Verified:
    """Check the settings, every entry and change, and packs; see the module.

    `share` below 1 takes the packs that were not checked for the longest until that share of all
    bytes is checked, so that several calls check everything. Writes to the cache alone.
    """
    return _Verification(ledger, progress or Progress()).run(share)


class _Verification:
    """One run: what was found so far."""

    def __init__(self, ledger: Ledger, progress: Progress) -> None:
        self._ledger = ledger
        self._progress = progress
        self._faults: list[Fault] = []
        self._damaged: set[bytes] = set()  # chunks in damaged frames
        self._cache_is_right = True
        self._lost_packs = bool(ledger.index.damaged)  # packs that do not say what they hold

    def run(self, share: float) -> Verified:
        folder = self._ledger.folder("packs")
        found = self._names("packs", PACK_SUFFIX)
        sizes = {name: os.path.getsize(os.path.join(folder, name + PACK_SUFFIX)) for name in found}
        chosen = self._chosen(sizes, share)
        self._check_settings()
        self._check_packs({name: sizes[name] for name in chosen})
        manifests = {
            where: self._read_manifests(where, noun)
            for where, noun in (("entries", "entry"), ("history", "change"))
        }
        if not self._cache_is_right:
            self._faults.append(Fault(_CACHE, "it did not say what it mirrors; it was made anew"))
            self._ledger.renew_index()
        costs = list(self._costs(manifests["entries"]))
        self._ledger.index.remember_checked(chosen, self._ledger.clock())
        return Verified(
            packs=len(chosen),
            packs_in_all=len(sizes),
            size_bytes=sum(sizes[name] for name in chosen),
            entries=len(manifests["entries"]),
            changes=len(manifests["history"]),
            faults=tuple(self._faults),
            costs=tuple(costs),
        )

    def _names(self, folder: str, suffix: str) -> list[str]:
        """Return the names in a folder without their suffix; what has another is no file of ours."""
        names = sorted(os.listdir(self._ledger.folder(folder)))
        for name in names:
            if not name.endswith(suffix):
                what = "this is no file of the ledger; a write that was cut off may have left it"
                self._faults.append(Fault(f"{folder}/{name}", what))
        return [name.removesuffix(suffix) for name in names if name.endswith(suffix)]

    def _chosen(self, sizes: dict[str, int], share: float) -> list[str]:
        checked = self._ledger.index.checked()
        wanted, so_far, chosen = share * sum(sizes.values()), 0, []
        for name in sorted(sizes, key=lambda name: (checked.get(name, 0.0), name)):
            if so_far >= wanted:
                break
            chosen.append(name)
            so_far += sizes[name]
        return chosen

    def _check_settings(self) -> None:
        try:
            if not settings.read(self._ledger.root).intact:
                self._faults.append(Fault(settings.SETTINGS, "it is not as it was written"))
        except FileNotFoundError:
            self._faults.append(Fault(settings.SETTINGS, "it is missing"))

    def _check_packs(self, sizes: dict[str, int]) -> None:
        index = self._ledger.index
        cached = index.frames_by_name()
        jobs = [(index.pack_path(name), cached.get(name)) for name in sizes]
        total = sum(sizes.values())
        with (
            self._progress.task("verifying", total=total, unit="bytes") as task,
            ThreadPoolExecutor(_WORKERS) as pool,
        ):
            checks = pool.map(lambda job: check_pack(*job), jobs)
            for (name, size), check in zip(sizes.items(), checks, strict=True):
                self._note(name, check)
                task.advance(size)

    def _note(self, name: str, check: PackCheck) -> None:
        index = self._ledger.index
        self._faults += [Fault(f"packs/{name}{PACK_SUFFIX}", what) for what in check.faults]
        for start, end in check.damaged:
            self._damaged |= index.chunks_between(name, start, end)
        try:
            if check.found is None:
                self._lost_packs = True
            elif not index.mirrors(name, check.found):
                self._cache_is_right = False
        except sqlite3.DatabaseError:
            self._cache_is_right = False

    def _read_manifests(self, folder: str, noun: str) -> dict[str, dict[str, Any] | None]:
        """Return the bodies of all manifests in a folder by id; None for those that are damaged."""
        binder = self._ledger.binder(noun)
        ids = self._names(folder, binder.suffix)
        known = self._ledger.index.headers(noun, ids)
        bodies: dict[str, dict[str, Any] | None] = {}
        for id in ids:
            try:
                header, bodies[id] = binder.read(id)
                if id in known and known[id] != header:
                    self._cache_is_right = False
            except LedgerDamaged as error:
                bodies[id] = None
                self._faults.append(Fault(f"{folder}/{id}{binder.suffix}", error.what))
        return bodies

    def _costs(self, entries: dict[str, dict[str, Any] | None]) -> Iterator[Cost]:
        """Yield what the damage costs, entry by entry."""
        names = {entry.id: entry.name for entry in self._ledger.entries()}
        absent: set[bytes] = set()
        whole = {EMPTY, *self._ledger.index.readable(self._damaged)}
        for id, body in entries.items():
            if body is None:
                yield Cost(id, names.get(id, ""), None)
                continue
            tree = body["tree"]
            raw = bytes.fromhex(tree["digests"])
            digests = [raw[at : at + 32] for at in range(0, len(raw), 32)]
            if whole.issuperset(digests):
                continue
            files = [p for p, kind in zip(tree["paths"], tree["kinds"], strict=True) if kind == "f"]
            lost = {
                p: digest for p, digest in zip(files, digests, strict=True) if digest not in whole
            }
            absent.update(lost.values() - self._ledger.index.locate_all(lost.values()).keys())
            yield Cost(id, names.get(id, ""), tuple(lost))
        if absent and not self._lost_packs:
            what = f"{len(absent)} contents are in none of the packs: at least one is missing"
            self._faults.append(Fault("packs", what))

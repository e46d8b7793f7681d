"""ManifestStore: a folder of manifests, each written once and found by id, prefix or as the latest."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable
from typing import Any

from ..errors import LedgerDamaged, UsageError
from ..places import refusals, refused, write_atomic
from . import manifest
from .ids import new_id
from .index import Index
from .known import KNOWN, LEDGER, ensure_newest, known, note_newest
from .manifest import SUFFIX
from .storage import Storage

__all__ = ["ManifestStore"]

_NEEDED = {  # of a body, by what its manifest is
    "entry": frozenset(("tree",)),
    "change": frozenset(("paths", "before", "after", "statements")),
    "mark": frozenset(("entries",)),
}


class ManifestStore:
    """The manifests in one folder of a ledger; `noun` is what people call them."""

    def __init__(self, folder: str, storage: Storage, index: Index, *, noun: str) -> None:
        self.folder = folder
        self._storage = storage
        self._index = index
        self.noun = noun

    def ids(self) -> list[str]:
        """Return all ids, the oldest first."""
        names = self._storage.names(self.folder)
        return sorted(name[: -len(SUFFIX)] for name in names if name.endswith(SUFFIX))

    def next_id(self, now: float) -> str:
        """Return an id behind all that are there; another writer may take it first."""
        ids = self.ids()
        return new_id(now, after=ids[-1] if ids else "")

    def reserve(self, id: str) -> bool:
        """Keep an id from other machines until `release`; tell whether it was nobody's."""
        return self._storage.reserve(self.folder, id + SUFFIX)

    def release(self, id: str) -> None:
        """Let go of an id that was reserved: its manifest was written, or never will be."""
        self._storage.release(self.folder, id + SUFFIX)

    def holds(self, id: str) -> bool:
        """Tell whether a manifest is there now; a remote is asked."""
        return self._storage.exists(self.folder, id + SUFFIX)

    def enter(
        self, now: float, header: Callable[[str], dict[str, Any]], body: dict[str, Any]
    ) -> str:
        """Write a manifest under a new id, behind all that are there, and return that.

        `header` gives the header for an id: another writer may have taken the first that is tried.

        Raises:
            PlaceError: the system, or the server, refuses.
        """
        ensure_newest(self._storage)
        while True:
            id = self.next_id(now)
            try:
                self._storage.claim(self.folder, id + SUFFIX, self._encoded(header(id), body))
            except FileExistsError:
                self._storage.refresh()
                continue
            except OSError as error:
                raise refused(error, self._storage.location) from error
            self._written()
            return id

    def _written(self) -> None:
        """Note what is newest; have the cache know the ledger's id, by which manifests know each other."""
        note_newest(self._storage)
        id = self._storage.ledger_id
        if id and id not in self._index.ids(LEDGER):
            self._index.remember_headers(LEDGER, {id: {}})

    def write(self, path: str, header: dict[str, Any], body: dict[str, Any]) -> None:
        """Write a manifest to a path of this machine, to wait there."""
        with refusals(path):
            write_atomic(path, self._encoded(header, body))

    def _encoded(self, header: dict[str, Any], body: dict[str, Any]) -> bytes:
        if KNOWN not in body:
            body = {**body, KNOWN: known(self._storage)}
        return manifest.encode(header, body, self._storage.encryption)

    def take_in(self, id: str, path: str) -> None:
        """Give a manifest that waited at `path` its place, over what has it."""
        with refusals(self._storage.location):
            ensure_newest(self._storage)
            self._storage.place(self.folder, id + SUFFIX, path)
        self._written()

    def remove(self, ids: Iterable[str]) -> None:
        """Remove manifests for good; those that are gone already are fine."""
        with refusals(self._storage.location):
            self._storage.remove(self.folder, [id + SUFFIX for id in ids])

    def headers(self) -> list[dict[str, Any]]:
        """Return the headers of all manifests that can be read, the oldest first; see `unreadable`.

        They are taken from the cache where it has them.
        """
        ids = self.ids()
        known = self._index.headers(self.noun, ids)
        new: dict[str, dict[str, Any]] = {}
        for id in ids:
            if id not in known:
                with contextlib.suppress(LedgerDamaged):
                    new[id] = self._header(id)
        if new:
            self._index.remember_headers(self.noun, new)
        found = (known.get(id) or new.get(id) for id in ids)
        return [header for header in found if header is not None]

    def unreadable(self) -> list[LedgerDamaged]:
        """Return why headers cannot be read, of those that are not in the cache already."""
        known = self._index.ids(self.noun)
        faults = []
        for id in self.ids():
            if id not in known:
                try:
                    self._header(id)
                except LedgerDamaged as error:
                    faults.append(error)
        return faults

    def read(self, id: str) -> tuple[dict[str, Any], dict[str, Any]]:
        """Return header and body of one manifest, verified.

        Raises:
            LedgerDamaged: it is missing, or any byte of it is not what was written.
        """
        header, body = manifest.read(self.path(id), self._storage.encryption)
        self.check_body(body, where=self.path(id))
        return header, body

    def check_body(self, body: dict[str, Any], *, where: str) -> None:
        """Raise `LedgerDamaged` unless a body has what manifests of this kind need."""
        if missing := _NEEDED.get(self.noun, frozenset()) - body.keys():
            raise LedgerDamaged(f"it has no {', '.join(sorted(missing))}", where=where)

    def resolve(self, text: str) -> str:
        """Return the id that `text` stands for: an id, a unique beginning of one, or `latest`.

        Raises:
            UsageError: none fits, or more than one.
        """
        ids = self.ids()
        fitting = ids[-1:] if text == "latest" else [id for id in ids if id.startswith(text)]
        if len(fitting) == 1:
            return fitting[0]
        if not fitting:
            raise UsageError(
                f"there is no {self.noun} {text!r}",
                remedy=f"The ledger has {len(ids)}; the latest is {ids[-1]}."
                if ids
                else f"The ledger has no {self.noun} yet.",
            )
        raise UsageError(
            f"{text!r} begins the ids of {len(fitting)} {self.noun}s",
            remedy=f"Type more of it, for example {fitting[-1]}.",
        )

    def _header(self, id: str) -> dict[str, Any]:
        return manifest.read_header(self.path(id), self._storage.encryption)

    def path(self, id: str) -> str:
        """Return where a manifest lies on disk."""
        return self._storage.path(self.folder, id + SUFFIX)

"""Binder: a folder of manifests, each written once and found by id, prefix or as the latest."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from typing import Any

from ..errors import LedgerDamaged, UsageError
from ..places import refusals, refused, write_atomic, write_once
from . import manifest
from .ids import new_id
from .index import Index

__all__ = ["SUFFIX", "Binder", "read_manifest"]

SUFFIX = ".json.zst"


def read_manifest(path: str) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return header and body of a manifest, verified.

    Raises:
        LedgerDamaged: it is missing, any byte of it is not what was written, or it has another's name.
    """
    header, body = manifest.decode(_bytes(path), where=path)
    return _own(header, path), body


def _own(header: dict[str, Any], path: str) -> dict[str, Any]:
    if header.get("id") != os.path.basename(path).removesuffix(SUFFIX):
        raise LedgerDamaged(f"this is {header.get('id')} under another name", where=path)
    return header


def _bytes(path: str) -> bytes:
    try:
        with open(path, "rb") as file:
            return file.read()
    except FileNotFoundError as error:
        raise LedgerDamaged("it is missing", where=path) from error


class Binder:
    """The manifests in one folder of a ledger; `noun` is what people call them."""

    def __init__(self, folder: str, index: Index, *, noun: str) -> None:
        self._folder = folder
        self._index = index
        self.noun = noun

    def ids(self) -> list[str]:
        """Return all ids, the oldest first."""
        with refusals(self._folder):
            names = os.listdir(self._folder)
        return sorted(name[: -len(SUFFIX)] for name in names if name.endswith(SUFFIX))

    def enter(
        self, now: float, header: Callable[[str], dict[str, Any]], body: dict[str, Any]
    ) -> str:
        """Write a manifest under a new id, behind all that are there, and return that.

        `header` gives the header for an id: another writer may have taken the first that is tried.
        """
        while True:
            ids = self.ids()
            id = new_id(now, after=ids[-1] if ids else "")
            try:
                write_once(self.path(id), manifest.encode(header(id), body))
            except FileExistsError:
                continue
            except OSError as error:
                raise refused(error, self._folder) from error
            return id

    def write(
        self, id: str, header: dict[str, Any], body: dict[str, Any], *, path: str = ""
    ) -> None:
        """Write a manifest; it is there whole or not at all."""
        with refusals(self._folder):
            write_atomic(path or self.path(id), manifest.encode(header, body))

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
        return read_manifest(self.path(id))

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
        path = self.path(id)
        return _own(manifest.decode_header(_bytes(path), where=path), path)

    def path(self, id: str) -> str:
        """Return where a manifest lies on disk."""
        return os.path.join(self._folder, id + SUFFIX)

"""Binder: a folder of manifests, each written once and found by id, prefix or as the latest."""

from __future__ import annotations

import os
from typing import Any

from ..errors import LedgerDamaged, UsageError
from ..places import refusals, write_atomic
from . import manifest
from .index import Index

__all__ = ["Binder"]

_SUFFIX = ".json.zst"


class Binder:
    """The manifests in one folder of a ledger; `noun` is what people call them."""

    def __init__(self, folder: str, index: Index, *, noun: str) -> None:
        self._folder = folder
        self._index = index
        self._noun = noun

    def ids(self) -> list[str]:
        """Return all ids, the oldest first."""
        with refusals(self._folder):
            names = os.listdir(self._folder)
        return sorted(name[: -len(_SUFFIX)] for name in names if name.endswith(_SUFFIX))

    def write(
        self, id: str, header: dict[str, Any], body: dict[str, Any], *, path: str = ""
    ) -> None:
        """Write a manifest; it is there whole or not at all."""
        with refusals(self._folder):
            write_atomic(path or self.path(id), manifest.encode(header, body))

    def headers(self) -> list[dict[str, Any]]:
        """Return the headers of all manifests, the oldest first, from the cache where it has them.

        Raises:
            LedgerDamaged: one cannot be read.
        """
        ids = self.ids()
        known = self._index.headers(self._noun, ids)
        new = {id: self._header(id) for id in ids if id not in known}
        if new:
            self._index.remember_headers(self._noun, new)
        return [known.get(id) or new[id] for id in ids]

    def read(self, id: str) -> tuple[dict[str, Any], dict[str, Any]]:
        """Return header and body of one manifest, verified."""
        return manifest.decode(self._bytes(id), where=self.path(id))

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
                f"there is no {self._noun} {text!r}",
                remedy=f"The ledger has {len(ids)}; the latest is {ids[-1]}."
                if ids
                else f"The ledger has no {self._noun} yet.",
            )
        raise UsageError(
            f"{text!r} begins the ids of {len(fitting)} {self._noun}s",
            remedy=f"Type more of it, for example {fitting[-1]}.",
        )

    def _header(self, id: str) -> dict[str, Any]:
        return manifest.decode_header(self._bytes(id), where=self.path(id))

    def _bytes(self, id: str) -> bytes:
        try:
            with open(self.path(id), "rb") as file:
                return file.read()
        except FileNotFoundError as error:
            raise LedgerDamaged(f"the {self._noun} is missing", where=self.path(id)) from error

    def path(self, id: str) -> str:
        """Return where a manifest lies on disk."""
        return os.path.join(self._folder, id + _SUFFIX)

"""Results of a transplant that are kept in the ledger, so that work that was cut off goes on behind them.

What always holds: what is taken again is whole, to the byte, and is that of the same saves, rules and
choices.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from typing import Any

import msgspec
from blake3 import blake3
from msgspec import Struct

from ...cards import Install
from ...convert.bulk import results_of
from ...ledger import Ledger
from ...places import FolderPlace, MemoryPlace, Place
from ...statement import Statement

__all__ = ["Kept", "KeptResults", "key_of"]

_MADE_BY = 1  # raised when a later release of this program makes other bytes of the same
_SMALL = 1 << 18  # bytes of a result that is made again sooner than it is kept


class Kept(Struct, frozen=True):
    """The account of a result; `proven`: it was read again and compared."""

    key: str
    digest: bytes
    size_bytes: int
    statements: tuple[Statement, ...] = ()
    proven: bool = False

    @staticmethod
    def of(key: str, data: bytes, statements: tuple[Statement, ...] = (), *, proven: bool) -> Kept:
        """Return the account of bytes."""
        return Kept(key, blake3(data).digest(), len(data), statements, proven)


class KeptResults:
    """The results of one transplant; without a ledger nothing is kept."""

    def __init__(self, ledger: Ledger | None, place: Place) -> None:
        self._cache = results_of(ledger, place) if ledger is not None else None
        self._taken: list[str] = []

    def find(self, key: str) -> tuple[Kept, bytes] | None:
        """Return a result that an earlier run left, if it is whole."""
        if self._cache is None or not os.path.isdir(self._cache.folder):
            return None
        found = self._cache.find(key, Kept)
        if found is None:
            return None
        self._note(key)
        with open(self._cache.path(key), "rb") as file:
            return found, file.read()

    def keep(self, kept: Kept, data: bytes) -> Place:
        """Keep a result, unless it is made again as fast; return where it can be read from, under its key."""
        if self._cache is None or len(data) < _SMALL:
            return MemoryPlace({kept.key: data})
        if kept.key not in self._taken:
            self._cache.tidy()
        self._note(kept.key)
        self._cache.put(kept, data)
        return self.folder

    @property
    def folder(self) -> Place:
        """Where results are that were found, each under its key."""
        assert self._cache is not None
        return FolderPlace(self._cache.folder)

    def _note(self, key: str) -> None:
        if key not in self._taken:
            self._taken.append(key)

    @property
    def clear(self) -> Callable[[], None] | None:
        """What removes results that are in place; None if there is nothing to remove."""
        if self._cache is None or not self._taken:
            return None
        return partial(self._cache.clear, self._taken)


def key_of(install: Install, *told: Any) -> str:
    """Return what a result is kept under: of the same things told, and of the same card, it is the same."""
    return blake3(msgspec.json.encode([*told, _MADE_BY, card_state(install)])).hexdigest()[:40]


def card_state(install: Install) -> list[Any]:
    """Return what tells a card, and the layouts beside it, from those of another time."""
    folder = os.path.dirname(install.card.path) or "."
    found = [install.card.path, os.stat(install.card.path).st_mtime_ns]
    for entry in sorted(os.scandir(folder), key=lambda each: each.name):
        if entry.name.endswith(".layout"):
            found += [entry.name, entry.stat().st_mtime_ns]
    return found

"""Arrivals: what a person fetched by other means, held against the list of what was to be got."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable
from enum import StrEnum

from msgspec import Struct

from ..places import refusals
from .release_index import Part
from .sources import file_digest

__all__ = ["Arrival", "State", "check_arrivals"]

_FRESH_SECONDS = 10.0  # a file written to since then may still grow


class State(StrEnum):
    """How far a part is."""

    COMPLETE = "complete"
    GROWING = "growing"
    SHORT = "short"
    WRONG = "wrong"
    MISSING = "missing"


class Arrival(Struct, frozen=True):
    """A part, how far it is, and the file it was found in (whatever that is called)."""

    part: Part
    state: State
    path: str = ""
    have: int = 0


def check_arrivals(
    parts: Iterable[Part], folder: str, *, clock: Callable[[], float] = time.time
) -> tuple[Arrival, ...]:
    """Look in a folder for parts; a file is known by its content, an unfinished one by its name.

    Raises:
        PlaceError: the folder or a file cannot be read.
    """
    with refusals(folder):
        files = [entry for entry in os.scandir(folder) if entry.is_file()]
        sizes = {entry.path: entry.stat() for entry in files}
    digests: dict[str, str] = {}
    out = []
    for part in parts:
        of_size = [path for path, stat in sizes.items() if stat.st_size == part.size]
        whole = next((p for p in of_size if _digest(p, digests) == part.digest), "")
        if whole:
            out.append(Arrival(part, State.COMPLETE, whole, part.size))
            continue
        stem = part.name.rpartition(".")[0] or part.name
        named = [p for p in sizes if os.path.basename(p).startswith(stem)]
        if not named:
            out.append(Arrival(part, State.MISSING))
            continue
        path = max(named, key=lambda p: sizes[p].st_mtime)
        stat = sizes[path]
        fresh = clock() - stat.st_mtime < _FRESH_SECONDS
        if stat.st_size >= part.size:
            state = State.WRONG
        else:
            state = State.GROWING if fresh else State.SHORT
        out.append(Arrival(part, state, path, stat.st_size))
    return tuple(out)


def _digest(path: str, known: dict[str, str]) -> str:
    if path not in known:
        known[path] = file_digest(path)
    return known[path]

"""Fault: one thing that is wrong with a mod, and what mends it where that is safe."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct
from msgspec.structs import replace

from ..finding import Finding
from ..planning.rearranged import Rearranged

__all__ = ["Fault", "Mend", "error", "mended", "note", "renaming", "warning"]

Mend = Callable[[Rearranged], None]


class Fault(Struct, frozen=True):
    """A finding about the mod at a path; `mend` does what the finding's `fix` says, None if nothing does."""

    finding: Finding
    path: str
    mend: Mend | None = None


def error(code: str, what: str, path: str, **more: str) -> Fault:
    """Return a fault for which the mod will not load, or load wrongly."""
    return Fault(Finding.error(code, what, where=path, **more), path)


def warning(code: str, what: str, path: str, **more: str) -> Fault:
    """Return a fault that may go wrong."""
    return Fault(Finding.warning(code, what, where=path, **more), path)


def note(code: str, what: str, path: str, **more: str) -> Fault:
    """Return something worth knowing about a mod."""
    return Fault(Finding.note(code, what, where=path, **more), path)


def mended(fault: Fault, fix: str, mend: Mend) -> Fault:
    """Return a fault with what mends it."""
    return Fault(replace(fault.finding, fix=fix), fault.path, mend)


def renaming(path: str, to: str, reason: str) -> Mend:
    """Return what gives a file or folder another name."""
    return lambda made: made.move(path, to, reason)

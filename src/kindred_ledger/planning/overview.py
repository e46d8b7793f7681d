"""Overview: what is installed here, what is stored, what is unfinished, and what is worth doing next."""

from __future__ import annotations

import os
from collections.abc import Sequence

from msgspec import Struct

from ..cards import Install
from ..finding import Finding
from ..ledger import PROVEN, Entry, Ledger, Record, confirmable, not_undone
from ..ledger.migrations import unfinished_migrations
from ..places import roots_of
from .condition import condition_of
from .first_starts import is_started, transplants_in

__all__ = ["Installed", "NextStep", "Overview", "overview"]


class NextStep(Struct, frozen=True):
    """Something worth doing: the command, and why."""

    command: str
    why: str


class Installed(Struct, frozen=True):
    """An install: its title, what that is called, its version, where it is, its last entry, what is odd."""

    title: str
    name: str
    version: str
    place: str
    entry: Entry | None
    findings: tuple[Finding, ...]


class Overview(Struct, frozen=True):
    """What is here and what is stored; see the module.

    `entries` are those that are stored, the oldest first; `last` is the last change that applies.
    """

    installs: tuple[Installed, ...]
    entries: tuple[Entry, ...]
    last: Record | None
    unfinished: int
    next: tuple[NextStep, ...]


def overview(installs: Sequence[Install], ledger: Ledger | None) -> Overview:
    """Say what is known of some installs and of a ledger; None is none yet. Nothing is written.

    Raises:
        PlaceError: an install cannot be looked at.
    """
    entries = ledger.entries() if ledger is not None else []
    records = not_undone(ledger.records()) if ledger is not None else []
    applying = [record for record in records if not record.undoes or record.operation == "redo"]
    last = applying[-1] if applying else None
    found = tuple(_installed(install, entries) for install in installs)
    unfinished = _unfinished(ledger) if ledger is not None else 0
    steps = (
        *_recovering(unfinished),
        *_migrating(ledger),
        *_keeping(found),
        *_starting(installs, ledger),
        *_deciding(ledger, last),
        *_testing(ledger, entries),
    )
    return Overview(found, tuple(entries), last, unfinished, steps)


def _installed(install: Install, entries: Sequence[Entry]) -> Installed:
    roots = set(roots_of(install.place).values())
    of_it = [each for each in entries if each.complete and roots & set(each.roots.values())]
    return Installed(
        install.card.title,
        install.card.name,
        install.version.text if install.version else "",
        install.place.location,
        of_it[-1] if of_it else None,
        condition_of(install),
    )


def _unfinished(ledger: Ledger) -> int:
    try:
        return sum(name.startswith("change-") for name in os.listdir(ledger.folder("work")))
    except OSError:
        return 0


def _recovering(unfinished: int) -> list[NextStep]:
    return [NextStep("kindred recover", "a change was cut off")] if unfinished else []


def _migrating(ledger: Ledger | None) -> list[NextStep]:
    """Return the migrations that are under way."""
    return [
        NextStep(
            f"kindred migrate {_as_word(begun.install)}",
            f"its migration to {begun.to} is not finished: where it is, and what it waits for",
        )
        for begun in (unfinished_migrations(ledger) if ledger is not None else ())
    ]


def _keeping(installs: Sequence[Installed]) -> list[NextStep]:
    return [
        NextStep(f"kindred backup {_as_word(each.place)}", "there is no backup of it")
        for each in installs
        if each.entry is None
    ]


def _starting(installs: Sequence[Install], ledger: Ledger | None) -> list[NextStep]:
    """Return the games that were not started yet with what was set into a save."""
    out: list[NextStep] = []
    for install in installs if ledger is not None else ():
        assert ledger is not None
        made = transplants_in(install, ledger)
        tree = install.place.survey() if made else None
        for each in made:
            assert tree is not None
            if not is_started(install, tree, ledger, each)[0]:
                command = f"kindred world started {_as_word(install.place.location)}"
                name = each[1].save.rpartition("/")[2]
                out.append(NextStep(command, f"once you started the game with {name}"))
    return out


def _deciding(ledger: Ledger | None, last: Record | None) -> list[NextStep]:
    if ledger is None or last is None or last.id not in {each.id for each in confirmable(ledger)}:
        return []
    return [
        NextStep("kindred undo", f"takes the last change back: {last.summary}"),
        NextStep("kindred ledger confirm", "if that change turned out well"),
    ]


def _testing(ledger: Ledger | None, entries: Sequence[Entry]) -> list[NextStep]:
    if ledger is None or not entries or ledger.marks(PROVEN):
        return []
    return [NextStep("kindred ledger drill", "tests that an entry can be restored")]


def _as_word(path: str) -> str:
    """Return a path as it is typed in a shell, relative where it lies below the working folder."""
    inner = os.path.relpath(path)
    shown = path if inner.startswith("..") else inner
    return f'"{shown}"' if " " in shown else shown

"""Migrations that were begun: what the ledger's marks say of them.

A mark is never changed. What is noted later is a mark of its own, which names the step it is about and what
the step before that ended with: so that what was noted before something was taken back counts no more.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec
from msgspec import Struct, field
from msgspec.structs import replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from .ledger import Ledger

__all__ = [
    "BACK",
    "CLOSED",
    "DONE",
    "ENDED",
    "SIGNED",
    "MigrationBegun",
    "MigrationNote",
    "begun_migrations",
    "notes_of",
    "signed_of",
    "unfinished_migrations",
    "unsigned_migration",
]

_BEGUN, _NOTE = "migration", "migration note"
_SIGN_OFF = "sign off"
DONE, BACK = "done", "back"  # what a note says of a step: that it is done, that it was taken back
SIGNED = "signed"  # a part was looked at
CLOSED = "closed"  # a program that was asked to end
ENDED = "ended"  # what a note says of the whole


class MigrationBegun(Struct, frozen=True, omit_defaults=True):
    """A migration that was begun: of which install, to what, by which runbook.

    `install` is the folder of the program, `source` and `to` are builds, `said` what was said of the first
    one where no evidence tells it. `runbook` is the whole of it, as JSON. `allow` are the losses that were
    consented to; `release` and `old` are named as operations name them.

    >>> kl.MigrationBegun("/games/m", "mossferry", "new.zip", "1.4", "2.0", {}).to
    '2.0'
    """

    install: str
    title: str
    release: str
    source: str
    to: str
    runbook: Mapping[str, Any]
    old: str = ""
    said: str = ""
    folders: Mapping[str, str] = field(default_factory=dict)
    allow: tuple[str, ...] = ()
    allow_loss: bool = False
    id: str = ""
    when: str = ""

    def enter(self, ledger: Ledger) -> MigrationBegun:
        """Note in a ledger that it begins; return it with its id."""
        note = msgspec.json.encode(replace(self, id="", when="")).decode()
        mark = ledger.mark(_BEGUN, self.install, note=note)
        return replace(self, id=mark.id, when=mark.when)


class MigrationNote(Struct, frozen=True, omit_defaults=True):
    """What was noted of a step: "done", "waiting", "signed", "closed"; or of the whole: "ended".

    `after` is what the step before ended with; `state` how the files were that show what a person does;
    `part` what was signed off, `by` whom.

    >>> kl.MigrationNote("signed", "sign off", part="saves", by="Ada").by
    'Ada'
    """

    what: str
    step: str = ""
    after: str = ""
    told: str = ""
    state: Mapping[str, str] = field(default_factory=dict)
    part: str = ""
    by: str = ""
    entry: str = ""
    id: str = ""
    when: str = ""

    def enter(self, ledger: Ledger, migration: str) -> MigrationNote:
        """Note it in a ledger; return it with its id."""
        note = msgspec.json.encode(replace(self, id="", when="")).decode()
        mark = ledger.mark(_NOTE, migration, note=note)
        return replace(self, id=mark.id, when=mark.when)


def begun_migrations(ledger: Ledger) -> list[MigrationBegun]:
    """Return the migrations that were begun, the oldest first."""
    return [
        replace(msgspec.json.decode(mark.note, type=MigrationBegun), id=mark.id, when=mark.when)
        for mark in ledger.marks(_BEGUN)
    ]


def notes_of(ledger: Ledger, migration: str) -> list[MigrationNote]:
    """Return what was noted of a migration, the oldest first."""
    return [
        replace(msgspec.json.decode(mark.note, type=MigrationNote), id=mark.id, when=mark.when)
        for mark in ledger.marks(_NOTE)
        if mark.subject == migration
    ]


def unfinished_migrations(ledger: Ledger) -> list[MigrationBegun]:
    """Return the migrations that were begun and did not end, the oldest first."""
    begun = begun_migrations(ledger)
    if not begun:
        return []
    ended = {
        mark.subject
        for mark in ledger.marks(_NOTE)
        if msgspec.json.decode(mark.note, type=MigrationNote).what == ENDED
    }
    return [each for each in begun if each.id not in ended]


def unsigned_migration(ledger: Ledger, install: str) -> MigrationBegun | None:
    """Return the unfinished migration of a program's folder that has a sign-off which is not done."""
    for begun in unfinished_migrations(ledger):
        if begun.install == install:
            steps = [row for row in begun.runbook["steps"] if row["do"] == _SIGN_OFF]
            last = {
                note.step: note.what
                for note in notes_of(ledger, begun.id)
                if note.what in (DONE, BACK)
            }
            if any(last.get(row.get("name") or row["do"]) != DONE for row in steps):
                return begun
    return None


def signed_of(ledger: Ledger, entry: str) -> list[MigrationNote]:
    """Return what was signed off of the migration that stored an entry at its begin, a part once."""
    found = [
        (mark.subject, msgspec.json.decode(mark.note, type=MigrationNote), mark.when)
        for mark in ledger.marks(_NOTE)
    ]
    stored = {migration for migration, note, _ in found if note.entry == entry}
    last = {
        note.part: replace(note, when=when)
        for migration, note, when in found
        if migration in stored and note.what == SIGNED
    }
    return [*last.values()]

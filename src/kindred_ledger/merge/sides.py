"""Three sides and the table that decides: what each of two descendants did to what both came from.

`base` is what both came from, `mine` the person's, `theirs` what arrives. The table is the same for files,
records, fields and lines; what counts as equal is said by whoever asks.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from enum import Enum, StrEnum
from typing import Any, Final

from msgspec import Struct

from ..finding import Finding, Sides

__all__ = ["ABSENT", "Absent", "Case", "Question", "Side", "case_of", "shown", "told"]


class Absent(Enum):
    """The value of a side that has nothing there."""

    ABSENT = "absent"

    def __repr__(self) -> str:
        return "nothing"


ABSENT: Final = Absent.ABSENT


class Side(StrEnum):
    """Who changed something since the common base."""

    NOBODY = "nobody"
    MINE = "mine"
    THEIRS = "theirs"
    BOTH = "both"


class Case(Enum):
    """A row of the table: who changed something, and how people say that.

    >>> three = kl.Three(base=b"tide = 1\\n", mine=b"tide = 2\\n", theirs=b"tide = 3\\n")
    >>> conflict = kl.merge_files(three, kl.How("settings.toml")).conflicts[0]
    >>> conflict.where, conflict.case is kl.Case.BOTH_CHANGED
    ('tide', True)
    """

    UNCHANGED = (Side.NOBODY, "unchanged")
    AGREED = (Side.NOBODY, "both made the same change")
    BOTH_REMOVED = (Side.NOBODY, "both removed it")
    I_CHANGED = (Side.MINE, "you changed it")
    I_ADDED = (Side.MINE, "you added it")
    I_REMOVED = (Side.MINE, "you removed it")
    THEY_CHANGED = (Side.THEIRS, "they changed it")
    THEY_ADDED = (Side.THEIRS, "they added it")
    THEY_REMOVED = (Side.THEIRS, "they removed it")
    ONLY_MINE = (Side.MINE, "only you have it")  # where nobody knows what both came from
    ONLY_THEIRS = (Side.THEIRS, "only they have it")
    BOTH_CHANGED = (Side.BOTH, "both changed it")
    BOTH_ADDED = (Side.BOTH, "both added it, not the same")
    REMOVED_AND_CHANGED = (Side.BOTH, "you removed it, they changed it")
    CHANGED_AND_REMOVED = (Side.BOTH, "you changed it, they removed it")
    DIFFERENT = (Side.BOTH, "they differ, and what both came from is not known")

    def __init__(self, changed_by: Side, said: str) -> None:
        self.changed_by = changed_by
        self.said = said

    @property
    def is_conflict(self) -> bool:
        """Whether neither side can be taken without a decision."""
        return self.changed_by is Side.BOTH


class Question(Struct, frozen=True):
    """A conflict inside a file: where, and what each side has there; `ABSENT` where it has nothing."""

    where: str
    case: Case
    base: Any
    mine: Any
    theirs: Any

    def __str__(self) -> str:
        return f"{self.where or 'the whole'}: {self._what}"

    def sides(self) -> Sides:
        """Return what each side has, as text."""
        return Sides(*(_text(value) for value in (self.base, self.mine, self.theirs)))

    @property
    def _what(self) -> str:
        return f"{self.case.said}: {shown(self.mine)} and {shown(self.theirs)}"

    def finding(self, path: str, *, remedy: str) -> Finding:
        """Return it as a conflict of the file at a path."""
        return Finding.conflict(
            "both-changed",
            self._what,
            where=path,
            field=self.where,
            remedy=remedy,
            sides=self.sides(),
        )


def _text(value: Any) -> str:
    """Return a value as text, exactly: resolutions are found again by it."""
    if isinstance(value, (dict, list)):
        return json.dumps(value, ensure_ascii=False, default=str)
    return "" if value is ABSENT else str(value)


def shown(value: Any, most: int = 40) -> str:
    """Return a value in a few words, for messages."""
    text = "nothing" if value is ABSENT or value == "" else told(value)
    return text if len(text) <= most else f"{text[: most - 1]}…"


def told(value: Any) -> str:
    """Return a value in a line: a record as its fields, `ABSENT` as nothing.

    >>> told({"@id": "7", "stops": ["Reed", "Fen"]})
    'id 7, stops Reed, Fen'
    """
    if value is ABSENT:
        return ""
    if isinstance(value, dict):
        return ", ".join(f"{str(key).lstrip('@')} {told(inner)}" for key, inner in value.items())
    if isinstance(value, list):
        return ", ".join(map(told, value))
    return " ".join(str(value).split())


def case_of(
    base: Any, mine: Any, theirs: Any, *, same: Callable[[Any, Any], bool], known: bool = True
) -> Case:
    """Return the row for three values, each `ABSENT` where a side has nothing.

    `known` False says that there is no base: then only equal values agree, what one side has alone stands,
    and every other difference is a conflict.
    """
    had, have, has = base is not ABSENT, mine is not ABSENT, theirs is not ABSENT
    if not known:
        if have and has:
            return Case.UNCHANGED if same(mine, theirs) else Case.DIFFERENT
        return Case.ONLY_MINE if have else Case.ONLY_THEIRS
    if not had:
        if have and has:
            return Case.AGREED if same(mine, theirs) else Case.BOTH_ADDED
        return Case.I_ADDED if have else Case.THEY_ADDED
    if not have and not has:
        return Case.BOTH_REMOVED
    if not have:
        return Case.I_REMOVED if same(base, theirs) else Case.REMOVED_AND_CHANGED
    if not has:
        return Case.THEY_REMOVED if same(base, mine) else Case.CHANGED_AND_REMOVED
    if same(mine, theirs):
        return Case.UNCHANGED if same(base, mine) else Case.AGREED
    if same(base, mine):
        return Case.THEY_CHANGED
    return Case.I_CHANGED if same(base, theirs) else Case.BOTH_CHANGED

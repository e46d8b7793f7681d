"""Deciding: rules that were typed, or taken before, for what two sides changed."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Sequence

from ..changes import Changeset
from ..errors import UsageError
from ..finding import Finding, Sides
from ..merge import (
    Choice,
    Policy,
    Resolution,
    Rule,
    read_resolutions,
    rules_of,
    with_conflicts,
    write_resolutions,
)
from ..places import refusals, write_atomic
from ..small_files import read_small

__all__ = [
    "note_conflicts",
    "refuse_undecided",
    "resolutions_in",
    "rules_for",
    "taken",
    "typed_rules",
]

_LARGEST = 64 << 20


def typed_rules(**ways: Iterable[str]) -> tuple[Rule, ...]:
    """Return the rules of what was typed for each choice: `mine=["*.ini", "rules.json:tides"]`.

    Raises:
        UsageError: a pattern cannot be read.
    """
    return tuple(
        Rule.read(Choice(choice), text) for choice, texts in ways.items() for text in texts
    )


def refuse_undecided(policy: Policy, answered: Collection[str]) -> None:
    """Raise `UsageError` if something typed of a field decided nothing."""
    for text in policy.undecided(answered):
        raise UsageError(
            f"{text!r} decides nothing: no such field is in question",
            remedy="Leave it out, and look which fields are: the preview names each with its file.",
        )


def resolutions_in(path: str) -> tuple[Resolution, ...]:
    """Return what a file of resolutions says; nothing, if it is not there yet.

    Raises:
        UsageError: it is no such file.
    """
    if not path or not os.path.exists(path):
        return ()
    return read_resolutions(read_small(path, most=_LARGEST).decode("utf-8", "replace"), where=path)


def taken(conflict: Finding, take: str) -> Resolution:
    """Return the decision of a conflict that has sides: `mine` or `theirs`."""
    sides = conflict.sides or Sides("", "", "")
    return Resolution(
        conflict.where, conflict.field, sides.base, sides.mine, sides.theirs, take=take
    )


def note_conflicts(path: str, change: Changeset, decided: Sequence[Resolution] = ()) -> None:
    """Put what was decided, and the conflicts that are still open, into a file of resolutions.

    Without any the file is left as it is.

    Raises:
        PlaceError: the file cannot be written.
    """
    if change.conflicts or decided:
        known = {(each.file, each.field): each for each in (*resolutions_in(path), *decided)}
        made = write_resolutions(with_conflicts(known.values(), change.conflicts))
        with refusals(path):
            write_atomic(path, made.encode())


def rules_for(
    path: str, decided: Iterable[Resolution] = (), **ways: Iterable[str]
) -> tuple[Rule, ...]:
    """Return the rules of a file of resolutions, of what was decided meanwhile, and of what was typed.

    The later wins. `ways` are as those of `typed_rules`.

    Raises:
        UsageError: a pattern, or the file, cannot be read.
    """
    return (*rules_of(resolutions_in(path)), *rules_of(decided), *typed_rules(**ways))

"""Deciding: rules that were typed, or taken before, for what two sides changed."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable

from ..changes import Changeset
from ..errors import UsageError
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

__all__ = ["note_conflicts", "refuse_undecided", "resolutions_in", "rules_in", "typed_rules"]

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


def note_conflicts(path: str, change: Changeset) -> None:
    """Put the conflicts that are still open into a file of resolutions; one without any is left as it is.

    Raises:
        PlaceError: the file cannot be written.
    """
    if change.conflicts:
        made = write_resolutions(with_conflicts(resolutions_in(path), change.conflicts))
        with refusals(path):
            write_atomic(path, made.encode())


def rules_in(path: str) -> tuple[Rule, ...]:
    """Return the rules that a file of resolutions amounts to."""
    return rules_of(resolutions_in(path))

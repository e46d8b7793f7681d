"""Conflicts decided one by one at a terminal: the three sides beside each other, and an answer for each."""

from __future__ import annotations

import sys
from typing import Any

import click

from ..changes import Changeset
from ..finding import Finding
from ..planning.deciding import note_conflicts, taken
from ..planning.operation import Operation
from . import drawing
from .applying import carry_out
from .session import Session

__all__ = ["decide_and_carry_out"]

_ANSWERS = {"m": "mine", "t": "theirs"}
_LATER = "l"


def decide_and_carry_out(
    session: Session, made: Operation, *, resolutions: str, **options: Any
) -> int:
    """Compute an operation and carry it out; who is at a terminal is asked about conflicts first.

    What is decided there, and what is still open, is put into the file of resolutions, if one is named.
    """

    def computed() -> Changeset:
        context = session.context
        change = made.compute(context)
        if resolutions:
            note_conflicts(resolutions, change, context.decided)
        return change

    def decided(change: Changeset) -> Changeset | None:
        return computed() if _asked(session, change.conflicts) else None

    return carry_out(session, computed(), decided=decided, **options)


def _asked(session: Session, conflicts: tuple[Finding, ...]) -> bool:
    """Ask about each conflict that has sides; return whether any was decided."""
    open_ones = [each for each in conflicts if each.sides is not None]
    if not open_ones or not sys.stdin.isatty():
        return False
    if not click.confirm("\nDecide one by one now?", default=False, err=True):
        return False
    answers = []
    for number, each in enumerate(open_ones, 1):
        _draw(session, each, f"{number} of {len(open_ones)}")
        answer = click.prompt(
            "    Take [m]ine, [t]heirs, or decide [l]ater",
            type=click.Choice([*_ANSWERS, _LATER], case_sensitive=False),
            show_choices=False,
            err=True,
        )
        if answer != _LATER:
            answers.append(taken(each, _ANSWERS[answer]))
    session.context.decided += tuple(answers)
    return bool(answers)


def _draw(session: Session, conflict: Finding, which: str) -> None:
    """Draw one conflict: where it is, and what each side has."""
    sides = conflict.sides
    assert sides is not None
    drawing.heading(session.out, f"{which}   {conflict.field or 'the whole file'}", conflict.where)
    cells = [side or "(nothing)" for side in (sides.base, sides.mine, sides.theirs)]
    if not conflict.field:
        cells = [side[:12] for side in cells]  # digests
    drawing.rows(session.out, ("    before", "mine", "theirs"), [(f"    {cells[0]}", *cells[1:])])

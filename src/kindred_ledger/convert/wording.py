"""Wording: what a hop between two versions does, step by step, in words."""

from __future__ import annotations

from msgspec import Struct

from ..cards import Format
from ..cards.steps import read_step, spelled
from ..formats import Path, changes_between, format_path
from .routes import Hop

__all__ = ["StepDescription", "describe_step"]


class StepDescription(Struct, frozen=True):
    """One thing a hop does, and whether it loses something; or a condition of it."""

    text: str
    loses: bool = False
    is_condition: bool = False


def describe_step(format: Format, hop: Hop) -> list[StepDescription]:
    """Return what a hop does: the steps of the card, then what the layout does by itself."""
    out = []
    taken: list[Path] = []  # by steps, each with a line of its own if that is a loss
    made: list[Path] = []
    for row in format.table.steps[hop.number].do if hop.number >= 0 else ():
        step = read_step(row, format.tables)
        out.append(StepDescription(step.describe(), step.loses, step.is_condition))
        taken += step.takes
        made += step.makes
    if format.layout is not None:
        for each in changes_between(format.layout, int(hop.source.text), int(hop.target.text)):
            if each.derived or any(
                _lies_in(each.path, at) for at in (made if each.comes else taken)
            ):
                continue
            name = format_path(each.path)
            if each.comes:
                out.append(StepDescription(f"{name} is new: {spelled(each.default)}"))
            else:
                out.append(
                    StepDescription(f"{name} goes: format {hop.target} has none", loses=True)
                )
    return out


def _lies_in(path: Path, other: Path) -> bool:
    return path[: len(other)] == other

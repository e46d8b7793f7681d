"""Fitting: a change as its place can take it.

What the place cannot hold is refused; what makes no difference there is left out.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TypeVar

from msgspec.structs import replace

from ..errors import UnsafeName
from ..ledger import Undoes, relation_of
from ..places import (
    DIR,
    NO_LIMITS,
    StorageLimits,
    collisions,
    limits_at,
    limits_by_part_of,
    parents,
    tells_names_apart,
)
from .actions import Action
from .folder_times import is_of_time
from .plan import Plan

__all__ = ["fitted"]

_P = TypeVar("_P", bound=Plan)
_FITTED = "_fitted"  # of a plan, in what it remembers: it was fitted to its place


def fitted(plan: _P) -> _P:
    """Return a change without the actions that make no difference to its place; asks the disk.

    Raises:
        UnsafeName: something the place cannot hold would arrive, or names that many systems take for one.
    """
    if plan.__dict__.get(_FITTED):
        return plan
    limits_by_part = limits_by_part_of(plan.place)
    if any(limits != NO_LIMITS for limits in limits_by_part.values()):
        kept = _held(plan.actions, limits_by_part, plan.place.location)
        if len(kept) < len(plan.actions):
            plan = replace(plan, actions=tuple(kept))
    _check_names(plan)
    plan.__dict__[_FITTED] = True
    return plan


def _check_names(plan: Plan) -> None:
    """Refuse names beside others that many systems take for the same.

    Such stand side by side only where both stood together before, on a disk that holds both.
    """
    added = {action.path for action in plan.actions if action.before is None}
    undoes = relation_of(plan.relations, Undoes) is not None
    for one, other in collisions(plan.after) if added else ():
        if one not in added and other not in added:
            continue
        if not (undoes or _stood_together(plan, one, other)) or not tells_names_apart(
            plan.place, plan.before
        ):
            raise UnsafeName(
                f"{one} and {other} are one file on systems that ignore case or Unicode form",
                remedy="Rename one of them, then run this again.",
            )


def _stood_together(plan: Plan, one: str, other: str) -> bool:
    return bool(plan.as_kept and plan.offered and {one, other} <= plan.offered.keys())


def _held(
    actions: Iterable[Action], limits_by_part: Mapping[str, StorageLimits], where: str
) -> list[Action]:
    """Return the actions that make a difference to a place that cannot hold all there is.

    Raises:
        UnsafeName: something it cannot hold would arrive.
    """
    filled = {part for action in actions if action.after for part in parents(action.path)}
    kept = []
    for action in actions:
        limits = limits_at(limits_by_part, action.path)
        before, after = action.before, action.after
        if (
            before is not None
            and after is not None
            and not is_of_time(action)  # else the change would give the folder a time of its own
            and not limits.tells_apart(before, after)
        ):
            continue
        why = limits.why_not(action.path, after) if after is not None else ""
        if why:
            raise UnsafeName(
                f"{action.path} is {why}",
                where=where,
                remedy="Leave it out (`only=PATTERN` picks what to bring), or choose another place.",
            )
        is_folder = after is not None and after.kind == DIR
        if is_folder and not limits.empty_folders and action.path not in filled:
            continue
        kept.append(action)
    return kept

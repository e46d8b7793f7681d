"""Mods after a change: which of those that would be there do not fit the build, told before it is made."""

from __future__ import annotations

from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from ..cards import Card
from ..cards.mods import Mod, ModVerdict
from ..changes.plan import Plan
from ..errors import KindredError
from ..finding import Finding
from ..places import FILE, Place, Tree
from ..versions import Version
from ..wording import count
from .modded import Modded
from .rearranged import Rearranged

__all__ = ["Held", "held_mods", "with_mod_findings"]

_P = TypeVar("_P", bound=Plan)
_SHOWN = 5


def with_mod_findings(
    change: _P, card: Card, build: Version | None, *, arriving: bool = False
) -> _P:
    """Return a change with what it should be known of the mods that would be there with a build.

    `arriving`: only of those that the change brings.
    """
    if not card.mods or build is None:
        return change
    touched = [action.path for action in change.actions]
    if arriving and not any(_lies_in(path, card) for path in touched):
        return change
    try:
        found = Modded(_as_it_would_be(change, card), change.after, card.mods, card)
        judged = found.judged(build)
    except KindredError as odd:
        told = Finding.warning(
            "mods-unread", f"which mods fit is not known: {odd.what}", where=odd.where
        )
        return replace(change, findings=(*change.findings, told))
    new = [
        each
        for each in judged.findings
        if not arriving
        or any(path.startswith(f"{each.where}/") or path == each.where for path in touched)
    ]
    return replace(change, findings=(*change.findings, *new)) if new else change


def _lies_in(path: str, card: Card) -> bool:
    return any(
        path.startswith(f"{folder}/") for kind in card.mods.values() for folder in kind.folders
    )


def _as_it_would_be(change: Plan, card: Card) -> Place:
    """Return the place as a change leaves it, as far as mods and the lists of them go."""
    made = Rearranged(change.place, change.before)
    lists = {
        table.file.strip("/")
        for kind in card.mods.values()
        for table in (kind.table.on, kind.table.original)
        if table is not None
    }
    for action in change.actions:
        if action.source is None or action.after is None or action.after.kind != FILE:
            continue
        if action.path in lists or _lies_in(action.path, card):
            made.put_from(action.path, action.after, action.source, action.source_path, "")
    return made


class Held(Struct, frozen=True):
    """Mods that are not brought to an install, and what says so."""

    mods: tuple[Mod, ...]
    finding: Finding

    def __call__(self, path: str) -> bool:
        """Tell whether a path is of none of them."""
        return not any(path == mod.path or path.startswith(f"{mod.path}/") for mod in self.mods)


def held_mods(
    card: Card, place: Place, tree: Tree, now: Tree, build: Version | None, *, remedy: str
) -> Held | None:
    """Return the mods of a place that are not to be brought to an install of a build; None if all may be.

    Those are not there now, and do not fit the build, or nobody knows whether they do. `remedy` says how one
    is brought all the same.
    """
    if not card.mods or build is None:
        return None
    judged = Modded(place, tree, card.mods, card).judged(build)
    held = [
        fit for fit in judged.of(ModVerdict.DISABLE, ModVerdict.UNKNOWN) if fit.mod.path not in now
    ]
    if not held:
        return None
    told = [f"{fit.mod}: {fit.why}" for fit in held]
    more = f" and {len(told) - _SHOWN} more" if len(told) > _SHOWN else ""
    what = f"{count(len(held), 'old mod')} would come back and not fit {build}, so they stay out:"
    what += f" {'; '.join(told[:_SHOWN])}{more}"
    finding = Finding.warning("mods-held", what, remedy=remedy)
    return Held(tuple(fit.mod for fit in held), finding)

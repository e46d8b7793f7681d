"""Positions: where things that move stand in the new game, kind by kind, each after what it is near to."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from msgspec import Struct

from ...errors import FormatError, UsageError
from .fates import MOVED, TO_MATCHED, TO_MOVED, Fates
from .placing import Placed, Terrain, place_things, read_terrain
from .things import Things

__all__ = ["NO_PLACE", "Positions", "find_places"]

NO_PLACE = "no place there holds it"


class Positions(Struct, frozen=True):
    """Where things of one kind are in the new game, those that move: `(n,)` by row of the old one."""

    x: Any
    z: Any
    moved: Any  # (n,) bool: another place than they would have had


def find_places(fates: Fates) -> dict[str, Positions]:
    """Find places for all that moves, kind by kind; what has none waits in the bundle.

    Raises:
        FormatError: the terrain, or positions, cannot be read.
        UsageError: the kinds follow each other's positions in a circle.
    """
    old, new = fates.old, fates.new
    table = old.rules.terrain
    out: dict[str, Positions] = {}
    wanted = [kind for kind in old.kinds if old.rule(kind).x and old.count(kind)]
    terrain: Terrain | None = None
    for kind in _in_order(old, wanted):
        rule = old.rule(kind)
        x, z = (old.tables[kind].measures(field) for field in (rule.x, rule.z))
        x, z = (each.astype(np.int64) if each.dtype.kind in "iu" else each for each in (x, z))
        x, z = _shifted(fates, kind, x, z, out)
        if table is None or not (rule.on or rule.alone):
            out[kind] = Positions(x, z, np.zeros(len(x), np.bool_))
            continue
        terrain = terrain or _terrain(new, table)
        moves = fates.rows(kind, MOVED)
        occupied = None
        if new.count(kind):
            occupied = tuple(new.tables[kind].measures(field) for field in (rule.x, rule.z))
        placed: Placed = place_things(
            terrain, x[moves], z[moves], on=rule.on, within=rule.within, alone=rule.alone,
            taken=occupied,
        )  # fmt: skip
        moved, lost = np.zeros(len(x), np.bool_), np.zeros(len(x), np.bool_)
        x, z = x.copy(), z.copy()
        x[moves], z[moves], moved[moves], lost[moves] = (
            placed.x,
            placed.z,
            placed.moved,
            placed.lost,
        )
        fates.bundle(kind, lost, NO_PLACE)
        out[kind] = Positions(x, z, moved)
    fates.settle()
    return out


def _terrain(things: Things, table: Any) -> Terrain:
    try:
        return read_terrain(things.document, table)
    except FormatError as error:
        raise error.inside(things.where) from None


def _in_order(things: Things, kinds: list[str]) -> list[str]:
    """Return kinds with those first whose moves others follow."""
    done: list[str] = []
    waiting = list(kinds)
    while waiting:
        ready = [kind for kind in waiting if not _leaders(things, kind) & ({*waiting} - {kind})]
        if not ready:
            raise UsageError(
                f"the positions of {' and '.join(waiting)} follow each other in a circle",
                where=things.where,
                remedy="Put `near` of these kinds in the card right.",
            )
        done += ready
        waiting = [kind for kind in waiting if kind not in ready]
    return done


def _leaders(things: Things, kind: str) -> set[str]:
    near = things.rule(kind).near
    found = [link for link in things.links_of(kind) if link.field == near]
    return {things.kinds[n] for link in found for n in link.kinds}


def _shifted(
    fates: Fates, kind: str, x: Any, z: Any, placed: Mapping[str, Positions]
) -> tuple[Any, Any]:
    """Return positions moved as far as what they are near to has moved."""
    old, new = fates.old, fates.new
    near = old.rule(kind).near
    x, z = x.copy(), z.copy()
    for link in old.links_of(kind) if near else ():
        if link.field != near or link.is_list:
            continue
        ends = fates.ends(link)
        for number in link.kinds:
            leader = old.kinds[number]
            rule = old.rule(leader)
            if not rule.x:
                continue
            before = [old.tables[leader].measures(field) for field in (rule.x, rule.z)]
            some = np.flatnonzero(link.leads_to(number) & (ends.end == TO_MATCHED))
            if len(some):
                after = [new.tables[leader].measures(field) for field in (rule.x, rule.z)]
                for mine, old_at, new_at in zip((x, z), before, after, strict=True):
                    shift = new_at[ends.there[some]].astype(np.float64) - old_at[link.row[some]]
                    mine[link.rows[some]] += shift.astype(mine.dtype)
            some = np.flatnonzero(link.leads_to(number) & (ends.end == TO_MOVED))
            if len(some) and leader in placed and leader != kind:
                for mine, old_at, new_at in zip(
                    (x, z), before, (placed[leader].x, placed[leader].z), strict=True
                ):
                    shift = new_at[link.row[some]].astype(np.float64) - old_at[link.row[some]]
                    mine[link.rows[some]] += shift.astype(mine.dtype)
    return x, z

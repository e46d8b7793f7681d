"""What is to be said of a transplant: how much moves, what waits and why, which links lead nowhere."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from msgspec import Struct

from ...finding import Finding
from ...wording import count
from .fates import BUNDLED, EMPTIED, LED_NOWHERE, MOVED, Fates
from .matching import match_things
from .positions import NO_PLACE
from .setting_in import SettingIn
from .things import Things, nowhere

__all__ = [
    "KindCounts", "LeftLink", "OtherPlace", "counts_of", "findings_of", "left_links", "links_left",
    "other_places",
]  # fmt: skip

_SHOWN = 5
_LISTED = 10_000


class KindCounts(Struct, frozen=True):
    """How many things of a kind the old game has, and what becomes of them.

    >>> kl.KindCounts("crew", 12, 9, 0, 1, 2).stays
    2
    """

    kind: str
    count: int
    moved: int
    matched: int
    bundled: int
    stays: int


class OtherPlace(Struct, frozen=True):
    """A thing that gets the nearest place which holds it, and where that is.

    >>> kl.OtherPlace("ferries", "Otter", 37, 46).x
    37
    """

    kind: str
    name: str
    x: float
    z: float


class LeftLink(Struct, frozen=True):
    """A link of something that moves which will lead nowhere, and why.

    >>> kl.LeftLink("crew", "Ada Fenn", "home", "the new game does not have it").field
    'home'
    """

    kind: str
    name: str
    field: str
    why: str


def other_places(setting: SettingIn) -> tuple[OtherPlace, ...]:
    """Return all things that get other places, up to a number that somebody reads."""
    out: list[OtherPlace] = []
    for kind, places in setting.places.items():
        moves = places.moved & (setting.fates.state[kind] == MOVED)
        rows = np.flatnonzero(moves)[: _LISTED - len(out)].tolist()
        out += [
            OtherPlace(kind, name, places.x[row].item(), places.z[row].item())
            for name, row in zip(setting.old.told(kind, rows), rows, strict=True)
        ]
    return tuple(out)


def left_links(fates: Fates) -> tuple[LeftLink, ...]:
    """Return all links of what moves that will lead nowhere, up to a number that somebody reads."""
    out: list[LeftLink] = []
    for ends in fates.all_ends():
        link = ends.link
        for why, which in fates.why_emptied(link, ends.end == EMPTIED).items():
            rows = link.rows[which][: _LISTED - len(out)].tolist()
            names = fates.old.told(link.of, rows)
            out += [LeftLink(link.of, name, link.field, why) for name in names]
    return tuple(out)


def counts_of(fates: Fates) -> tuple[KindCounts, ...]:
    out = []
    for kind in fates.old.kinds:
        state = fates.state[kind]
        moved, bundled = int((state == MOVED).sum()), int((state == BUNDLED).sum())
        matched = int((fates.matched(kind) & (state != MOVED) & (state != BUNDLED)).sum())
        many = len(state)
        if many:
            out.append(
                KindCounts(kind, many, moved, matched, bundled, many - moved - matched - bundled)
            )
    return tuple(out)


def links_left(fates: Fates) -> int:
    return sum(int((ends.end == EMPTIED).sum()) for ends in fates.all_ends())


def findings_of(setting: SettingIn, *, again: bool = False) -> Iterator[Finding]:
    """Yield what is to be said of what waits, of links that lead nowhere, and of places that changed."""
    fates = setting.fates
    old = fates.old
    conditions = {row.what for row in old.rules.conditions}
    for kind in old.kinds:
        waits = fates.state[kind] == BUNDLED
        for number in np.unique(fates.why[kind][waits]).tolist():
            reason = fates.reasons[number]
            if reason in conditions and not again:
                continue  # each of them was told
            rows = np.flatnonzero(waits & (fates.why[kind] == number)).tolist()
            what = f"{_named(old, kind, rows)}: {reason}"
            if again:
                yield Finding.note("still-waits", what, where=kind)
            elif reason == NO_PLACE:
                yield Finding.loss("no-place", what, where=kind)
            else:
                yield Finding.loss("cannot-be-set-in", what, where=kind)
    for ends in fates.all_ends():
        link = ends.link
        for reason, which in fates.why_emptied(link, ends.end == EMPTIED).items():
            rows = np.unique(link.rows[which]).tolist()
            many = int(which.sum())
            what = f"{link.field}: {count(many, 'link')} {reason}: {_named(old, link.of, rows)}"
            if reason == LED_NOWHERE:
                yield Finding.warning("link-nowhere", what, where=link.of)
            else:
                yield Finding.loss("link-left", what, where=link.of)
    for kind in old.kinds:
        moving = np.flatnonzero(fates.state[kind] == MOVED)
        keys = old.rule(kind).match
        if keys and len(moving):
            there = match_things(old.tables[kind], moving, fates.new.tables[kind], keys) >= 0
            if there.any():
                named = _named(old, kind, moving[there].tolist())
                what = f"{named}: the new game has such, too, and both will be there"
                yield Finding.warning("named-alike", what, where=kind)
    for kind, places in setting.places.items():
        elsewhere = np.flatnonzero(places.moved & (fates.state[kind] == MOVED)).tolist()
        if not elsewhere:
            continue
        shown = [
            f"{name} to {_number(places.x[row])}, {_number(places.z[row])}"
            for name, row in zip(old.told(kind, elsewhere[:_SHOWN]), elsewhere, strict=False)
        ]
        more = f", and {len(elsewhere) - _SHOWN:,} more" if len(elsewhere) > _SHOWN else ""
        yield Finding.note(
            "other-place",
            f"{len(elsewhere):,} {'gets' if len(elsewhere) == 1 else 'get'} the nearest place that is free"
            f" and holds such: {', '.join(shown)}{more}",
            where=kind,
        )
    for link, lost in nowhere(fates.new):
        yield Finding.warning(
            "link-nowhere",
            f"{link.field}: {count(int(lost.sum()), 'link')} of the new game itself lead"
            f"{'s' if int(lost.sum()) == 1 else ''} nowhere; if that means none, the card does not say so",
            where=link.of,
            remedy="Add the value to `none` of the link in the card.",
        )
    taken = {kind: fates.state[kind] != 0 for kind in old.kinds}
    for link, lost in nowhere(old, taken):
        rows = np.unique(link.rows[lost & (fates.state[link.of][link.rows] == BUNDLED)]).tolist()
        if rows:
            yield Finding.warning(
                "link-nowhere",
                f"{link.field} of {_named(old, link.of, rows)} led nowhere in the old game already",
                where=link.of,
            )


def _named(things: Things, kind: str, rows: list[int]) -> str:
    shown = ", ".join(things.told(kind, rows[:_SHOWN]))
    more = f", and {len(rows) - _SHOWN:,} more" if len(rows) > _SHOWN else ""
    return f"{shown}{more}" if len(rows) > 1 else shown


def _number(value: Any) -> str:
    return f"{value.item():g}" if hasattr(value, "item") else str(value)

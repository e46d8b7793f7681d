"""Selection: which things of a save belong to the player, with all they refer to, to any depth.

What always holds: cycles end; what a person left out is never brought back by a link; the same save and rules
select the same things, in whatever order the kinds stand in the card.
"""

from __future__ import annotations

from collections.abc import Iterable
from fnmatch import fnmatchcase

import numpy as np
from msgspec import Struct

from ...cards.transplants import BRING, when_linked
from ...errors import UsageError
from ...suggestions import did_you_mean
from .thing_table import Truths, WholeNumbers
from .things import Things

__all__ = ["Selected", "TransplantChoices", "select"]


class TransplantChoices(Struct, frozen=True):
    """What a person says beyond the card: what to take, too, and to leave out: `KIND:NAME`, with `*`.

    `played`: the new game counts as fresh, whatever the card's `fresh` says.

    >>> kl.TransplantChoices(without=("crew:Tam*",)).also
    ()
    """

    also: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    played: bool = False


class Selected(Struct, frozen=True):
    """The things that are taken, `(n,)` by kind; `mine` are those that rules or a person named."""

    taken: dict[str, Truths]
    mine: dict[str, Truths]


def select(things: Things, choices: TransplantChoices) -> Selected:
    """Select what belongs to the player.

    Raises:
        FormatError: an expression of the card has no truth for things.
        UsageError: a person named nothing that is there.
    """
    mine: dict[str, Truths] = {}
    for kind in things.kinds:
        table, rule = things.tables[kind], things.rule(kind)
        none = np.zeros(table.count, np.bool_)
        mine[kind] = table.where(rule.mine) if rule.mine else none
    left, named = (
        {kind: np.zeros(things.count(kind), np.bool_) for kind in things.kinds} for _ in range(2)
    )
    _named(things, choices.also, named, True)
    _named(things, choices.without, left, False)
    _leave_along(things, left, named)
    for kind in things.kinds:
        mine[kind] = (mine[kind] | named[kind]) & ~left[kind]
    taken = {kind: found.copy() for kind, found in mine.items()}
    _follow(things, taken, left)
    return Selected(taken, mine)


def _follow(things: Things, taken: dict[str, Truths], left: dict[str, Truths]) -> None:
    """Take what things that are taken refer to, and what goes with them, until nothing more comes."""
    brought = {kind for kind in things.kinds if when_linked(things.rule(kind)) == BRING}
    more = True
    while more:
        more = False
        for link in things.links:
            along = link.field in things.rule(link.of).together
            for number in link.kinds:
                kind, some = things.kinds[number], link.leads_to(number)
                rows, to = link.rows[some], link.row[some]
                if kind in brought:
                    more |= _take(taken[kind], left[kind], to[taken[link.of][rows]])
                if along:
                    more |= _take(taken[link.of], left[link.of], rows[taken[kind][to]])


def _leave_along(things: Things, left: dict[str, Truths], named: dict[str, Truths]) -> None:
    """Leave out what goes with what is left out, unless it was named itself, until nothing more is."""
    more = any(each.any() for each in left.values())
    while more:
        more = False
        for link in things.links:
            if link.field not in things.rule(link.of).together:
                continue
            for number in link.kinds:
                some = link.leads_to(number)
                along = np.zeros(things.count(link.of), np.bool_)
                along[link.rows[some]] = left[things.kinds[number]][link.row[some]]
                along &= ~left[link.of] & ~named[link.of]
                left[link.of] |= along
                more |= bool(along.any())


def _take(taken: Truths, left: Truths, rows: WholeNumbers) -> bool:
    """Take some things, unless they are left out; return whether any was not taken before."""
    before = int(np.count_nonzero(taken))
    taken[rows] = True
    taken[left] = False
    return int(np.count_nonzero(taken)) > before


def _named(things: Things, texts: Iterable[str], marks: dict[str, Truths], add: bool) -> None:
    for text in texts:
        kind, sign, pattern = text.partition(":")
        if not sign or not pattern:
            raise UsageError(
                f"{text!r} is not KIND:NAME", remedy="Write it like crew:Tam or ferries:*Heron*."
            )
        if kind not in marks:
            raise UsageError(
                f"there are no things {kind!r}", remedy=did_you_mean(kind, things.kinds)
            )
        names = things.told(kind, range(things.count(kind)))
        known = {name: name == pattern or fnmatchcase(name, pattern) for name in set(names)}
        fits = np.fromiter((known[name] for name in names), np.bool_, len(names))
        if not fits.any():
            verb = "take" if add else "leave out"
            raise UsageError(
                f"there is nothing to {verb}: no {kind} fits {pattern!r}",
                where=things.where,
                remedy=did_you_mean(pattern, names[:5000]),
            )
        marks[kind] = marks[kind] | fits

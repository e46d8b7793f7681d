"""Fates: what becomes of each thing of the old game, and where each link of those that move leads.

What always holds: a thing moves, waits in the bundle, or stays behind; a link of one that moves leads to
something that moves, to its match, or nowhere, and what led somewhere before is told. A thing that cannot be
without a link does not move without it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from ...cards.transplants import MATCH, when_linked
from ...errors import FormatError
from ...formats import ANY, parse_path
from .matching import ABSENT, AMBIGUOUS, match_things
from .selection import Selected
from .thing_table import Truths, WholeNumbers
from .things import NOTHING, NOWHERE, Link, Things

__all__ = [
    "BUNDLED", "EMPTIED", "LED_NOWHERE", "MOVED", "STAYS", "TO_MATCHED", "TO_MOVED", "TO_NOTHING",
    "Ends", "Fates", "can_be_empty", "goes_from_list",
]  # fmt: skip

LED_NOWHERE = "led nowhere in the old game already"
STAYS, MOVED, BUNDLED = 0, 1, 2  # of a thing
TO_NOTHING, TO_MOVED, TO_MATCHED, EMPTIED = 0, 1, 2, 3  # of a link of a thing that moves


class Ends(Struct, eq=False):
    """Where the links of one field lead now: `(m,)`; `there` is the row of a match in the new game.

    `emptied` says why those lead nowhere that led somewhere: the number of a reason.
    """

    link: Link
    end: npt.NDArray[np.int8]
    there: WholeNumbers


class Fates:
    """What becomes of the things of `old` in the surroundings of `new`."""

    def __init__(
        self,
        old: Things,
        new: Things,
        selected: Selected,
        *,
        known: Mapping[str, WholeNumbers] | None = None,
    ) -> None:
        """Decide; `known` are rows of the new game that things are known to be, `(n,)` by kind, -1: none."""
        self.old, self.new, self.selected = old, new, selected
        self.known = known
        self._ends: dict[Link, Ends] = {}  # as things are decided now
        self.state: dict[str, npt.NDArray[np.int8]] = {
            kind: taken.astype(np.int8) * MOVED for kind, taken in selected.taken.items()
        }
        self.reasons: list[str] = [""]
        self.why: dict[str, npt.NDArray[np.int32]] = {
            kind: np.zeros(old.count(kind), np.int32) for kind in old.kinds
        }
        self.matches: dict[str, WholeNumbers] = {}
        for kind in old.kinds:
            self._match(kind)
        self.settle()

    # ---- matching ----------------------------------------------------------------------------

    def _match(self, kind: str) -> None:
        """Find what in the new game each thing of a kind is, of those that links may lead to."""
        rule, table = self.old.rule(kind), self.old.tables[kind]
        found = np.full(table.count, ABSENT, np.int64)
        self.matches[kind] = found
        if not table.count or not self.new.count(kind):
            return
        if when_linked(rule) != MATCH and self.known is None:
            return
        wanted = np.zeros(table.count, np.bool_)
        number = self.old.kinds.index(kind)
        for link in self.old.links:
            to = link.leads_to(number) & (self.state[link.of][link.rows] == MOVED)
            wanted[link.row[to]] = True
        rows = np.flatnonzero(wanted)
        if rule.match and when_linked(rule) == MATCH:
            found[rows] = match_things(table, rows, self.new.tables[kind], rule.match)
        if self.known is not None:
            there = self.known.get(kind, found)
            found[there >= 0] = there[there >= 0]
        elif rule.same:
            pair = [self._one(each, kind, rule.same) for each in (self.old, self.new)]
            found[found == pair[1]] = AMBIGUOUS  # it is that one, whatever it is called
            found[pair[0]] = pair[1]

    def match_more(self, kind: str, row: int) -> None:
        """Find what one more thing is in the new game, which only something that waits leads to."""
        rule = self.old.rule(kind)
        if rule.match and when_linked(rule) == MATCH and self.new.count(kind):
            rows = np.array([row])
            table = self.old.tables[kind]
            self.matches[kind][row] = match_things(table, rows, self.new.tables[kind], rule.match)[
                0
            ]

    @staticmethod
    def _one(things: Things, kind: str, text: str) -> int:
        rows = np.flatnonzero(things.tables[kind].where(text))
        if len(rows) != 1:
            raise FormatError(
                f"`same` of {kind} holds of {len(rows):,} of them, not of one: {text}",
                where=things.where,
            )
        return int(rows[0])

    # ---- deciding ----------------------------------------------------------------------------

    def bundle(self, kind: str, which: Truths, reason: str) -> int:
        """Have things that would move wait in the bundle; return how many those are."""
        new = which & (self.state[kind] == MOVED)
        many = int(np.count_nonzero(new))
        if many:
            if reason not in self.reasons:
                self.reasons.append(reason)
            self.state[kind][new] = BUNDLED
            self._ends.clear()
            self.why[kind][new] = self.reasons.index(reason)
        return many

    def settle(self) -> None:
        """Have everything wait that cannot be without what does not come, until nothing changes."""
        more = True
        while more:
            more = False
            for ends in self.all_ends():
                link, name = ends.link, ends.link.field
                along = name in self.old.rule(link.of).together
                emptied = ends.end == EMPTIED
                if along:
                    waits = emptied & self._waits(link)
                    more |= self._bundle_rows(link, waits, f"its {name} waits, too")
                if not can_be_empty(link):
                    lost = emptied & (link.kind == NOWHERE)
                    more |= self._bundle_rows(
                        link, lost, f"its {name} led nowhere in the old game already"
                    )
                    more |= self._bundle_rows(
                        link, emptied & ~lost, f"its {name} is not in the new game"
                    )

    def _bundle_rows(self, link: Link, which: Truths, reason: str) -> bool:
        mask = np.zeros(self.old.count(link.of), np.bool_)
        mask[link.rows[which]] = True
        return self.bundle(link.of, mask, reason) > 0

    def _waits(self, link: Link) -> Truths:
        """Return which links lead to things that wait in the bundle."""
        out = np.zeros(len(link.kind), np.bool_)
        for number in link.kinds:
            some = link.leads_to(number)
            out[some] = self.state[self.old.kinds[number]][link.row[some]] == BUNDLED
        return out

    def all_ends(self) -> Iterator[Ends]:
        """Yield where all links lead, field by field, of things that move."""
        for link in self.old.links:
            yield self.ends(link)

    def ends(self, link: Link) -> Ends:
        """Return where the links of a field lead, as things are decided now."""
        if link not in self._ends:
            self._ends[link] = self._look(link)
        return self._ends[link]

    def _look(self, link: Link) -> Ends:
        moves = self.state[link.of][link.rows] == MOVED
        end = np.full(len(link.kind), EMPTIED, np.int8)
        there = np.full(len(link.kind), -1, np.int64)
        end[link.kind == NOTHING] = TO_NOTHING
        for number in link.kinds:
            kind, some = self.old.kinds[number], np.flatnonzero(link.leads_to(number))
            rows = link.row[some]
            moved = self.state[kind][rows] == MOVED
            match = self.matches[kind][rows]
            end[some[moved]] = TO_MOVED
            matched = ~moved & (match >= 0)
            end[some[matched]], there[some[matched]] = TO_MATCHED, match[matched]
        end[~moves] = TO_NOTHING
        return Ends(link, end, there)

    # ---- what came of it ---------------------------------------------------------------------

    def rows(self, kind: str, state: int) -> npt.NDArray[np.intp]:
        """Return which things of a kind have a fate."""
        return np.flatnonzero(self.state[kind] == state)

    def matched(self, kind: str) -> Truths:
        """Return which things stay behind because the new game has them, and something that moves says so."""
        out = np.zeros(self.old.count(kind), np.bool_)
        number = self.old.kinds.index(kind)
        for ends in self.all_ends():
            some = ends.link.leads_to(number) & (ends.end == TO_MATCHED)
            out[ends.link.row[some]] = True
        return out

    def why_emptied(self, link: Link, which: Truths) -> dict[str, Truths]:
        """Return links that lead nowhere now by the reason: `(m,)` each."""
        out: dict[str, Truths] = {}
        lost = which & (link.kind == NOWHERE)
        if lost.any():
            out[LED_NOWHERE] = lost
        waits = which & self._waits(link)
        if waits.any():
            out["will lead nowhere until the bundle is set in"] = waits
        rest = which & ~lost & ~waits
        for number in np.unique(link.kind[rest]).tolist():
            kind = self.old.kinds[number]
            some = rest & link.leads_to(number)
            ambiguous = np.zeros(len(some), np.bool_)
            ambiguous[some] = self.matches[kind][link.row[some]] == AMBIGUOUS
            if ambiguous.any():
                out[f"will lead nowhere, as several {kind} are called alike"] = ambiguous
            if (some & ~ambiguous).any():
                out[f"will lead nowhere, as the new game does not have these {kind}"] = (
                    some & ~ambiguous
                )
        return out


def can_be_empty(link: Link) -> bool:
    """Tell whether a thing can be without a link: it has a value for none, or goes from its list."""
    if link.table.required:
        return False
    return bool(link.table.none) or goes_from_list(link) or bool(link.ids.empty.any())


def goes_from_list(link: Link) -> bool:
    """Tell whether a link that leads nowhere goes from its list: one of ids, with no value for none."""
    path = parse_path(link.field)
    return path[-1:] == (ANY,) and path.count(ANY) == 1 and not link.table.none

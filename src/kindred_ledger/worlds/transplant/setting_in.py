"""Setting in: what moves, as it stands in the new game: its ids, links, counters and totals.

What always holds: no id of the new game is given twice; what no rule speaks of stays as it was in the old
game; nothing of the new game changes but its counters, its totals, and what the card says is the player's.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from ...cards.transplants import kinds_linked
from ...errors import FormatError
from ...finding import Finding
from ...formats import Values, Words, parse_path
from ...progress import Progress
from ...wording import count
from .fates import EMPTIED, MOVED, TO_MATCHED, TO_MOVED, Ends, Fates, goes_from_list
from .positions import Positions
from .thing_table import ColumnTable, ThingTable, WholeNumbers, add_things
from .things import NOTHING, NOWHERE, Link, Vocabulary, plain_ids, space_of
from .totals import Totals, open_again

__all__ = ["Mend", "SettingIn"]


class Mend(Struct, frozen=True):
    """Links of the new game to what is set in now: `rows` `(n,)` of a kind, to `leads_to` of another."""

    of: str
    field: str
    rows: Any
    kind: str
    leads_to: Any  # (n,) rows of the old game, of things that move


class SettingIn:
    """What moves, made ready: `order` are the rows of the old game by kind, `ids` their new ids."""

    def __init__(
        self,
        fates: Fates,
        places: Mapping[str, Positions],
        vocabulary: Vocabulary,
        mends: Sequence[Mend] = (),
    ) -> None:
        self.mends = mends
        self.fates, self.places, self.vocabulary = fates, places, vocabulary
        self.old, self.new = fates.old, fates.new
        self.order = {kind: fates.rows(kind, MOVED) for kind in self.old.kinds}
        self.ids: dict[str, WholeNumbers] = {}
        self.next: dict[str, int] = {}  # by path of a counter
        self.findings: list[Finding] = []
        self._allocate()

    # ---- ids ---------------------------------------------------------------------------------

    def _allocate(self) -> None:
        """Give new ids, space by space, behind all that the new game has or would give."""
        old, new = self.old, self.new
        spaces: dict[str, list[str]] = {}
        for kind in old.kinds:
            if old.rule(kind).id and old.count(kind):
                spaces.setdefault(space_of(old.rules, kind), []).append(kind)
        for space, kinds in spaces.items():
            alike = [each for each in new.kinds if space_of(new.rules, each) == space]
            self._check_alike(kinds, alike)
            if any(old.ids[kind].named for kind in kinds):
                self._keep_names(kinds, alike)
                continue
            counters = {new.rule(kind).next for kind in alike if new.rule(kind).next}
            first = 1
            for kind in alike:
                if kind in new.ids and new.count(kind):
                    first = max(first, int(new.ids[kind].numbers.max()) + 1)
            for path in sorted(counters):
                first = max(first, self._counter(path))
            lost = self._lost_ids(alike)
            for kind in kinds:
                many = len(self.order[kind])
                found = np.arange(first, first + many + len(lost), dtype=np.int64)
                self.ids[kind] = found[~np.isin(found, lost)][:many]
                first = int(self.ids[kind][-1]) + 1 if many else first
                self._check_width(kind, first - 1)
            for path in counters:
                if any(len(self.order[kind]) for kind in kinds):
                    self.next[path] = first

    def _check_alike(self, kinds: Sequence[str], alike: Sequence[str]) -> None:
        """Raise where the ids of one game are numbers, and those of the other are not."""
        forms = {self.old.ids[kind].named for kind in kinds if len(self.order[kind])}
        forms |= (
            {self.new.ids[kind].named for kind in alike if self.new.count(kind)} if forms else set()
        )
        if len(forms) > 1:
            raise FormatError(
                f"the ids of {' and '.join(kinds)} are numbers in one of the two games only",
                where=self.new.where,
                remedy="Put `id` and `space` of these kinds in the card right.",
            )

    def _lost_ids(self, kinds: Sequence[str]) -> WholeNumbers:
        """Return ids that links of the new game name and no thing has: given anew, those would lead there."""
        some = [
            link.ids.numbers[link.kind == NOWHERE]
            for link in self.new.links
            if not link.ids.named and not set(kinds).isdisjoint(kinds_linked(link.table))
        ]
        return np.unique(np.concatenate(some)) if some else np.zeros(0, np.int64)

    def _counter(self, path: str) -> int:
        document, at = self.new.document, parse_path(path)
        value = document.get(at) if document.find(at) else None
        if type(value) is not int:
            raise FormatError(
                f"{path} is {value!r}, not the next id",
                where=self.new.where,
                remedy="Put `next` in the card right.",
            )
        return value

    def _keep_names(self, kinds: list[str], alike: list[str]) -> None:
        """Ids that are texts stay: nobody knows how the game makes new ones."""
        for kind in kinds:
            numbers = self.old.ids[kind].numbers[self.order[kind]]
            self.ids[kind] = numbers
            for other in alike:
                taken = self.new.find(other, numbers) >= 0
                if taken.any():
                    shown = self.old.told(kind, self.order[kind][taken][:5].tolist())
                    self.findings.append(
                        Finding.conflict(
                            "id-taken",
                            f"{count(int(taken.sum()), 'id')} of {kind} are used in the new game already:"
                            f" {', '.join(shown)}",
                            where=self.new.where,
                            remedy="Such ids are no numbers, so that no new ones can be given. Leave out:"
                            " `without=KIND:NAME`.",
                        )
                    )

    def _check_width(self, kind: str, highest: int) -> None:
        rule = self.old.rule(kind)
        most = _widest(self.new.tables[kind], rule.id)
        if rule.bits:
            most = min(most, (1 << rule.bits) - 1)
        if highest > most and len(self.order[kind]):
            self.findings.append(
                Finding.conflict(
                    "ids-too-wide",
                    f"{count(len(self.order[kind]), 'thing')} of {kind} would need ids up to {highest:,}; the"
                    f" new game holds up to {most:,}",
                    where=self.new.where,
                    remedy="Leave some out: `without=KIND:NAME`.",
                )
            )

    # ---- fields that are otherwise in the new game -------------------------------------------

    def put(self, kind: str) -> dict[str, Any]:
        """Return the fields of what moves that are otherwise now: `(n,)`, or of lists with owners."""
        out: dict[str, Any] = {}
        order = self.order[kind]
        rule = self.old.rule(kind)
        if rule.id and kind in self.ids and not self.old.ids[kind].named:
            out[rule.id] = (
                self.values_of(kind, self.ids[kind]) if self.old.ids[kind].texts else self.ids[kind]
            )
        for link in self.old.links_of(kind):
            ends = self.fates.ends(link)
            changed = (ends.end == TO_MOVED) | (ends.end == TO_MATCHED) | (ends.end == EMPTIED)
            if changed.any():
                out[link.field] = self._linked(ends, order)
        if kind in self.places:
            places = self.places[kind]
            for field, values in ((rule.x, places.x), (rule.z, places.z)):
                old = self.old.tables[kind].measures(field)
                if (old[order] != values[order]).any():
                    out[field] = values[order]
        return out

    def new_ids(self, ends: Ends) -> WholeNumbers:
        """Return the id of the new game that each link leads to: `(m,)`; of others what stood there."""
        link = ends.link
        out = link.ids.numbers.copy()
        for number in link.kinds:
            kind = self.old.kinds[number]
            some = link.leads_to(number) & (ends.end == TO_MATCHED)
            if some.any():
                out[some] = self.new.ids[kind].numbers[ends.there[some]]
            some = link.leads_to(number) & (ends.end == TO_MOVED)
            if some.any():
                place = np.zeros(self.old.count(kind), np.int64)
                place[self.order[kind]] = np.arange(len(self.order[kind]))
                out[some] = self.ids[kind][place[link.row[some]]]
        return out

    def _linked(self, ends: Ends, order: npt.NDArray[np.intp]) -> Any:
        link, numbers = ends.link, self.new_ids(ends)
        place = np.full(self.old.count(link.of), -1, np.int64)
        place[order] = np.arange(len(order))
        owners = place[link.rows]
        keep = owners >= 0
        emptied = ends.end == EMPTIED
        if goes_from_list(link):
            keep &= ~emptied
        values = self._values(link, numbers, emptied)
        if not link.is_list:
            return _rows_of(values, order)
        listed = values if isinstance(values, list) else _as_plain(values)
        kept = np.flatnonzero(keep)
        return owners[kept], [listed[at] for at in kept.tolist()]

    def _values(self, link: Link, numbers: WholeNumbers, emptied: Any) -> Any:
        """Return ids as the file has them: `(m,)`."""
        if link.texts is not None:
            return self._texts(link, numbers, emptied)
        none = link.table.none[0] if link.table.none else None
        named = link.ids.named
        if not named and not link.ids.empty.any() and (type(none) is int or not emptied.any()):
            return np.where(emptied, none if type(none) is int else 0, numbers)
        if named and not link.ids.empty.any() and (isinstance(none, str) or not emptied.any()):
            texts = self.vocabulary.values
            if all(isinstance(text, str) for text in texts):
                codes = numbers
                if emptied.any():
                    codes = np.where(emptied, self.vocabulary.codes([none])[0], numbers)
                return Words(codes, list(self.vocabulary.values))
        plain = (
            [self.vocabulary.values[code] for code in numbers.tolist()]
            if named
            else numbers.tolist()
        )
        for at in np.flatnonzero(link.ids.empty & (link.kind == NOTHING)).tolist():
            plain[at] = None
        for at in np.flatnonzero(emptied).tolist():
            plain[at] = none
        return plain

    def _texts(self, link: Link, numbers: WholeNumbers, emptied: Any) -> list[Any]:
        """Return numbers as the texts they are in the file; what leads nowhere as it stands there."""
        assert link.texts is not None
        none = link.table.none[0] if link.table.none else None
        was = [self.vocabulary.values[code] for code in link.texts.numbers.tolist()]
        out: list[Any] = [
            text if nothing else str(number)
            for text, number, nothing in zip(
                was, numbers.tolist(), (link.kind == NOTHING).tolist(), strict=True
            )
        ]
        for at in np.flatnonzero(emptied).tolist():
            out[at] = none
        return out

    # ---- into the save -----------------------------------------------------------------------

    def carry_out(self, progress: Progress) -> None:
        """Put everything into the document of the new game, which is used up.

        Raises:
            FormatError: a value has no place in it.
        """
        new = self.new
        total = sum(map(len, self.order.values()))
        with progress.task("setting in", total=total, unit="things") as task:
            for kind in self.old.kinds:
                if not len(self.order[kind]):
                    continue
                task.tell(kind)
                try:
                    add_things(
                        new.tables[kind], self.old.tables[kind], self.order[kind], self.put(kind)
                    )
                except FormatError as error:
                    raise error.inside(f"{new.where}: {kind}") from None
                task.advance(len(self.order[kind]))
        for mend in self.mends:
            self._mend(mend)
        for path, value in self.next.items():
            new.document.set(parse_path(path), value)
        for path in new.rules.carry:
            at = parse_path(path)
            if self.old.document.find(at):
                new.document.set(at, self.old.document.get(at))
        if new.rules.totals:
            tables = {row.kind: open_again(new, row.kind) for row in new.rules.totals}
            counted = Totals(new).counted(tables)
            for row, value in zip(new.rules.totals, counted, strict=True):
                at = parse_path(row.at)
                if new.document.find(at) and new.document.get(at) != value:
                    new.document.set(at, value)

    def _mend(self, mend: Mend) -> None:
        """Have links of the new game lead to what was set in."""
        at = np.searchsorted(self.order[mend.kind], mend.leads_to)
        numbers = self.ids[mend.kind][at]
        links = [e for e in self.new.links_of(mend.of) if e.field == mend.field]
        if self.old.ids[mend.kind].named:
            values = self.values_of(mend.kind, numbers)
        elif any(link.texts is not None for link in links):
            values = [str(number) for number in numbers.tolist()]
        else:
            values = numbers.tolist()
        table = self.new.tables[mend.of]
        if isinstance(table, ColumnTable) and table.columns.is_open:
            distinct = table.columns.distinct(mend.field)
            plain = [distinct.values[code] for code in distinct.codes.tolist()]
            for row, value in zip(mend.rows.tolist(), values, strict=True):
                plain[row] = value
            table.columns.write(mend.field, Values(np.arange(len(plain)), plain))
            return
        for row, value in zip(mend.rows.tolist(), values, strict=True):
            self.new.document.set((*table.path_of(row), *parse_path(mend.field)), value)

    def values_of(self, kind: str, numbers: WholeNumbers) -> list[Any]:
        """Return ids of a kind as the file has them."""
        return plain_ids(self.old.ids[kind], numbers, self.vocabulary)


def _widest(table: ThingTable, field: str) -> int:
    """Return the highest number that a field has room for."""
    if isinstance(table, ColumnTable) and table.columns.is_stored(field):
        form = getattr(table.columns.cells[field], "dtype", None)
        if form is not None and form.kind in "iu":
            return int(np.iinfo(form).max)
    return (1 << 63) - 1


def _rows_of(values: Any, order: npt.NDArray[np.intp]) -> Any:
    if isinstance(values, list):
        return [values[row] for row in order.tolist()]
    return Words(values.codes[order], values.texts) if isinstance(values, Words) else values[order]


def _as_plain(values: Any) -> list[Any]:
    if isinstance(values, Values):
        return [values.values[code] for code in values.codes.tolist()]
    plain: list[Any] = (values.array() if isinstance(values, Words) else values).tolist()
    return plain

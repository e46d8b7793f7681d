"""Setting in: what moves, as it stands in the new game: ids, links, positions, counters and totals.

What always holds: no id of the new game is given twice; what no rule speaks of stays as it was in the old
game; nothing of the new game changes but its counters, its totals, and what the card says is the player's.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from ...errors import FormatError, UsageError
from ...finding import Finding
from ...formats import ANY, Values, Words, parse_path
from ...progress import Progress
from ...wording import count
from .fates import EMPTIED, MOVED, TO_MATCHED, TO_MOVED, Ends, Fates
from .placing import Placed, Terrain, place_things, read_terrain
from .thing_table import ColumnTable, ThingTable, WholeNumbers, add_things, open_table
from .things import Link, Things, Vocabulary, space_of

__all__ = ["NO_PLACE", "Mend", "Positions", "SettingIn", "Totals", "find_places", "open_again"]

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


class Totals:
    """Numbers of a save that tell how many things there are, or a sum of them, as the card says."""

    def __init__(self, things: Things) -> None:
        self.things = things

    def counted(self, tables: Mapping[str, ThingTable]) -> list[int]:
        """Return what each total comes to, counted in the things themselves."""
        out = []
        for row in self.things.rules.totals:
            table = tables[row.kind]
            some = table.where(row.where) if row.where else np.ones(table.count, np.bool_)
            if not row.sum:
                out.append(int(some.sum()))
            else:
                numbers = table.whole_numbers(row.sum) if table.count else np.zeros(0, np.int64)
                out.append(int(numbers[some].sum()))
        return out

    def differing(self) -> list[Finding]:
        """Return what is to be said of totals that are not what the card says they are."""
        found = []
        document = self.things.document
        for row, counted in zip(
            self.things.rules.totals, self.counted(self.things.tables), strict=True
        ):
            path = parse_path(row.at)
            told = document.get(path) if document.find(path) else None
            if told != counted:
                found.append(
                    Finding.conflict(
                        "total-differs",
                        f"{row.at} is {told}, and there are {counted:,}: the rule of the card is wrong here,"
                        " or the save is damaged",
                        where=self.things.where,
                        remedy=f"Put the row of `totals` for {row.at} in the card right.",
                    )
                )
        return found


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
            for kind in kinds:
                many = len(self.order[kind])
                self.ids[kind] = np.arange(first, first + many, dtype=np.int64)
                first += many
                self._check_width(kind, first - 1)
            for path in counters:
                if any(len(self.order[kind]) for kind in kinds):
                    self.next[path] = first

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
            out[rule.id] = self.ids[kind]
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
        drops = link.is_list and parse_path(link.field)[-1] == ANY and not link.table.none
        if drops:
            keep &= ~emptied
        values = self._values(link, numbers, emptied)
        if not link.is_list:
            return _rows_of(values, order)
        listed = values if isinstance(values, list) else _as_plain(values)
        kept = np.flatnonzero(keep)
        return owners[kept], [listed[at] for at in kept.tolist()]

    def _values(self, link: Link, numbers: WholeNumbers, emptied: Any) -> Any:
        """Return ids as the file has them: `(m,)`."""
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
        for at in np.flatnonzero(link.ids.empty & (link.kind == -1)).tolist():
            plain[at] = None
        for at in np.flatnonzero(emptied).tolist():
            plain[at] = none
        return plain

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
        values = self.values_of(mend.kind, self.ids[mend.kind][at])
        table = self.new.tables[mend.of]
        if isinstance(table, ColumnTable) and table.columns.is_open:
            distinct = table.columns.distinct(mend.field)
            plain = [distinct.values[code] for code in distinct.codes.tolist()]
            for row, value in zip(mend.rows.tolist(), values, strict=True):
                plain[row] = value
            table.columns.write(mend.field, Values(np.arange(len(plain)), plain))
            return
        for row, value in zip(mend.rows.tolist(), values, strict=True):
            self.new.document.set((*table.at, row, *parse_path(mend.field)), value)

    def values_of(self, kind: str, numbers: WholeNumbers) -> list[Any]:
        """Return ids of a kind as the file has them."""
        plain: list[Any] = numbers.tolist()
        return [self.vocabulary.values[n] for n in plain] if self.old.ids[kind].named else plain


def open_again(things: Things, kind: str) -> ThingTable:
    """Return the things of a kind as they are in a document that was edited."""
    table = things.tables[kind]
    if isinstance(table, ColumnTable) and table.columns.is_open:
        return ColumnTable(things.document, kind, table.at, table.columns)
    rule = things.rule(kind)
    return open_table(things.document, kind, rule.at, singles=[rule.id] if rule.id else [])


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

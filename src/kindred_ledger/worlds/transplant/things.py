"""Things: all things of a save that a card describes, their ids, and the links between them, as arrays.

What always holds: an id leads to one thing, or the save is refused; a link leads to a thing, to nothing
because it says so, or nowhere, and the three are told apart.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from ...cards.transplant_models import LinkTable, ThingsTable, TransplantTable
from ...cards.transplants import kinds_linked
from ...errors import FormatError
from ...finding import Finding
from ...formats import ANY, Document, Leaf, Path, Values, Words, as_tabular, format_path, parse_path
from ...progress import Task
from ...wording import count
from .thing_table import ThingTable, Truths, WholeNumbers, is_number, open_table

__all__ = [
    "NOTHING", "NOWHERE", "Ids", "Link", "Things", "Vocabulary", "check_lists", "leaves_beside",
    "nowhere", "plain_ids",
    "read_things", "space_of",
]  # fmt: skip

NOTHING, NOWHERE = (
    -1,
    -2,
)  # in place of a kind: the link says that it leads nowhere; its id is of no thing
_DENSE = 4  # a table by id takes so many times the room of the ids at most
_SHOWN = 5


class Vocabulary:
    """Ids that are no numbers, as numbers: the same for all saves that are looked at together."""

    def __init__(self) -> None:
        self._codes: dict[Any, int] = {}
        self.values: list[Any] = []

    def codes(self, values: Iterable[Any]) -> WholeNumbers:
        """Return the number of each value."""
        known, out = self._codes, []
        for value in values:
            key = (type(value), value)
            code = known.get(key)
            if code is None:
                code = known[key] = len(self.values)
                self.values.append(value)
            out.append(code)
        return np.array(out, np.int64)


class Ids(Struct, frozen=True, eq=False, dict=True):
    """Ids as numbers: `(n,) int64`. `named`: they are numbers of a vocabulary, as ids are no small numbers.

    `empty` `(n,)` is where nothing stands. `texts`: they are numbers that stand there as texts.
    """

    numbers: WholeNumbers
    named: bool
    empty: Truths
    texts: bool = False


class Link(Struct, eq=False, dict=True):
    """A field of one kind of things that leads to others: `(m,)` links.

    `rows` is which thing each is of; `ids` what stands there. `kind` is the number of the kind it leads to,
    or `NOTHING`, or `NOWHERE`; `row` which thing of that kind. `is_list`: a thing has a list of them. `texts`
    are the ids as they stand there, where they are numbers written as texts.
    """

    of: str
    field: str
    table: LinkTable
    rows: WholeNumbers
    ids: Ids
    kind: WholeNumbers
    row: WholeNumbers
    is_list: bool
    texts: Ids | None = None

    @cached_property
    def kinds(self) -> list[int]:
        """The numbers of the kinds that any of the links lead to."""
        found: list[int] = np.unique(self.kind[self.kind >= 0]).tolist()
        return found

    def leads_to(self, number: int) -> Truths:
        """Return which of the links lead to a kind."""
        found: Truths = self.kind == number
        return found


class _Index:
    """Which thing has an id, for many ids at once."""

    def __init__(self, numbers: WholeNumbers) -> None:
        self.order = np.argsort(numbers, kind="stable")
        self.sorted = numbers[self.order]
        low = int(self.sorted[0]) if len(numbers) else 0
        span = int(self.sorted[-1]) - low + 1 if len(numbers) else 0
        self._low, self._direct = low, None
        if span and span <= _DENSE * len(numbers) + 1024:
            self._direct = np.full(span, -1, np.int64)
            self._direct[numbers - low] = np.arange(len(numbers))

    def twice(self) -> WholeNumbers:
        """Return the ids that two things have."""
        return np.unique(self.sorted[1:][self.sorted[1:] == self.sorted[:-1]])

    def find(self, numbers: WholeNumbers) -> WholeNumbers:
        """Return which thing has each id; -1: none."""
        if not len(self.sorted):
            return np.full(len(numbers), -1, np.int64)
        if self._direct is not None:
            at = numbers - self._low
            there = (numbers >= self._low) & (at < len(self._direct))
            return np.where(there, self._direct[np.where(there, at, 0)], -1)
        at = np.minimum(np.searchsorted(self.sorted, numbers), len(self.sorted) - 1)
        return np.where(self.sorted[at] == numbers, self.order[at], -1)


class Things:
    """The things of one save; `tables` by kind, `kinds` their order, `findings` what is wrong with them."""

    def __init__(self, document: Document, rules: TransplantTable, where: str) -> None:
        self.document, self.rules, self.where = document, rules, where
        self.kinds = list(rules.things)
        self.tables: dict[str, ThingTable] = {}
        self.ids: dict[str, Ids] = {}
        self.links: list[Link] = []
        self.findings: list[Finding] = []
        self._indexes: dict[str, _Index] = {}

    def rule(self, kind: str) -> ThingsTable:
        """Return what the card says about a kind."""
        return self.rules.things[kind]

    def count(self, kind: str) -> int:
        """Return how many things of a kind there are."""
        return self.tables[kind].count

    def find(self, kind: str, numbers: WholeNumbers) -> WholeNumbers:
        """Return which thing of a kind has each id; -1: none."""
        index = self._indexes.get(kind)
        return index.find(numbers) if index is not None else np.full(len(numbers), -1, np.int64)

    def told(self, kind: str, rows: Iterable[int]) -> list[str]:
        """Return what people call some things of a kind."""
        return self.tables[kind].told(rows, self.rule(kind).name)

    def links_of(self, kind: str) -> list[Link]:
        """Return the links that things of a kind have."""
        return [link for link in self.links if link.of == kind]


def space_of(rules: TransplantTable, kind: str) -> str:
    """Return which ids those of a kind are told apart from: its own, or those of a space."""
    return rules.things[kind].space or f"things.{kind}"


def read_things(
    document: Document,
    rules: TransplantTable,
    vocabulary: Vocabulary,
    *,
    where: str,
    partial: bool = False,
    task: Task | None = None,
) -> Things:
    """Read the things of a save, and resolve the links between them; `where` is what it is called.

    `partial`: of some things only what they are known by is there, as in a bundle. `task` advances by one
    for each list of things, and for each field that is a link.

    Raises:
        FormatError: a list is no list, or what should be an id is none.
    """
    things = Things(document, rules, where)
    try:
        for kind in things.kinds:
            if task is not None:
                task.tell(f"{where}: {kind}")
                task.advance()
            things.tables[kind] = _opened(document, kind, rules.things[kind])
        for kind in things.kinds:
            if rules.things[kind].id:
                _read_ids(things, kind, vocabulary)
        for kind in things.kinds:
            if things.count(kind):
                for field, table in rules.things[kind].links.items():
                    if partial and not things.tables[kind].has(field):
                        continue
                    _check_field(things, kind, field)
                    if task is not None:
                        task.tell(f"{where}: {field} of {kind}")
                        task.advance()
                    things.links.append(_read_link(things, kind, field, table, vocabulary))
    except FormatError as error:
        raise error.inside(where) from None
    things.findings += _twice(things)
    return things


def check_lists(old: Things, new: Things) -> None:
    """Raise if neither save has a list that the card names: then the card is wrong.

    A format may leave out lists in which nothing is; that both do is no accident.
    """
    for kind in old.kinds:
        at = old.rule(kind).at
        if not any(each.document.find(parse_path(at)) for each in (old, new)):
            raise FormatError(
                f"there is no list {at}, in neither save",
                where=old.where,
                remedy=f"Put `at` of the {kind} in the card right.",
            )


def _check_field(things: Things, kind: str, field: str) -> None:
    """Raise if none of the things has a field that the card names: then the card is wrong."""
    head = format_path(parse_path(field)[:1])
    table = things.tables[kind]
    if not table.has(head):
        raise FormatError(
            f"no thing has the field {head}",
            where=format_path(table.at),
            remedy=f"Put the links of {kind} in the card right.",
        )


def _opened(document: Document, kind: str, rule: ThingsTable) -> ThingTable:
    lists = [field for field in rule.links if ANY in parse_path(field)]
    singles = [rule.id, rule.name, rule.x, rule.z, *rule.match, *rule.links]
    singles += [link.by for link in rule.links.values()]
    wanted = [field for field in singles if field and field not in lists]
    return open_table(document, kind, rule.at, singles=wanted, lists=lists)


# ---- ids -------------------------------------------------------------------------------------


def _read_ids(things: Things, kind: str, vocabulary: Vocabulary) -> None:
    table, rule = things.tables[kind], things.rule(kind)
    if not table.count:
        none = np.zeros(0, np.int64)
        things.ids[kind] = Ids(none, False, none.astype(np.bool_))
        return
    ids = as_ids(table.values(rule.id), vocabulary)
    if ids.empty.any():
        row = int(ids.empty.argmax())
        raise FormatError(f"there is no {rule.id}", where=table.name_of(row))
    numbers = numbers_in(ids, vocabulary)
    if numbers is not None:
        ids = replace(numbers, texts=True)
    things.ids[kind] = ids
    things._indexes[kind] = _Index(ids.numbers)


def as_ids(values: Any, vocabulary: Vocabulary) -> Ids:
    """Return values as ids.

    Raises:
        FormatError: they are neither whole numbers nor texts.
    """
    if isinstance(values, list):
        kinds = set(map(type, values))
        if kinds <= {int} and (not values or max(map(abs, values)) < 1 << 63):
            values = np.array(values, np.int64)
        else:
            values = Values(np.arange(len(values)), values)
    form = getattr(getattr(values, "dtype", None), "kind", "")
    if form in ("i", "u") and (form == "i" or not len(values) or int(values.max()) < 1 << 63):
        return Ids(np.asarray(values).astype(np.int64), False, np.zeros(len(values), np.bool_))
    if isinstance(values, Words):
        return Ids(vocabulary.codes(values.texts)[values.codes], True, np.zeros(len(values), bool))
    if isinstance(values, Values):
        distinct, codes = values.values, values.codes
    elif form in ("u", "O"):
        found, codes = np.unique(values, return_inverse=True)
        distinct = found.tolist()
    else:
        raise FormatError("ids are whole numbers, or texts")
    empty = np.array([value is None for value in distinct], np.bool_)
    there = [value for value in distinct if value is not None]
    if any(isinstance(value, bool) or not isinstance(value, (int, str)) for value in there):
        raise FormatError("ids are whole numbers, or texts")
    plain = all(type(value) is int and abs(value) < 1 << 63 for value in there)
    if plain:
        numbers = np.array([0 if value is None else value for value in distinct], np.int64)
    else:
        numbers = vocabulary.codes(distinct)
    return Ids(numbers[codes], not plain and bool(there), empty[codes])


def plain_ids(ids: Ids, numbers: WholeNumbers, vocabulary: Vocabulary) -> list[Any]:
    """Return ids, by their numbers, as those of a kind stand in the file."""
    plain: list[Any] = numbers.tolist()
    if ids.named:
        return [vocabulary.values[number] for number in plain]
    return [str(number) for number in plain] if ids.texts else plain


def _twice(things: Things) -> Iterable[Finding]:
    """Yield the ids that two things of one space have."""
    spaces: dict[str, list[str]] = {}
    for kind in things._indexes:
        spaces.setdefault(space_of(things.rules, kind), []).append(kind)
    for kinds in spaces.values():
        every = np.concatenate([things.ids[kind].numbers for kind in kinds])
        some = _Index(every).twice()
        if not len(some):
            continue
        shown = []
        for number in some[:_SHOWN].tolist():
            for kind in kinds:
                rows = np.flatnonzero(things.ids[kind].numbers == number)
                shown += things.told(kind, rows.tolist())
        yield Finding.conflict(
            "id-twice",
            f"{count(len(some), 'id')} of {' and '.join(kinds)}"
            f" {'is' if len(some) == 1 else 'are'} used twice: {', '.join(shown)}",
            where=things.where,
            remedy="Nothing tells which of them is meant. Delete one of each pair in the game, and save.",
        )


# ---- links -----------------------------------------------------------------------------------


def _read_link(
    things: Things, of: str, field: str, table: LinkTable, vocabulary: Vocabulary
) -> Link:
    at = parse_path(field)
    is_list = ANY in at
    source = things.tables[of]
    try:
        if is_list:
            rows, values = source.inner(at)
        else:
            rows, values = np.arange(source.count), source.values(field)
        ids = as_ids(values, vocabulary)
    except FormatError as error:
        raise FormatError(error.what, where=format_path((*source.at, ANY, *at))) from None
    numbers = _as_numbers(things, table, ids, vocabulary)
    texts, ids = (ids, numbers) if numbers is not None else (None, ids)
    none = ids.empty.copy()
    for value in table.none:
        # Of a field that holds numbers a text is no value, and the other way round.
        plain = int(value) if texts is not None and is_number(value) else value
        code = vocabulary.codes([value])[0] if ids.named else plain if type(plain) is int else None
        if code is not None:
            none |= ids.numbers == code
    kind = np.full(len(ids.numbers), NOWHERE, np.int64)
    kind[none] = NOTHING
    row = np.full(len(ids.numbers), -1, np.int64)
    told = _told_kinds(things, source, table, rows)
    twice = np.zeros(len(kind), np.bool_)
    for name in kinds_linked(table):
        number = things.kinds.index(name)
        asked = (~none) if told is None else (~none) & (told == number)
        if not asked.any() or (things.ids[name].named != ids.named and things.count(name)):
            continue
        found = things.find(name, ids.numbers)
        hit = asked & (found >= 0)
        twice |= hit & (kind >= 0)
        kind[hit], row[hit] = number, found[hit]
    if twice.any():
        things.findings.append(_ambiguous(things, of, field, table, rows[twice]))
    return Link(of, field, table, rows, ids, kind, row, is_list, texts)


def _as_numbers(things: Things, table: LinkTable, ids: Ids, vocabulary: Vocabulary) -> Ids | None:
    """Return ids that stand as texts as the numbers they are, where what they lead to has numbers."""
    kinds = [kind for kind in kinds_linked(table) if things.count(kind)]
    if not kinds or any(things.ids[kind].named for kind in kinds):
        return None
    return numbers_in(ids, vocabulary, none=table.none)


def numbers_in(ids: Ids, vocabulary: Vocabulary, *, none: Iterable[Any] = ()) -> Ids | None:
    """Return ids that stand as texts as the numbers they are; None if one is none, and not of `none`."""
    if not ids.named:
        return None
    codes, which = np.unique(ids.numbers, return_inverse=True)
    texts = [vocabulary.values[code] for code in codes.tolist()]
    lost = np.array([not is_number(text) for text in texts], np.bool_)
    others = {text for text, gone in zip(texts, lost, strict=True) if gone and text is not None}
    if not others <= {*none}:
        return None
    values = np.array([int(text) if is_number(text) else 0 for text in texts], np.int64)
    return Ids(values[which], False, ids.empty | lost[which])


def _told_kinds(
    things: Things, source: ThingTable, table: LinkTable, rows: WholeNumbers
) -> WholeNumbers | None:
    """Return the kind that a field beside each link names; None if there is no such field."""
    if not table.by:
        return None
    values = source.values(table.by)
    distinct = values if isinstance(values, Values) else None
    if distinct is None:
        from ...formats import distinct as distinct_of

        distinct = distinct_of(values)
    numbers = [
        things.kinds.index(table.kinds[str(value)]) if str(value) in table.kinds else NOWHERE
        for value in distinct.values
    ]
    found: WholeNumbers = np.array(numbers, np.int64)[distinct.codes][rows]
    return found


def _ambiguous(
    things: Things, of: str, field: str, table: LinkTable, rows: WholeNumbers
) -> Finding:
    kinds = " and ".join(kinds_linked(table))
    shown = ", ".join(things.told(of, rows[:_SHOWN].tolist()))
    return Finding.conflict(
        "link-ambiguous",
        f"{count(len(rows), 'link')} {field} of {of} {'leads' if len(rows) == 1 else 'lead'} to an id that"
        f" several kinds have ({kinds}): {shown}",
        where=things.where,
        remedy=f"Say in the card which field tells them apart: `by` of the link {field}.",
    )


def _list_paths(document: Document, at: Path) -> set[Path]:
    """Return the path of a list as leaves have it: in XML every element on the way has a number."""
    found = document.find(at)[:1]
    return {
        at,
        *(path[:-1] if isinstance(path[-1], int) and path != at else path for path in found),
    }


def leaves_beside(things: Things) -> Iterator[Leaf]:
    """Yield the single values of a save that are in no list of things, and not of its terrain."""
    rules = things.rules
    lists = [rule.at for rule in rules.things.values()]
    lists += [rules.terrain.at] if rules.terrain is not None else []
    tables = {path for at in lists for path in _list_paths(things.document, parse_path(at))}
    tabular = as_tabular(things.document)
    found = tabular.leaves(without=tables) if tabular is not None else things.document.leaves()
    for leaf in found:
        if not any(leaf.path[: len(at)] == at for at in tables):
            yield leaf


def nowhere(
    things: Things, kinds: Mapping[str, Truths] | None = None
) -> Iterable[tuple[Link, Any]]:
    """Yield the links whose id is of no thing, those of some things or of all, with which they are."""
    for link in things.links:
        lost = link.kind == NOWHERE
        if kinds is not None:
            lost = lost & kinds[link.of][link.rows]
        if lost.any():
            yield link, lost

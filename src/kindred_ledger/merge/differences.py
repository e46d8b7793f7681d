"""Differences of two sides of a document, and putting them into another: values, records, whole lists.

A difference is found again by names: keys of mappings, and what a record of a list is known by. So it
outlives the numbers of records, which change wherever one is inserted.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Hashable, Iterable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from ..errors import FormatError
from ..formats import Document, Path, format_path
from .documents import edit_document
from .keys import BY_NUMBER, Keys, name_of_key, renamed, same
from .naming import At, Named
from .sides import ABSENT
from .values import Edit, New, ValueMerge, record_name

__all__ = ["Difference", "Index", "differences", "name_of", "put_differences", "resolved"]


class Difference(Struct, frozen=True):
    """What stands at a place before and after: `ABSENT` where there is nothing.

    `behind` is the record before one that was added: None if it came first.
    """

    at: At
    before: Any
    after: Any
    behind: Named | None = None

    @property
    def name(self) -> str:
        """The place as people write it: `crew[id=7].name`."""
        return name_of(self.at)

    @property
    def is_record(self) -> bool:
        """Whether a whole record came or went."""
        return (
            bool(self.at) and isinstance(self.at[-1], Named) and ABSENT in (self.before, self.after)
        )


def name_of(at: At) -> str:
    """Return a place as findings name it.

    >>> name_of(("crew", Named("@id", "7"), "name"))
    'crew[id=7].name'
    """
    name = ""
    for part in at:
        if isinstance(part, int) or (isinstance(part, Named) and part.field == BY_NUMBER):
            name = f"{name}[{part if isinstance(part, int) else part.value}]"
        elif isinstance(part, Named):
            name = record_name(name, part.field, {part.field: part.value})
        else:
            inner = format_path((part,))
            name = f"{name}.{inner}" if name else inner
    return name


def differences(
    before: Any, after: Any, keys: Keys | None = None, *, told: ValueMerge | None = None
) -> tuple[Difference, ...]:
    """Return what differs between two plain values, in the order of `before`, then what came.

    With `told` lists are taken apart as that merge did, by the same fields.

    >>> old, new = {"a": 1, "crew": [{"id": 7, "hp": 5}]}, {"a": 1, "crew": [{"id": 7, "hp": 6}]}
    >>> [(each.name, each.before, each.after) for each in differences(old, new)]
    [('crew[id=7].hp', 5, 6)]
    """
    return tuple(
        _between((), (), before, after, _Told(told) if told is not None else keys or Keys())
    )


class _Told(Keys):
    """The fields that a merge knew records by."""

    def __init__(self, merge: ValueMerge) -> None:
        super().__init__()
        self._merge = merge

    def field_at(self, at: At, sides: Sequence[list[Any]]) -> str:
        """Return the field, `BY_NUMBER` where members were merged by theirs, or nothing."""
        name = name_of(at)
        if name in self._merge.named_by:
            return self._merge.named_by[name]
        by_number = f"{name}[0]" in self._merge.touched and len({*map(len, sides)}) == 1
        return BY_NUMBER if by_number else ""


def _between(at: At, path: Path, before: Any, after: Any, keys: Keys) -> Iterator[Difference]:
    if before is not ABSENT and after is not ABSENT and same(before, after):
        return
    if isinstance(before, dict) and isinstance(after, dict):
        for key in dict.fromkeys((*before, *after)):
            sides = before.get(key, ABSENT), after.get(key, ABSENT)
            yield from _between((*at, key), (*path, key), *sides, keys)
    elif isinstance(before, list) and isinstance(after, list):
        yield from _between_lists(at, path, before, after, keys)
    else:
        yield Difference(at, before, after)


def _between_lists(
    at: At, path: Path, before: list[Any], after: list[Any], keys: Keys
) -> Iterator[Difference]:
    if isinstance(keys, _Told):
        field = keys.field_at(at, (before, after))
    else:
        field = keys.of(path, [side for side in (before, after) if side])
        alone = len(before) == len(after) == 1 and not renamed(before, after)
        if alone and not keys.is_sure(path, field):
            field = BY_NUMBER
    if field == BY_NUMBER:
        for number, sides in enumerate(zip(before, after, strict=True)):
            part = number if len(before) == 1 else Named(BY_NUMBER, number)
            yield from _between((*at, part), (*path, number), *sides, keys)
    elif field:
        yield from _between_records(at, path, field, before, after, keys)
    else:
        yield Difference(at, before, after)


def _between_records(
    at: At, path: Path, field: str, before: list[Any], after: list[Any], keys: Keys
) -> Iterator[Difference]:
    new = {name_of_key(record, field): record for record in after}
    old = {name_of_key(record, field) for record in before}
    for number, record in enumerate(before):
        key = name_of_key(record, field)
        inner = (*at, _named(record, field))
        if key in new:
            yield from _between(inner, (*path, number), record, new[key], keys)
        else:
            yield Difference(inner, record, ABSENT)
    behind: Named | None = None
    for record in after:
        named = _named(record, field)
        if name_of_key(record, field) not in old:
            yield Difference((*at, named), ABSENT, record, behind)
        behind = named


def _named(record: dict[str, Any], field: str) -> Named:
    value = record[field]
    return Named(field, value[0] if isinstance(value, list) and len(value) == 1 else value)


# ---- putting ---------------------------------------------------------------------------------


# The numbers of records by what they are known by: of a list and a field. Lists must not change meanwhile.
Index = dict[tuple[int, str], dict[Hashable, int]]


def resolved(value: Any, at: At, index: Index | None = None) -> Path | None:
    """Return the path that a place has in a plain value; None if a record on the way is not there.

    What is last need not be there, unless it is a record. Whoever asks for many places of one value keeps
    an `index` between them.
    """
    path: list[str | int] = []
    for number, part in enumerate(at):
        if isinstance(part, Named):
            found = _number(value, part, index if index is not None else {})
            if found is None:
                return None
            path.append(found)
            value = value[found]
            continue
        path.append(part)
        if isinstance(part, int):
            if value == {} or value == []:
                value = {}  # there is none now
            elif isinstance(value, list) and len(value) == 1:
                value = value[0]
            else:
                return None  # it was the only one, and is not now
        elif number + 1 < len(at):
            value = value.get(part, {}) if isinstance(value, dict) else None
    return tuple(path)


def _number(value: Any, named: Named, index: Index) -> int | None:
    """Return the number of the only record that is known by a name; None if there is none, or several."""
    if not isinstance(value, list):
        return None
    if named.field == BY_NUMBER:
        return int(named.value) if int(named.value) < len(value) else None
    known = index.get((id(value), named.field))
    if known is None:
        known = index[(id(value), named.field)] = {}
        for number, record in enumerate(value):
            if isinstance(record, dict) and named.field in record:
                key = name_of_key(record, named.field)
                known[key] = -1 if key in known else number
    found = known.get(name_of_key({"": named.value}, ""), -1)
    return found if found >= 0 else None


def put_differences(
    document: Document,
    value: Any,
    wanted: Iterable[Difference],
    side: Callable[[Difference], Any],
    *,
    records: Collection[At] = (),
) -> None:
    """Have a document say, at the place of each difference, what `side` gives of it.

    `value` is what the document holds; what stands at `records` is put as whole records, too. A record
    that shall be there and is not comes behind the one it stood behind, or at the end.

    Raises:
        FormatError: a place cannot be reached, or the format cannot hold what shall be there.
    """
    edits: list[Edit] = []
    lists: dict[At, list[Difference]] = {}
    known: Index = {}
    for each in wanted:
        if each.is_record or each.at in records:
            lists.setdefault(each.at[:-1], []).append(each)
            continue
        path = resolved(value, each.at, known)
        if path is None:
            raise FormatError("what it lies in is not there", where=each.name)
        edits.append(_edit(path, side(each), _there(value, path)))
    edit_document(document, [edit for edit in edits if edit.kind])
    for at, some in sorted(lists.items(), key=lambda item: -len(item[0])):  # the inner ones first
        _put_records(document, value, at, some, side, known)


def _edit(path: Path, wanted: Any, here: Any) -> Edit:
    if wanted is ABSENT:
        return Edit("remove" if here is not ABSENT else "", path)
    return Edit("" if here is not ABSENT and same(here, wanted) else "set", path, wanted)


def _there(value: Any, path: Path) -> Any:
    for part in path:
        try:
            value = value[part]
        except (KeyError, IndexError, TypeError):
            return ABSENT
    return value


def _put_records(
    document: Document,
    value: Any,
    at: At,
    some: Sequence[Difference],
    side: Callable[[Difference], Any],
    known: Index,
) -> None:
    path = resolved(value, at, known)
    if path is None:
        raise FormatError("what it lies in is not there", where=name_of(at))
    here = _there(value, path)
    if here is ABSENT:
        records = [side(each) for each in some if side(each) is not ABSENT]
        edit_document(document, [Edit("set", path, records)] if records else [])
        return
    if not isinstance(here, list):
        raise FormatError("it is no list there", where=name_of(at))
    order: list[Any] = list(range(len(here)))
    places: dict[Any, Any] = {}  # of records that were put, by their names
    for each in some:
        named = each.at[-1]
        assert isinstance(named, Named)
        index, record = _number(here, named, known), side(each)
        if record is ABSENT:
            order = [one for one in order if one != index]
        elif index is None:
            new = New(record)
            order.insert(_position(order, here, each.behind, places, known), new)
            places[name_of_key({"": named.value}, "")] = new
        elif not same(here[index], record):
            edit_document(document, [Edit("set", (*path, index), record)])
    if order != list(range(len(here))):
        edit_document(document, [Edit("list", path, order=tuple(order))])


def _position(
    order: list[Any],
    here: list[Any],
    behind: Named | None,
    places: dict[Any, Any],
    known: Index,
) -> int:
    """Return where a record comes: behind the one it stood behind, else first or at the end."""
    if behind is None:
        return 0
    anchor = places.get(name_of_key({"": behind.value}, ""))
    if anchor is None:
        anchor = _number(here, behind, known)
    for number, one in enumerate(order):
        if one is anchor or (anchor is not None and one == anchor and not isinstance(one, New)):
            return number + 1
    return len(order)

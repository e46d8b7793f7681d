"""What the records of a list are known by: a field that names them, or nothing.

A record is never known by its number: where one was inserted or removed, every number behind it is another
record's.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Hashable, Sequence
from decimal import Decimal
from typing import Any

import msgspec

from ..formats import ANY, Path

__all__ = ["BY_NUMBER", "Keys", "are_alike", "frozen", "key_of", "name_of_key", "renamed", "same"]

BY_NUMBER = "#"  # what a card says of lists whose members never move
_ODD = re.compile(rb"null|nan", re.I)  # what a value that is not equal to itself may be encoded as
_ALIKE, _LEAST_FIELDS = 0.9, 3
_LIKELY = ("id", "key", "name", "uuid", "guid")  # of several fields that fit, these come first


class Keys:
    """The fields that name the records of lists: `declared`, by patterns of paths, else inferred."""

    def __init__(self, declared: dict[Path, str] | None = None) -> None:
        self._declared = declared or {}

    def of(self, path: Path, sides: Sequence[list[Any]], *, known: bool = True) -> str:
        """Return the field that names the records of a list on all sides; "" if none does.

        `known` False says that there is no base: then some record must be on both sides.
        """
        for pattern, field in self._declared.items():
            if _fits(pattern, path):
                if field == BY_NUMBER:
                    return field if len({len(side) for side in sides}) == 1 else ""
                return field if _names(field, sides) else ""
        return key_of(sides, must_share=not known)

    def fault(self, path: Path, sides: Sequence[list[Any]]) -> str:
        """Return why the field that should name the records of a list does not; "" if none should.

        That is the declared one, else one that is called so: `id`, say. `sides` are base, mine, theirs.
        """
        records = [record for side in sides for record in side]
        if not records or not all(isinstance(record, dict) for record in records):
            return ""
        wanted = [field for pattern, field in self._declared.items() if _fits(pattern, path)]
        wanted = wanted or [f for f in records[0] if f.lstrip("@").lower() in _LIKELY]
        for field in wanted:
            if field == BY_NUMBER:
                return "there are not as many on every side, so their numbers do not name them"
            for who, side in zip(("the base", "yours", "theirs"), sides, strict=True):
                if side and (why := _why_not(field, side)):
                    return f"{field} does not name them: {why} in {who}"
        return ""

    def may_name(self, field: str) -> bool:
        """Tell whether a field names records somewhere, by what is declared or by what it is called."""
        return field in self._declared.values() or field.lstrip("@").lower() in _LIKELY

    def is_sure(self, path: Path, field: str) -> bool:
        """Tell whether a field names records even where there is only one: it is declared, or called so."""
        if not field or field == BY_NUMBER:
            return False
        return field.lstrip("@").lower() in _LIKELY or self.of(path, [[{field: 1}]]) == field


def _fits(pattern: Path, path: Path) -> bool:
    return len(pattern) == len(path) and all(
        wanted in (ANY, part) for wanted, part in zip(pattern, path, strict=True)
    )


def _why_not(field: str, side: list[Any]) -> str:
    """Return why a field does not name the records of one side."""
    lacking = sum(field not in record for record in side)
    if lacking:
        return f"{lacking:,} of {len(side):,} have none"
    values = [_single(record[field]) for record in side]
    if any(value is None or isinstance(value, (dict, list)) for value in values):
        return "it is not a single value"
    counts = Counter(map(frozen, values))
    twice = next((value for value in values if counts[frozen(value)] > 1), None)
    return f"{twice} stands {counts[frozen(twice)]} times" if twice is not None else ""


def key_of(sides: Sequence[list[Any]], *, must_share: bool = False) -> str:
    """Infer the field that names records: present, single and unique on every side; "" if there is none.

    >>> key_of([[{"id": 1, "hp": 5}], [{"id": 1, "hp": 5}, {"id": 2, "hp": 5}]])
    'id'
    """
    filled = [side for side in sides if side]
    if not filled or not all(isinstance(record, dict) for side in filled for record in side):
        return ""
    names = [name for name in filled[0][0] if _names(name, filled)]
    if not names:
        return ""
    ranks = []
    for at, name in enumerate(names):
        values = [_distinct([_single(record[name]) for record in side]) for side in filled]
        shared = sum(len(one & other) for one in values for other in values if one is not other)
        likely = name.lstrip("@").lower() in _LIKELY
        if shared or (likely and not must_share):
            ranks.append((likely, shared, -at, name))
    return max(ranks)[-1] if ranks else ""


def renamed(*sides: list[Any]) -> bool:
    """Tell whether single records have names by which they are not one and the same."""
    filled = [side for side in sides if side]
    if not all(isinstance(side[0], dict) for side in filled):
        return False
    likely = (field for field in filled[0][0] if field.lstrip("@").lower() in _LIKELY)
    return any(
        _names(field, filled) and len({name_of_key(side[0], field) for side in filled}) > 1
        for field in likely
    )


def name_of_key(record: dict[str, Any], field: str) -> Hashable:
    """Return what a record is known by."""
    return frozen(_single(record[field]))


def are_alike(one: dict[str, Any], other: dict[str, Any], key: str) -> bool:
    """Tell whether two records are one, but for their `key`: nine tenths of at least three other fields."""
    fields = (one.keys() | other.keys()) - {key}
    agreeing = sum(f in one and f in other and same(one[f], other[f]) for f in fields)
    return len(fields) >= _LEAST_FIELDS and agreeing >= _ALIKE * len(fields)


def _names(field: str, sides: Sequence[list[Any]]) -> bool:
    """Tell whether a field is in every record, as a single value that no other of its side has."""
    for side in sides:
        if not all(isinstance(record, dict) and field in record for record in side):
            return False
        values = [_single(record[field]) for record in side]
        if any(value is None or isinstance(value, (dict, list)) for value in values):
            return False
        if len(_distinct(values)) < len(values):
            return False
    return True


def _distinct(values: list[Any]) -> set[Hashable]:
    """Return the different ones of some values."""
    if len({*map(type, values)} - {str, int}) == 0:
        return set(values)
    return {frozen(value) for value in values}


def _single(value: Any) -> Any:
    """Return a value, or the only one in a list: an element that stands once."""
    return value[0] if isinstance(value, list) and len(value) == 1 else value


def same(one: Any, other: Any) -> bool:
    """Tell whether two values are equal as values; see `frozen`. What is alike is told at the speed of C.

    >>> same({"a": 1, "b": Decimal("1.10")}, {"b": Decimal("1.1"), "a": 1}), same([1], [True])
    (True, False)
    """
    if one is other:
        return True
    if type(one) is str is type(other):
        return bool(one == other)
    encoded = _encoded(one), _encoded(other)
    if one == other:
        return (encoded[0] is not None and encoded[0] == encoded[1]) or frozen(one) == frozen(other)
    if None not in encoded and not any(_ODD.search(each) for each in encoded if each):
        return False  # equal values that are no equal objects hold something that is no number
    return frozen(one) == frozen(other)


def _encoded(value: Any) -> bytes | None:
    """Return a value as bytes that tell 1 from true; None if it holds what JSON cannot say."""
    try:
        return msgspec.json.encode(value)
    except (TypeError, ValueError, RecursionError):
        return None


def frozen(value: Any) -> Hashable:
    """Return a value that can be looked up, equal for equal values: 1 and 1.0, but not 1 and True.

    The order of the keys of a mapping does not count.
    """
    kind = type(value)
    if kind is str or kind is int:
        return value  # type: ignore[no-any-return]
    if kind is dict:
        return "mapping", frozenset([(key, frozen(inner)) for key, inner in value.items()])
    if kind is list:
        return "list", tuple(map(frozen, value))
    if value != value:
        return "no number", str(value)
    return value if kind is Decimal or kind is float else (kind.__name__, value)

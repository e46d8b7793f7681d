"""Files of a known format, merged by what is in them: settings, tables, projects, packs."""

from __future__ import annotations

from collections.abc import Hashable, Iterator
from contextlib import suppress
from typing import Any

from msgspec.structs import replace

from ..errors import KindredError
from ..formats import Path
from ..statement import ALL_OTHERS, MANY, Line, Outcome, Statement
from .documents import merge_documents
from .keys import Keys, frozen, name_of_key, same
from .outcome import FileMerge, How, Three, check_size, count
from .policy import Rule
from .shortened import Shortened, shortened
from .shortened_rows import ShortenedRows, shortened_rows
from .sides import Case, Question
from .values import Decided, ValueMerge, key_name, record_name

__all__ = ["merge"]

_NESTED = frozenset((dict, list))
_TEXTS = frozenset(("json", "ini", "toml", "yaml", "xml", "csv"))


def merge(three: Three, how: How) -> FileMerge:
    """Merge a file by its values; see `merge_documents`. Large tables without what all sides have alike.

    Raises:
        FormatError: one side is damaged, or the result cannot be written.
    """
    small: Shortened | ShortenedRows | None = None
    if how.known:
        small = shortened(three, how.codec) or shortened_rows(three, how.decode)
    if small is not None:
        with suppress(KindredError):  # the whole file says what is wrong with it
            found = _merge(small.three, how, left_out=small.fields)
            whole = small.restored(found.data) if found.data else b""
            if whole is not None and _holds(small, found):
                return replace(found, data=whole)
    check_size(three)
    return _merge(three, how)


def _holds(small: Shortened | ShortenedRows, found: FileMerge) -> bool:
    """Tell whether a merge of shortened files decided as one of the whole files does: by the same names."""
    merge, sides = found.values, found.sides
    if merge is None or sides is None:
        return False
    kept: dict[str, set[Any]] = {}
    for side in sides[:3]:
        lists = [each for each in _lists("", side, merge) if small.is_from(each[0])]
        if not lists:
            return False
        for name, records in lists:
            if name not in merge.touched:
                continue
            field = merge.named_by.get(name, "")
            if not field:
                return False
            kept.setdefault(field, set()).update(name_of_key(each, field) for each in records)
        if small.codec == "xml" and _is_mixed(side):
            return False
    return all(small.names(field, known) for field, known in kept.items())


def _lists(name: str, value: Any, merge: ValueMerge) -> Iterator[tuple[str, list[Any]]]:
    """Yield the lists of records in a plain value, each by its name on every side."""
    if isinstance(value, dict):
        for part, inner in _members(name, value).items():
            yield from _lists(part, inner, merge)
    elif isinstance(value, list) and any(isinstance(each, dict) for each in value):
        yield name, value
        field = merge.named_by.get(name, "")
        for at, each in enumerate(value):
            if isinstance(each, dict) and not _NESTED.isdisjoint(map(type, each.values())):
                below = record_name(name, field, each) if field else f"{name}[{at}]"
                yield from _lists(below, each, merge)


def _is_mixed(value: Any) -> bool:
    """Tell whether text stands between elements somewhere."""
    if isinstance(value, dict):
        inner = [each for each in value.values() if isinstance(each, (dict, list))]
        has_lists = any(isinstance(each, list) for each in inner)
        return (has_lists and "text()" in value) or any(map(_is_mixed, inner))
    return isinstance(value, list) and any(map(_is_mixed, value))


def _merge(three: Three, how: How, *, left_out: int = 0) -> FileMerge:
    """Merge a file; `left_out` is how many more fields it has that are the same on all sides."""
    assert how.decode is not None

    answered: set[str] = set()

    def by_policy(path: Path, question: Question) -> Rule | None:
        rule = how.policy.for_field(how.name, path, question)
        if rule is not None:
            answered.add(rule.text)
        return rule

    found = merge_documents(
        *three,
        decode=how.decode,
        keys=Keys(how.keys),
        asked=how.asked or by_policy,
        skip=how.version_path,
        known=how.known,
        is_text=how.codec in _TEXTS,
    )
    if found.questions:
        return FileMerge(
            b"",
            conflicts=found.questions,
            named_by=found.merge.named_by,
            unnamed=found.merge.unnamed,
            answered=frozenset(answered),
            sides=(found.base, found.mine, found.theirs, None),
            values=found.merge,
        )
    fields = _Fields(found.merge, many=_size(found.mine) + _size(found.result) >= 2 * MANY)
    fields.compare("", found.mine, found.result)
    before, after = fields.before, fields.after
    lines = list(_lines(before, after, {each.where: each for each in found.decided}))
    alike = [number + left_out for number in fields.alike]
    if alike[0]:
        lines.append(Line(Outcome.UNCHANGED, ALL_OTHERS, count=alike[0]))
    return FileMerge(
        found.data,
        count(
            [
                (each.case.changed_by, each.takes, each.case in (Case.AGREED, Case.BOTH_REMOVED))
                for each in found.decided
            ]
        ),
        Statement(how.name, "fields", tuple(lines)).balanced(
            *(
                {**dict.fromkeys(names, 1), **({ALL_OTHERS: others} if others else {})}
                for names, others in zip((before, after), alike, strict=True)
            )
        ),
        lost=found.lost,
        overruled=found.merge.overruled,
        answered=frozenset(answered),
        notes=found.merge.notes,
        named_by=found.merge.named_by,
        unnamed=found.merge.unnamed,
        sides=(found.base, found.mine, found.theirs, found.result),
        values=found.merge,
    )


class _Fields:
    """The fields of mine and of the result by their names; of `many`, what is alike is counted only.

    `alike` is how many fields there are in that on each side.
    """

    def __init__(self, merge: ValueMerge, *, many: bool) -> None:
        self._merge = merge
        self._many = many
        self.before: dict[str, tuple[Hashable, str]] = {}
        self.after: dict[str, tuple[Hashable, str]] = {}
        self.alike = [0, 0]

    def compare(self, name: str, mine: Any, result: Any, unit: str = "") -> None:
        """Take in what stands under a name on both sides."""
        merge = self._merge
        untouched = name and not unit and name not in merge.touched
        if self._many and untouched and same(mine, result):
            self.alike[0] += _size(mine)
            self.alike[1] += _size(result)
            return
        unit = unit or (name if name in merge.units else "")
        if self._many and mine and result and isinstance(mine, dict) and isinstance(result, dict):
            parts = _members(name, mine), _members(name, result)
        elif self._many and name in merge.named_by and mine and result:
            field = merge.named_by[name]
            parts = (
                {record_name(name, field, record): record for record in mine},
                {record_name(name, field, record): record for record in result},
            )
        else:
            self.before.update(_leaves(mine, name, merge, unit))
            self.after.update(_leaves(result, name, merge, unit))
            return
        for part in dict.fromkeys((*parts[0], *parts[1])):
            if part in parts[0] and part in parts[1]:
                self.compare(part, parts[0][part], parts[1][part], unit)
            elif part in parts[0]:
                self.before.update(_leaves(parts[0][part], part, merge, unit))
            else:
                self.after.update(_leaves(parts[1][part], part, merge, unit))


def _members(name: str, value: dict[str, Any]) -> dict[str, Any]:
    """Return the members of a mapping by their names on every side."""
    parts = ((key_name(key), inner) for key, inner in value.items())
    return {f"{name}.{part}" if name else part: inner for part, inner in parts}


def _size(value: Any) -> int:
    """Return how many fields a value has: an empty container is one."""
    if isinstance(value, dict) and value:
        value = value.values()
    elif not (isinstance(value, list) and value):
        return 1
    if _NESTED.isdisjoint(map(type, value)):
        return len(value)
    return sum(map(_size, value))


def _lines(
    before: dict[str, tuple[Hashable, str]],
    after: dict[str, tuple[Hashable, str]],
    decided: dict[str, Decided],
) -> Iterator[Line]:
    """Yield a line for each field of mine and of the result, by its name on every side."""
    for name in [*before, *(name for name in after if name not in before)]:
        was, now = before.get(name), after.get(name)
        known = decided.get((was or now or ("", ""))[1])
        reason = "" if known is None or known.reason == Case.UNCHANGED.said else known.reason
        if was is None:
            yield Line(Outcome.ADDED, name, reason)
        elif now is None:
            yield Line(Outcome.REMOVED, name, reason)
        else:
            same = was[0] == now[0]
            yield Line(Outcome.UNCHANGED if same else Outcome.CHANGED, name, reason)


def _leaves(
    value: Any, name: str, merge: ValueMerge, unit: str = ""
) -> Iterator[tuple[str, tuple[Hashable, str]]]:
    """Yield every field by its name, with its value and the name of the part that was decided as one."""
    unit = unit or (name if name in merge.units else "")
    if isinstance(value, dict) and value:
        for part, inner in _members(name, value).items():
            yield from _leaves(inner, part, merge, unit)
    elif isinstance(value, list) and value and name in merge.named_by:
        for record in value:
            yield from _leaves(record, record_name(name, merge.named_by[name], record), merge, unit)
    elif isinstance(value, list) and value and name not in merge.whole:
        for at, member in enumerate(value):
            yield from _leaves(member, f"{name}[{at}]", merge, unit)
    else:
        yield name or "the value", (frozen(value), unit)

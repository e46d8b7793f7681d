"""Files of a known format, merged by what is in them: settings, tables, projects, packs."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from contextlib import suppress
from typing import Any, NamedTuple

from msgspec.structs import replace

from ..errors import KindredError
from ..formats import Path
from ..statement import ALL_OTHERS, MANY, Line, Outcome, Statement
from .documents import DocumentMerge, merge_documents, values_of
from .keys import Keys, frozen, name_of_key, same
from .outcome import FileMerge, How, Sides, Three, check_size, count
from .policy import Rule
from .settled import Settled
from .shortened import Shortened, shortened
from .shortened_rows import ShortenedRows, shortened_rows
from .sides import Case, Question
from .values import Decided, ValueMerge, key_name, record_name

__all__ = ["merge"]

_NESTED = frozenset((dict, list))
_TEXTS = frozenset(("json", "ini", "toml", "yaml", "xml", "csv"))


def merge(three: Three, how: How) -> FileMerge:
    """Merge a file by its values; see `merge_documents`. Large tables without what needs no merging.

    Raises:
        FormatError: one side is damaged, or the result cannot be written.
    """
    keys = Keys(how.keys)
    for settling in (
        (keys, None) if how.known and _by_the_table(how) else (None,) if how.known else ()
    ):
        small = shortened(three, how.codec, settling) or shortened_rows(three, how.decode, settling)
        if small is None:
            break
        with suppress(KindredError):  # the whole file says what is wrong with it
            merge = _merge_small(small, how, keys)
            if merge is not None:
                return merge
    check_size(three)
    found, answered = _decided(three, how)
    return _told(found, how, answered)


def _by_the_table(how: How) -> bool:
    """Tell whether what one side alone changed is decided by that, and by no rule."""
    return how.asked is None and not any(rule.always for rule in how.policy.rules)


def _merge_small(small: Shortened | ShortenedRows, how: How, keys: Keys) -> FileMerge | None:
    """Merge shortened files and give the result what was left out; None if it had to be merged, too."""
    assert how.decode is not None
    decode = how.decode
    found, answered = _decided(small.three, how)
    sides = found.base, found.mine, found.theirs
    settled = Settled()
    if small.has_settled:
        named = _named(small, sides, found.merge, keys)
        version = how.version_path[: len(named.path)] if named is not None else ()
        if named is None or (how.version_path and version == named.path):
            return None
        known = small.settled(named.name, named.field)
        if known is None:
            return None
        settled = known
    whole = small.restored(found.data, decode) if found.data else b""
    if whole is None or not _holds(small, found.merge, sides, settled):
        return None
    merge = _told(found, how, answered, left_out=small.fields, settled=settled)
    if not settled.decided:
        return replace(merge, data=whole)

    def told() -> Sides:
        base, mine, theirs, result = small.told(found.data or small.three.theirs, decode)
        plain = [values_of(decode(data)) for data in (base, mine, theirs, result)]
        return plain[0], plain[1], plain[2], plain[3] if found.data else None

    values = replace(
        found.merge,
        decided=(*found.merge.decided, *settled.decided),
        named_by={**found.merge.named_by, settled.name: settled.field},
        touched=found.merge.touched | {settled.name},
    )
    return replace(merge, data=whole, tell=told, values=values, named_by=values.named_by)


class _List(NamedTuple):
    """A list of records: where it is, its name on every side, and which field names its records."""

    path: Path
    name: str
    field: str


def _named(
    small: Shortened | ShortenedRows, sides: Sequence[Any], merge: ValueMerge, keys: Keys
) -> _List | None:
    """Return the only list that records were left out of, the same on all sides; None if it is not sure."""
    found = [
        [each for each in _lists((), "", side, merge) if small.is_from(each[1])] for side in sides
    ]
    if any(len(some) != 1 for some in found) or len({some[0][1] for some in found}) > 1:
        return None
    path, name, _ = found[2][0]
    field = keys.of(path, [some[0][2] for some in found])
    fits = field and field == merge.named_by.get(name, field)
    return _List(path, name, field) if fits else None


def _holds(
    small: Shortened | ShortenedRows, merge: ValueMerge, sides: Sequence[Any], settled: Settled
) -> bool:
    """Tell whether a merge of shortened files decided as one of the whole files does: by the same names."""
    kept: dict[str, set[Any]] = {}
    for side in sides:
        lists = [each for each in _lists((), "", side, merge) if small.is_from(each[1])]
        if not lists:
            return False
        for _, name, records in lists:
            field = merge.named_by.get(name, "")
            if settled.decided and name == settled.name:
                field = settled.field
            elif name not in merge.touched:
                continue
            if not field:
                return False
            kept.setdefault(field, set()).update(name_of_key(each, field) for each in records)
        if small.codec == "xml" and _is_mixed(side):
            return False
    return all(small.names(field, known) for field, known in kept.items())


def _lists(
    path: Path, name: str, value: Any, merge: ValueMerge
) -> Iterator[tuple[Path, str, list[Any]]]:
    """Yield the lists of records in a plain value, each by its path, and by its name on every side."""
    if isinstance(value, dict):
        for key, inner in value.items():
            part = f"{name}.{key_name(key)}" if name else key_name(key)
            yield from _lists((*path, key), part, inner, merge)
    elif isinstance(value, list) and any(isinstance(each, dict) for each in value):
        yield path, name, value
        field = merge.named_by.get(name, "")
        for at, each in enumerate(value):
            if isinstance(each, dict) and not _NESTED.isdisjoint(map(type, each.values())):
                below = record_name(name, field, each) if field else f"{name}[{at}]"
                yield from _lists((*path, at), below, each, merge)


def _is_mixed(value: Any) -> bool:
    """Tell whether text stands between elements somewhere."""
    if isinstance(value, dict):
        inner = [each for each in value.values() if isinstance(each, (dict, list))]
        has_lists = any(isinstance(each, list) for each in inner)
        return (has_lists and "text()" in value) or any(map(_is_mixed, inner))
    return isinstance(value, list) and any(map(_is_mixed, value))


def _decided(three: Three, how: How) -> tuple[DocumentMerge, frozenset[str]]:
    """Merge three files; return also the texts of the rules that decided something."""
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
    return found, frozenset(answered)


def _told(
    found: DocumentMerge,
    how: How,
    answered: frozenset[str],
    *,
    left_out: int = 0,
    settled: Settled | None = None,
) -> FileMerge:
    """Tell what was decided; there are `left_out` more fields, in which `settled` was changed."""
    result = None if found.questions else found.result

    def sides() -> Sides:
        return found.base, found.mine, found.theirs, result

    told = FileMerge(
        found.data,
        named_by=found.merge.named_by,
        unnamed=found.merge.unnamed,
        answered=answered,
        tell=sides,
        values=found.merge,
    )
    if found.questions:
        return replace(told, conflicts=found.questions)
    settled = settled or Settled()
    fields = _Fields(found.merge, many=_size(found.mine) + _size(found.result) >= 2 * MANY)
    fields.compare("", found.mine, found.result)
    before, after = {**fields.before, **settled.before}, {**fields.after, **settled.after}
    decided = (*found.decided, *settled.decided)
    lines = list(_lines(before, after, {each.where: each for each in decided}))
    alike = [number + left_out - len(settled.decided) for number in fields.alike]
    if alike[0]:
        lines.append(Line(Outcome.UNCHANGED, ALL_OTHERS, count=alike[0]))
    return replace(
        told,
        counts=count(
            [
                (each.case.changed_by, each.takes, each.case in (Case.AGREED, Case.BOTH_REMOVED))
                for each in decided
            ]
        ),
        statement=Statement(how.name, "fields", tuple(lines)).balanced(
            *(
                {**dict.fromkeys(names, 1), **({ALL_OTHERS: others} if others else {})}
                for names, others in zip((before, after), alike, strict=True)
            )
        ),
        lost=found.lost,
        overruled=found.merge.overruled,
        notes=found.merge.notes,
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

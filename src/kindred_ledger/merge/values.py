"""Merging plain values: mappings by key, records by what names them, other lists by alignment.

The result is *theirs*, edited: what comes out are edits of theirs, in its own paths, the merged value they
lead to, and what was decided about each part.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from decimal import Decimal
from functools import cached_property, lru_cache
from typing import Any

from msgspec import Struct

from ..formats import Path, format_path
from .keys import BY_NUMBER, Keys, are_alike, frozen, name_of_key, renamed, same
from .policy import Choice, Rule
from .sequences import Region, merged_regions
from .sides import ABSENT, Case, Question, Side, case_of

__all__ = [
    "Decided",
    "Edit",
    "New",
    "ValueMerge",
    "key_name",
    "merge_values",
    "nobody",
    "record_name",
    "same",
]

# What a decision asks of whoever knows the policy: the path, the row of the table, mine and theirs.
Asked = Callable[[Path, Question], Rule | None]


class Edit(Struct, frozen=True):
    """One change of theirs. `kind` is set, remove, or list.

    `order` of a list says what stands in it afterwards: an index of theirs, or the value of a new member.
    """

    kind: str
    path: Path
    value: Any = None
    order: tuple[Any, ...] = ()


class New(Struct, frozen=True):
    """A member that comes into a list."""

    value: Any


class Decided(Struct, frozen=True, gc=False):
    """What was decided about a part that is one value, record or region, by its name: whose side, and why."""

    where: str
    case: Case
    takes: Side
    reason: str


class ValueMerge(Struct, frozen=True, dict=True):
    """The merged value, the edits of theirs that lead to it, and what was decided.

    `named_by` says which field names the records of a list, by the list's name; what is not in `touched`, by
    its name, is the same on all sides, and nothing in it was decided; `overruled` are changes of mine that
    a rule let go for theirs; `unnamed` says of lists why no field names their records, that should;
    `alike` are records that are gone on one side, and the new one there that each is like.
    """

    value: Any
    edits: tuple[Edit, ...]
    decided: tuple[Decided, ...]
    questions: tuple[Question, ...]
    notes: tuple[str, ...]
    named_by: dict[str, str] = {}
    touched: frozenset[str] = frozenset()
    overruled: tuple[Question, ...] = ()
    unnamed: dict[str, str] = {}
    alike: dict[str, str] = {}

    @cached_property
    def units(self) -> set[str]:
        """The names of the parts that were decided as one."""
        return {each.where for each in self.decided}

    @cached_property
    def whole(self) -> set[str]:
        """The names of the parts in which what stands at a number is not what stood there in mine."""
        return {
            each.where
            for each in self.decided
            if each.takes is not Side.MINE and each.case in _MAY_DIFFER
        }


def nobody(path: Path, question: Question) -> Rule | None:
    """Answer nothing; see `Asked`."""
    return None


def merge_values(
    base: Any,
    mine: Any,
    theirs: Any,
    *,
    keys: Keys | None = None,
    asked: Asked = nobody,
    skip: Path = (),
    known: bool = True,
) -> ValueMerge:
    """Merge three plain values of one format version.

    `skip` is a path that is theirs' own: the version a file says it has. `known` False says there is no
    base. Where something is in question the merged value has theirs.

    >>> merge_values({"a": 1, "b": 1}, {"a": 2, "b": 1}, {"a": 1, "b": 3}).value
    {'a': 2, 'b': 3}
    """
    merge = _Merge(keys or Keys(), asked, skip, known)
    merged = merge.value((), "", base, mine, theirs)
    return ValueMerge(
        merged,
        tuple(merge.edits),
        tuple(merge.decided),
        tuple(merge.questions),
        tuple(merge.notes),
        merge.named_by,
        frozenset(merge.touched),
        tuple(merge.overruled),
        merge.unnamed,
        merge.alike,
    )


_MOST_COMPARED = 1_000_000  # pairs of records that are held against each other
_PLAIN = (str, int, bool)  # of which equal is the same


class _Merge:
    def __init__(self, keys: Keys, asked: Asked, skip: Path, known: bool) -> None:
        self._keys = keys
        self._asked = asked
        self._skip = skip
        self._known = known
        self.edits: list[Edit] = []
        self.decided: list[Decided] = []
        self.questions: list[Question] = []
        self.notes: list[str] = []
        self.named_by: dict[str, str] = {}
        self.touched: set[str] = set()
        self.overruled: list[Question] = []
        self.unnamed: dict[str, str] = {}
        self.alike: dict[str, str] = {}

    def value(self, path: Path, name: str, base: Any, mine: Any, theirs: Any) -> Any:
        """Merge what stands at a path of theirs; return the result, `ABSENT` if nothing shall stand there.

        `path` is where it is, or would be, in theirs; `name` is how people find it on every side.
        """
        if path and path == self._skip:
            self.decided.append(
                Decided(name, Case.UNCHANGED, Side.NOBODY, "the version of its format")
            )
            return theirs
        if self._is_untouched(base, mine, theirs):
            return theirs
        self.touched.add(name)
        if isinstance(mine, dict) and isinstance(theirs, dict):
            return self._mapping(path, name, base if isinstance(base, dict) else {}, mine, theirs)
        if isinstance(mine, list) and isinstance(theirs, list):
            return self._list(path, name, base if isinstance(base, list) else [], mine, theirs)
        return self._single(path, name, base, mine, theirs)

    def _is_untouched(self, base: Any, mine: Any, theirs: Any) -> bool:
        """Tell whether a value is the same on all sides: then nothing in it has to be decided."""
        if type(theirs) in _PLAIN and type(theirs) is type(mine) is type(base):
            return bool(theirs == mine == base)
        return (
            isinstance(theirs, (dict, list))
            and same(mine, theirs)
            and (same(base, theirs) if self._known else base is ABSENT)
        )

    def _single(self, path: Path, name: str, base: Any, mine: Any, theirs: Any) -> Any:
        """Decide about one value as a whole."""
        case = case_of(base, mine, theirs, same=same, known=self._known)
        takes, reason = self._decide(path, name, case, base, mine, theirs)
        self.decided.append(Decided(name, case, takes, reason))
        if takes is not Side.MINE:
            return theirs
        if mine is ABSENT:
            if theirs is not ABSENT:
                self.edits.append(Edit("remove", path))
        elif not same(mine, theirs):
            self.edits.append(Edit("set", path, mine))
        return mine

    def _decide(
        self, path: Path, name: str, case: Case, base: Any, mine: Any, theirs: Any
    ) -> tuple[Side, str]:
        """Return whose side is taken, and why; note a question if nobody can say."""
        question = Question(name, case, base, mine, theirs)
        rule = self._asked(path, question)
        if rule is not None and rule.choice in (Choice.MINE, Choice.THEIRS):
            side = Side(rule.choice.value)
            if side is Side.THEIRS and case.is_conflict and mine is not ABSENT:
                self.overruled.append(question)
            return side, rule.said
        if case.is_conflict:
            self.questions.append(question)
            return Side.BOTH, case.said
        return case.changed_by, case.said

    def _mapping(self, path: Path, name: str, base: Any, mine: Any, theirs: Any) -> Any:
        merged = {}
        skips = self._skip[: len(path)] == path if self._skip else False  # the version may be in it
        for key in dict.fromkeys((*theirs, *mine, *base)):
            sides = base.get(key, ABSENT), mine.get(key, ABSENT), theirs.get(key, ABSENT)
            if not skips and self._is_untouched(*sides):
                merged[key] = sides[2]
                continue
            inner = key_name(key)
            below = f"{name}.{inner}" if name else inner
            found = self.value((*path, key), below, *sides)
            if found is not ABSENT:
                merged[key] = found
        return merged

    def _list(self, path: Path, name: str, base: Any, mine: Any, theirs: Any) -> Any:
        if len(mine) == len(theirs) == 1 and len(base) <= 1 and not renamed(base, mine, theirs):
            old = base[0] if base else ABSENT  # an element that stands once
            return [self.value((*path, 0), f"{name}[0]", old, mine[0], theirs[0])]
        if same(mine, theirs):
            return self._single(path, name, base, mine, theirs)
        sides = [side for side in (base, mine, theirs) if side]
        field = self._keys.of(path, sides, known=self._known)
        if field == BY_NUMBER:
            return self._numbered(path, name, base, mine, theirs)
        if field:
            self.named_by[name] = field
            return self._records(path, name, field, base, mine, theirs)
        if why := self._keys.fault(path, (base, mine, theirs)):
            self.unnamed[name] = why
        if not self._known:
            return self._single(path, name, ABSENT, mine, theirs)
        if all(isinstance(each, (int, Decimal, float)) for each in (*mine, *theirs)):
            return self._single(path, name, base, mine, theirs)  # a size, a place, a colour
        return self._aligned(path, name, base, mine, theirs)

    def _numbered(self, path: Path, name: str, base: Any, mine: Any, theirs: Any) -> Any:
        """Merge members that never move, number by number."""
        old = base or [ABSENT] * len(theirs)
        sides = zip(old, mine, theirs, strict=True)
        return [self.value((*path, at), f"{name}[{at}]", *each) for at, each in enumerate(sides)]

    # ---- lists of records that a field names ----------------------------------------------

    def _records(self, path: Path, name: str, field: str, base: Any, mine: Any, theirs: Any) -> Any:
        old, here, there = (
            {name_of_key(record, field): at for at, record in enumerate(side)}
            for side in (base, mine, theirs)
        )
        merged: dict[int, Any] = {}  # by the number in theirs
        for key, at in there.items():
            count = len(self.edits)
            was = base[old[key]] if key in old else ABSENT
            own = mine[here[key]] if key in here else ABSENT
            if self._is_untouched(was, own, theirs[at]):
                merged[at] = theirs[at]
                continue
            below = record_name(name, field, theirs[at])
            record = self.value((*path, at), below, was, own, theirs[at])
            if record is ABSENT:
                del self.edits[count:]  # it goes as a member of the list
            else:
                merged[at] = record
        self._note_renamed(name, field, (base, mine, theirs), (old, here, there))
        new: dict[Hashable, New] = {}
        for key, at in here.items():
            if key not in there:
                count = len(self.edits)
                below = record_name(name, field, mine[at])
                known = base[old[key]] if key in old else ABSENT
                record = self.value((*path, len(theirs)), below, known, mine[at], ABSENT)
                del self.edits[count:]  # it comes as a member of the list
                if record is not ABSENT:
                    new[key] = New(record)
        order = _joined([(key, at) for key, at in there.items() if at in merged], list(here), new)
        self._note_order(path, name, [list(old), list(here), list(there)])
        self._reorder(path, order, len(theirs))
        return [each.value if isinstance(each, New) else merged[each] for each in order]

    def _note_renamed(
        self, name: str, field: str, sides: Sequence[Any], places: Sequence[dict[Hashable, int]]
    ) -> None:
        """Note a record that is gone on one side, and changed on the other, where a new one is like it."""
        (base, *both), (old, *known) = sides, places
        for gone, other in ((0, 1), (1, 0)):
            changed = known[other]
            lost = [
                key
                for key, at in old.items()
                if key not in known[gone]
                and key in changed
                and not same(base[at], both[other][changed[key]])
            ]
            came = [key for key in known[gone] if key not in old and key not in changed]
            for key in lost if len(lost) * len(came) <= _MOST_COMPARED else ():
                was = base[old[key]]
                like = [n for n in came if are_alike(was, both[gone][known[gone][n]], field)]
                if len(like) == 1:
                    told = record_name(name, field, both[gone][known[gone][like[0]]])
                    self.alike[record_name(name, field, was)] = told

    def _note_order(self, path: Path, name: str, sides: Sequence[list[Hashable]]) -> None:
        old, here, there = sides
        known = set(old) & set(here)
        mine = [key for key in here if key in known]
        if mine != [key for key in old if key in known] and mine != [
            k for k in there if k in known
        ]:
            self.notes.append(f"{name}: the order you gave its records is not kept")

    def _reorder(self, path: Path, order: list[Any], size: int) -> None:
        if order != list(range(size)):
            self.edits.append(Edit("list", path, order=tuple(order)))

    # ---- other lists ----------------------------------------------------------------------

    def _aligned(self, path: Path, name: str, base: Any, mine: Any, theirs: Any) -> Any:
        old, here, there = ([frozen(each) for each in side] for side in (base, mine, theirs))
        regions = merged_regions(old, here, there)
        unique = all(len(set(side)) == len(side) for side in (old, here, there))
        if all(region.case in _FREE for region in regions):
            order: list[Any] = []
            for region in regions:
                if region.case.changed_by is Side.MINE:
                    order += (New(mine[at]) for at in region.mine)
                else:
                    order += region.theirs
            merged = [each.value if isinstance(each, New) else theirs[each] for each in order]
            # What both moved, each elsewhere, would stand twice.
            if not unique or len(set(map(frozen, merged))) == len(merged):
                self._decide_list(path, name, base, mine, theirs, regions)
                self._reorder(path, order, len(theirs))
                return merged
        # Names that both put in at one place may stand together. Numbers may be a size or a colour.
        apart = all(each.case in _FREE or each.case is Case.BOTH_ADDED for each in regions)
        if unique and apart and all(isinstance(each, str) for each in (*mine, *theirs)):
            joined = self._as_set(path, name, (base, mine, theirs), (old, here, there))
            if joined is not None:
                return joined
        return self._single(path, name, base, mine, theirs)

    def _decide_list(
        self, path: Path, name: str, base: Any, mine: Any, theirs: Any, regions: list[Region]
    ) -> None:
        """Note what became of a list as a whole: who changed something in it."""
        sides = {region.case.changed_by for region in regions} - {Side.NOBODY}
        if sides == {Side.MINE, Side.THEIRS}:
            self.decided.append(
                Decided(name, Case.BOTH_CHANGED, Side.NOBODY, "both changed it, in other places")
            )
            return
        case = case_of(base, mine, theirs, same=same)
        self.decided.append(Decided(name, case, case.changed_by, case.said))

    def _as_set(
        self, path: Path, name: str, values: Sequence[list[Any]], sides: Sequence[list[Hashable]]
    ) -> list[Any] | None:
        """Merge values of which each stands once; None if their order was changed, which may matter."""
        (_, mine, theirs), (old, here, there) = values, sides
        for side in (here, there):
            common = [each for each in side if each in set(old)]
            if common != [each for each in old if each in set(side)]:
                return None
        gone = set(old) - set(here)
        known = set(there) | set(old)
        new = {each: New(mine[at]) for at, each in enumerate(here) if each not in known}
        kept = [(each, at) for at, each in enumerate(there) if each not in gone]
        order = _joined(kept, here, new)
        self.decided.append(
            Decided(name, Case.BOTH_CHANGED, Side.NOBODY, "what each side added and removed")
        )
        self._reorder(path, order, len(theirs))
        return [each.value if isinstance(each, New) else theirs[each] for each in order]


_MAY_DIFFER = frozenset(
    (Case.THEY_CHANGED, Case.I_CHANGED, Case.BOTH_CHANGED, Case.BOTH_ADDED, Case.DIFFERENT)
)
_FREE = frozenset(case for case in Case if not case.is_conflict)


def _joined(
    kept: Sequence[tuple[Hashable, Any]], here: Sequence[Hashable], new: dict[Hashable, New]
) -> list[Any]:
    """Return what is kept, in its order, and what is new, each behind the nearest before it `here`.

    What has nothing kept before it comes before the first that is kept, else at the end.
    """
    there = {key for key, _ in kept}
    behind: dict[Hashable, list[New]] = {}
    first = anchor = None
    for key in here:
        if key in there:
            anchor = key
            first = first if first is not None else key
        elif key in new:
            behind.setdefault(anchor, []).append(new[key])
    out: list[Any] = []
    for key, item in kept:
        if key == first:
            out += behind.get(None, [])
        out.append(item)
        out += behind.get(key, [])
    return out if first is not None else out + behind.get(None, [])


@lru_cache(maxsize=4096)
def key_name(key: str) -> str:
    """Return a key as it stands in the name of a place."""
    return format_path((key,))


def record_name(name: str, field: str, record: dict[str, Any]) -> str:
    """Return the name of a record on every side: that of its list, and what it is known by.

    >>> record_name("crew", "@id", {"@id": ["7"], "name": "Ada"})
    'crew[id=7]'
    """
    value = record[field]
    if isinstance(value, list) and len(value) == 1:
        value = value[0]
    return f"{name}[{field.lstrip('@')}={value}]"

"""Names of leaves in books: of records by what the card says they are known by, else by their numbers.

A record that stands at another number on the other side is the same one under its name: one that is put in
front of forty-six others is one difference. Where the key does not name the records on one side, or is
another on the other side, or the records stand in another order, both sides go by numbers.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise
from typing import Any

from ..formats import ANY, Leaf, Path, format_path
from ..merge import fits, record_name

__all__ = ["Names", "names_of"]


class Names:
    """Names of paths; the part that leaves have in common is put together once.

    `records` has the names of records within their lists, by their paths.
    """

    def __init__(self, records: Mapping[Path, str] | None = None) -> None:
        self._records = records or {}
        self._heads: dict[Path, str] = {(): ""}

    def __call__(self, path: Path) -> str:
        return self._with(self._head(path[:-1]), path) if path else format_path(path)

    def _head(self, path: Path) -> str:
        head = self._heads.get(path)
        if head is None:
            head = self._heads[path] = self._with(self._head(path[:-1]), path)
        return head

    def _with(self, head: str, path: Path) -> str:
        last = path[-1]
        if type(last) is int:
            return f"{head}{self._records.get(path) or f'[{last}]'}"
        if last == ANY:
            return f"{head}[*]"
        part = last if isinstance(last, str) and last.isidentifier() else format_path((last,))
        return f"{head}.{part}" if head else part


class _List:
    """A list whose records a field may name: what each is known by, and how many there are."""

    def __init__(self, field: str) -> None:
        self.field = field
        self.numbers: set[int] = set()
        self.keys: dict[int, Leaf] = {}

    def is_named(self) -> bool:
        """Tell whether every record has the field, and no two the same."""
        texts = {str(leaf.value) for leaf in self.keys.values()}
        return len(texts) == len(self.keys) == len(self.numbers)

    def is_in_order(self) -> bool:
        """Tell whether the records stand in the order they had when they were read."""
        origins = [leaf.origin for _, leaf in sorted(self.keys.items()) if leaf.origin is not None]
        placed = [_record_of(origin) for origin in origins]
        return all(one[1] < other[1] for one, other in pairwise(placed) if one[0] == other[0])


def _record_of(key: Path) -> tuple[Path, Any]:
    """Return the list and the number of the record that a key stands in, alone or as its single child."""
    cut = -3 if isinstance(key[-1], int) else -2
    return key[:cut], key[cut]


def names_of(
    keys: Mapping[Path, str], before: Sequence[Leaf], after: Sequence[Leaf]
) -> tuple[Names, Names]:
    """Return the names of what was read, and of what came of it; `keys` by patterns of the paths of lists.

    >>> read = [Leaf(("crew", n, "id"), 7 + n, "", None) for n in range(2)]
    >>> came = [Leaf(("crew", n + 1, "id"), 7 + n, "", ("crew", n, "id")) for n in range(2)]
    >>> old, new = names_of({("crew",): "id"}, read, came)
    >>> old(("crew", 0, "id")), new(("crew", 1, "id")), new(("crew", 0, "pay"))
    ('crew[id=7].id', 'crew[id=7].id', 'crew[0].pay')
    """
    if not keys:
        return Names(), Names()
    old, new = _lists(keys, before), _lists(keys, after)
    read = {leaf.path: (at, leaf) for at, some in old.items() for leaf in some.keys.values()}
    came = {leaf.path for some in new.values() for leaf in some.keys.values()}
    joined: dict[Path, set[Path]] = {at: set() for at in new}  # the lists that records came from
    unsure = {at for at, some in old.items() if not some.is_named()}
    unsure_new = {at for at, some in new.items() if not some.is_named()}
    for at, some in new.items():
        for leaf in some.keys.values():
            if leaf.origin is None:
                continue
            known = read.get(leaf.origin)
            if known is None or str(known[1].value) != str(leaf.value):
                unsure_new.add(at)
            if known is not None:
                joined[at].add(known[0])
        if not some.is_in_order():
            unsure_new.add(at)
        if not joined[at] and at in old:
            unsure_new.add(at)  # what names them came with this version
    for leaf in after:
        if leaf.origin in read and leaf.path not in came:
            unsure.add(read[leaf.origin][0])  # it names nothing any more
    changed = True
    while changed:
        doubtful = {at for at, lists in joined.items() if lists & unsure} - unsure_new
        unsure_new |= doubtful
        more = {one for at in unsure_new for one in joined.get(at, ())} - unsure
        unsure |= more
        changed = bool(doubtful or more)
    return (
        Names(_records(old, unsure)),
        Names(_records(new, unsure_new)),
    )


def _lists(keys: Mapping[Path, str], leaves: Sequence[Leaf]) -> dict[Path, _List]:
    found: dict[Path, _List] = {}
    for leaf in leaves:
        for pattern, field in keys.items():
            path, size = leaf.path, len(pattern)
            number = path[size] if len(path) > size else ""
            if isinstance(number, str) or not fits(pattern, path):
                continue
            some = found.setdefault(path[:size], _List(field))
            some.numbers.add(number)
            if path[size + 1 :] in ((field,), (field, 0)) and leaf.value not in ({}, [], None):
                some.keys[number] = leaf
    return found


def _records(lists: Mapping[Path, _List], unsure: set[Path]) -> dict[Path, str]:
    return {
        (*at, number): record_name("", some.field, {some.field: leaf.value})
        for at, some in lists.items()
        if at not in unsure
        for number, leaf in some.keys.items()
    }

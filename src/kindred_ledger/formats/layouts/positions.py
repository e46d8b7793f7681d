"""Numbers in a file that say where something is, or how large, though the layout does not say so.

Such a number does not follow when what it speaks of moves: the file reads back, and the game looks in the
wrong place. It is told by samples: in all of them it is where the same field begins or ends, or its size.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ..document import Path, format_path
from ..tree import LIST, MAPPING, SCALAR
from .document import LayoutDocument
from .item import Item

__all__ = ["likely_positions", "positions_in"]

_LEAST = 4  # smaller numbers are where something begins by chance
_Told = dict[Path, tuple[int, frozenset[str]]]


def positions_in(document: LayoutDocument) -> _Told:
    """Return the whole numbers of a file that are a place or a size in it: value, and of what.

    What lies in tables, and in what is compressed, is not looked at.
    """
    items = list(_items(document.root, ()))
    begins = {item.start for _, item in items}
    places: dict[int, set[str]] = {document.size: {"the size of the file"}}
    for path, item in items:
        name = format_path(path)
        for value, what in (
            (item.start, f"where {name} begins"),
            (item.end, f"where {name} ends"),
            (item.end - item.start, f"the size of {name}"),
        ):
            if "ends" not in what or value not in begins:  # where the next one begins is meant
                places.setdefault(value, set()).add(what)
    return {
        path: (item.value, frozenset(places[item.value]))
        for path, item in items
        if item.kind == SCALAR and type(item.value) is int and not _follows(item)
        if item.value >= _LEAST and item.value in places
    }


def likely_positions(documents: Sequence[LayoutDocument]) -> dict[Path, frozenset[str]]:
    """Return the numbers that are a place or size of the same thing in all of several files.

    They must not have the same value in all: a constant is one by chance.
    """
    if len(documents) < 2:
        return {}
    told = [positions_in(document) for document in documents]
    found = {}
    for path in told[0]:
        if all(path in one for one in told) and len({one[path][0] for one in told}) > 1:
            same = frozenset.intersection(*(one[path][1] for one in told))
            if same:
                found[path] = same
    return found


def _items(item: Item, path: Path) -> Iterator[tuple[Path, Item]]:
    """Yield the named items that lie in the bytes of the file itself."""
    for member in item.members or () if item.kind == MAPPING else ():
        if member.key and member.start >= 0 and member.buffer is item.buffer:
            inner = (*path, member.key)
            yield inner, member
            if member.kind not in (SCALAR, LIST):
                yield from _items(member, inner)


def _follows(item: Item) -> bool:
    field = item.field
    return field is not None and (field.is_derived or hasattr(field.kind, "follows"))

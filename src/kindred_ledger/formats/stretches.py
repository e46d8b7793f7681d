"""Stretches: containers nobody touched, told by their bytes and by how many leaves they hold of which name.

A large file is mostly what no step is about. Its leaves are not looked at one by one: the same bytes
hold the same leaves.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Container, Iterator, Mapping
from itertools import chain
from typing import Any, Protocol, cast

from msgspec import Struct

from .document import ANY, Document, Leaf, Path

__all__ = ["Stretch", "Stretched", "as_stretched", "tally"]

_SHAPES = 8  # sets of keys; records of more are sorted out one by one


class Stretch(Struct, frozen=True):
    """A container that is as it was read: where it is, where it was, its bytes, its leaves.

    `names` has how many leaves there are at which path below it, with `ANY` for places in lists.
    """

    path: Path
    origin: Path
    data: bytes
    names: Mapping[Path, int]


class Stretched(Document, Protocol):
    """A document that tells what nobody touched by its bytes."""

    def leaves(self, at: Path | str = (), *, without: Container[Path] = ()) -> Iterator[Leaf]:
        """Yield every leaf at or below a path, but not at or below those `without`."""
        ...

    def stretches(self, least: int, at: Path = ()) -> list[Stretch]:
        """Return the outermost stretches of at least so many bytes at or below a path, in order."""
        ...

    def untouched(self, path: Path) -> tuple[Path, bytes] | None:
        """Return where a container that is as it was read was then, and its bytes; None if it is not."""
        ...


def as_stretched(document: Document) -> Stretched | None:
    """Return a document as one that tells stretches, None if its kind tells none."""
    return cast(Stretched, document) if hasattr(document, "stretches") else None


def tally(value: Any) -> tuple[dict[Path, int], int]:
    """Return how many leaves of which name plain values have, and how many members of mappings.

    >>> tally({"crew": [{"name": "Ada"}, {"name": "Bo", "pets": []}]})[0]
    {('crew', '*', 'name'): 2, ('crew', '*', 'pets'): 1}
    """
    names: dict[Path, int] = {}
    pairs = 0
    waiting: list[tuple[Path, list[Any]]] = [((), [value])]
    while waiting:
        path, values = waiting.pop()
        kinds = Counter(map(type, values))
        mappings, lists = _of_kind(dict, values, kinds), _of_kind(list, values, kinds)
        empty = lists.count([]) + mappings.count({})
        if leaves := len(values) - kinds[dict] - kinds[list] + empty:
            names[path] = names.get(path, 0) + leaves
        inner: list[tuple[Path, list[Any]]] = []
        if lists and (rows := list(chain.from_iterable(lists))):
            inner.append(((*path, ANY), rows))
        if mappings:
            pairs += sum(map(len, mappings))
            inner += [((*path, key), held) for key, held in _by_key(mappings).items()]
        waiting += reversed(inner)
    return names, pairs


def _of_kind(kind: type, values: list[Any], kinds: Mapping[type, int]) -> list[Any]:
    count = kinds.get(kind, 0)
    if count in (0, len(values)):
        return values if count else []
    return [each for each in values if type(each) is kind]


def _by_key(mappings: list[dict[str, Any]]) -> dict[str, list[Any]]:
    shapes = Counter(map(tuple, mappings))
    if len(shapes) == 1:
        return {key: [mapping[key] for mapping in mappings] for key in next(iter(shapes))}
    if len(shapes) <= _SHAPES:
        keys = dict.fromkeys(chain.from_iterable(shapes))
        return {key: [mapping[key] for mapping in mappings if key in mapping] for key in keys}
    held: dict[str, list[Any]] = {}
    for mapping in mappings:
        for key, value in mapping.items():
            held.setdefault(key, []).append(value)
    return held

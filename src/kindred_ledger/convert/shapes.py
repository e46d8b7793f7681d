"""Shapes: which keys files of a format version have, of which kinds, and how large their numbers are.

What a step makes of old files is held against the files that a release ships in the new format: a key that
all of those have and no result has, or the other way round, was forgotten, most likely.
"""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from msgspec import Struct, field

from ..formats import ANY, Document, Path, format_path

__all__ = ["Shape", "differences"]

_TIMES = 20  # how far numbers may lie beyond those of the release
_KINDS = {str: "text", bool: "truth", int: "number", float: "number", Decimal: "number",
          list: "list", dict: "mapping", bytes: "bytes"}  # fmt: skip


class _Group(Struct):
    """The mappings at a place, in all files: how many there are, and how many have each key."""

    count: int = 0
    keys: dict[str, int] = field(default_factory=dict)


class Shape(Struct):
    """The shape of some files."""

    groups: dict[Path, _Group] = field(default_factory=dict)
    kinds: dict[Path, set[str]] = field(default_factory=dict)
    largest: dict[Path, Any] = field(default_factory=dict)  # by the size of numbers

    def add(self, document: Document) -> None:
        """Take in one more file."""
        stack: list[tuple[Path, Any]] = [((), document.get(()))]
        while stack:
            at, value = stack.pop()
            kind = _KINDS.get(type(value), "nothing")
            self.kinds.setdefault(at, set()).add(kind)
            if kind == "mapping":
                group = self.groups.setdefault(at, _Group())
                group.count += 1
                for key, inner in value.items():
                    group.keys[str(key)] = group.keys.get(str(key), 0) + 1
                    stack.append(((*at, str(key)), inner))
            elif kind == "list":
                stack += [((*at, ANY), inner) for inner in value]
            elif kind == "number":
                self.largest[at] = max(self.largest.get(at, 0), abs(value))


def differences(made: Shape, shipped: Shape) -> Iterator[tuple[str, str]]:
    """Yield the fields in which what was made differs from what is shipped, each with what differs."""
    for at in sorted(set(made.groups) & set(shipped.groups)):
        yield from _of_keys(at, made.groups[at], shipped.groups[at])
    for at in sorted(set(made.kinds) & set(shipped.kinds)):
        one, other = made.kinds[at] - {"nothing"}, shipped.kinds[at] - {"nothing"}
        if one and other and not one & other:
            yield _named(at), f"it is {_or(one)}, and {_or(other)} in the release"
    for at in sorted(set(made.largest) & set(shipped.largest)):
        here, there = made.largest[at], shipped.largest[at]
        times = Decimal(str(here)) / Decimal(str(there)) if there else 0
        if times and not 1 / Decimal(_TIMES) <= times <= _TIMES:
            yield _named(at), f"it goes up to {here:,}, and up to {there:,} in the release"


def _of_keys(at: Path, made: _Group, shipped: _Group) -> Iterator[tuple[str, str]]:
    """Yield keys that all mappings of the one side have, and none of the other.

    Where hardly a key is common to both, the keys are names of things.
    """
    common = len(set(made.keys) & set(shipped.keys))
    if not common or 2 * common < min(len(made.keys), len(shipped.keys)):
        return
    for key, number in shipped.keys.items():
        if number == shipped.count and key not in made.keys:
            yield _named((*at, key)), "every file of the release has it, and no result"
    for key, number in made.keys.items():
        if number == made.count and key not in shipped.keys:
            yield _named((*at, key)), "every result has it, and no file of the release"


def _named(at: Path) -> str:
    return format_path(at) or "the file"


def _or(kinds: set[str]) -> str:
    return " or ".join(f"a {kind}" if kind != "bytes" else kind for kind in sorted(kinds))

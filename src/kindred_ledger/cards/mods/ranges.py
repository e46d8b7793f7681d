"""Builds: for which builds a mod says it is made, in the ways people write that.

What always holds: a text that can be meant in two ways is refused, never guessed; so `~1.4` and `^1.4`,
which programs read differently, are not understood.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any

from msgspec import Struct

from ...errors import VersionError
from ...versions import Version

__all__ = ["PLAIN", "Builds", "read_builds"]

PLAIN = ("exactly", "series", "later")  # what a build alone may mean
_ALL = ("*", "any", "all")
_SIGNED = re.compile(r"(>=|<=|==|!=|=|>|<)\s*([^<>=!,\s]+)")
_SPAN = re.compile(r"([\[(])\s*([^,\[\]()]*?)\s*,\s*([^,\[\]()]*?)\s*([\])])")
_BETWEEN = re.compile(r"(\S+)\s+(?:-|–|to)\s+(\S+)")
_SERIES = re.compile(r"(v?\d+(?:\.\d+)*)\.[x*]", re.I)
_NUMBERS = re.compile(r"v?\s*(\d+(?:\.\d+)*)", re.I)


class _Piece(Struct, frozen=True):
    """Bounds that all must hold, or the numbers that a build begins with."""

    bounds: tuple[tuple[str, Version], ...] = ()
    series: tuple[int, ...] = ()

    def holds(self, build: Version) -> bool:
        if self.series and _numbers(build.text, len(self.series)) != self.series:
            return False
        return all(_SIGNS[sign](build, bound) for sign, bound in self.bounds)


_SIGNS: dict[str, Callable[[Version, Version], bool]] = {
    "<": lambda one, other: one < other,
    "<=": lambda one, other: not other < one,
    ">": lambda one, other: other < one,
    ">=": lambda one, other: not one < other,
    "==": lambda one, other: one == other,
    "=": lambda one, other: one == other,
    "!=": lambda one, other: one != other,
}


class Builds(Struct, frozen=True):
    """A set of builds as a descriptor says it: its text, and what it means.

    >>> builds = read_builds("1.4 - 2.0", card.build)
    >>> card.build("1.10") in builds, card.build("2.1") in builds
    (True, False)
    """

    text: str
    pieces: tuple[_Piece, ...]

    def __contains__(self, build: Version) -> bool:
        return any(piece.holds(build) for piece in self.pieces)

    def __str__(self) -> str:
        return self.text


def read_builds(value: Any, parse: Callable[[str], Version], plain: str = "exactly") -> Builds:
    """Read what a descriptor says of builds: a text, a number, or a list of such, of which one must fit.

    Understood are `*`, `>=1.4,<2.0`, `>=1.4 <2.0`, `[1.4,2.0)`, `1.4 - 2.0`, `1.4+`, `1.4.x`, `1.3 || 1.4`,
    and builds alone, which mean what `plain` says. `parse` reads a build of the title.

    Raises:
        VersionError: it is not understood.
    """
    values = value if isinstance(value, (list, tuple)) else [value]
    if not values or any(isinstance(each, (dict, list, bool)) or each is None for each in values):
        raise VersionError(f"{value!r} names no builds", remedy=_REMEDY)
    texts = [str(each).strip() for each in values]
    pieces = tuple(piece for text in texts for piece in _pieces(text, parse, plain))
    return Builds(", ".join(texts), pieces)


_REMEDY = "Write it like >=1.4,<2.0 or 1.4 - 2.0 or 1.4.x."


def _pieces(text: str, parse: Callable[[str], Version], plain: str) -> Iterator[_Piece]:
    for part in text.split("||"):
        yield from _alternative(part.strip(), text, parse, plain)


def _alternative(
    part: str, text: str, parse: Callable[[str], Version], plain: str
) -> Iterator[_Piece]:
    if part.casefold() in _ALL:
        yield _Piece()
    elif span := _SPAN.fullmatch(part):
        low = ((">=" if span[1] == "[" else ">", parse(span[2])),) if span[2] else ()
        high = (("<=" if span[4] == "]" else "<", parse(span[3])),) if span[3] else ()
        if not low + high:
            raise VersionError(f"{text!r} names no builds", remedy=_REMEDY)
        yield _Piece(low + high)
    elif re.search(r"[<>=!]", part):
        found = _SIGNED.findall(part)
        if re.sub(r"[\s,]", "", _SIGNED.sub("", part)) or not found:
            raise VersionError(f"{text!r} is not understood as a range of builds", remedy=_REMEDY)
        yield _Piece(tuple((sign, parse(bound)) for sign, bound in found))
    elif between := _BETWEEN.fullmatch(part):
        yield _Piece(((">=", parse(between[1])), ("<=", parse(between[2]))))
    else:
        for one in part.split(","):
            yield _one(one.strip(), text, parse, plain)


def _one(one: str, text: str, parse: Callable[[str], Version], plain: str) -> _Piece:
    if not one or one[0] in "~^":
        raise VersionError(
            f"{text!r} may mean more than one thing" if one else f"{text!r} names no builds",
            remedy=_REMEDY,
        )
    if series := _SERIES.fullmatch(one):
        return _Piece(series=_numbers(series[1]))
    if one.endswith("+"):
        return _Piece(((">=", parse(one[:-1].strip())),))
    build = parse(one)
    if plain == "later":
        return _Piece(((">=", build),))
    if plain == "series" and _NUMBERS.fullmatch(one):
        return _Piece(series=_numbers(one))
    return _Piece((("==", build),))


def _numbers(text: str, most: int = 0) -> tuple[int, ...]:
    """Return the numbers that a build begins with; so many, where it has fewer with zeros behind."""
    found = _NUMBERS.match(text)
    numbers = [int(part) for part in found[1].split(".")] if found else []
    return tuple((numbers + [0] * most)[:most] if most and numbers else numbers)

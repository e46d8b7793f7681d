"""Versions as people really write them, ordered the way people mean it.

A `Scheme` reads text into a `Version`; versions of one scheme are totally ordered and versions of
two schemes do not compare. What always holds: equal keys mean equal versions (`2.0 == 2.0.0`),
and a text that cannot be ordered with certainty is refused, never guessed.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import total_ordering
from typing import Any

from msgspec import Struct

from .errors import VersionError

__all__ = ["DATE", "DECIMAL", "INTEGER", "NUMBER", "Scheme", "Version", "VersionRange", "scheme"]

# Words in the order they come before the release they name; the position is the sort key.
_BEFORE = (
    ("dev",),
    ("nightly", "snapshot", "snap"),
    ("prealpha",),
    ("alpha",),
    ("beta",),
    ("pre", "preview", "prerelease"),
    ("rc", "candidate"),
)
_AFTER = (("post", "rev", "revision", "r", "p", "patch", "update", "hotfix", "fix", "sp"),)
_RANK = {word: (-1, place) for place, words in enumerate(_BEFORE) for word in words}
_EARLY = frozenset(_RANK)
_RANK |= {word: (1, place) for place, words in enumerate(_AFTER) for word in words}
_RELEASE = re.compile(r"v?\s*(\d{1,18}(?:\.\d{1,18})*)", re.I)
_LETTER = re.compile(r"([a-z])(\d{0,18})(?![a-z0-9])", re.I)
_WORD = re.compile(r"[-_. ]*(pre-alpha|[a-z]+)[-_. ]*(\d{1,18}(?:\.\d{1,18})*)?", re.I)
_DATE = re.compile(r"(\d{4})[-./]?(\d{2})[-./]?(\d{2})(?:[-. _]?(\d{1,9}|[a-z]))?", re.I)
_DATE_LIKE = re.compile(r"(19|20)\d\d[-./]\d\d[-./]\d\d(?![\d])")
_DECIMAL = re.compile(r"\d{1,18}(?:\.(\d{1,18}))?")
_LONGEST = 100  # no real version is longer, and it bounds every match above


class Scheme(Struct, frozen=True):
    """One way of ordering version texts.

    `name` is one of number, date, integer, decimal, listed; `order` holds the names of a listed
    scheme from the oldest to the newest.

    >>> names = kl.scheme("listed", ["spring", "summer"])
    >>> names.parse("spring") < names.parse("summer")
    True
    """

    name: str = "number"
    order: tuple[str, ...] = ()

    def parse(self, text: str) -> Version:
        """Read a version of this scheme.

        >>> NUMBER.parse("1.10") > NUMBER.parse("1.9")
        True

        Raises:
            VersionError: the text is no version of this scheme.
        """
        clean = text.strip()
        if not clean or len(clean) > _LONGEST:
            raise VersionError(
                f"{text[:_LONGEST]!r} is no version",
                remedy="Give a version such as 1.4 or 2.0-pre3.",
            )
        return Version(clean, self, _READERS[self.name](clean, self))


def scheme(name: str, order: Iterable[str] = ()) -> Scheme:
    """Return the scheme called `name`; `order` is needed by, and only by, a listed one.

    Raises:
        VersionError: there is no such scheme, or a listed one without its names.

    >>> names = kl.scheme("listed", ["spring", "summer"])
    >>> names.parse("spring") < names.parse("summer")
    True
    """
    names = tuple(order)
    if name not in _READERS:
        raise VersionError(
            f"there is no version scheme {name!r}", remedy=f"Use one of: {', '.join(_READERS)}."
        )
    if (name == "listed") != bool(names):
        raise VersionError(
            "a listed scheme needs its names in `order`, oldest first, and no other scheme has any"
        )
    return Scheme(name, names)


@total_ordering
@dataclass(frozen=True, slots=True, eq=False)  # a Struct orders by its fields
class Version:
    """A version: its text as found, the scheme that reads it, and the key it sorts by.

    >>> kl.Version.parse("1.10") > kl.Version.parse("1.9")
    True
    """

    text: str
    scheme: Scheme
    key: Any

    @staticmethod
    def parse(text: str) -> Version:
        """Read a version whose scheme nobody named: a date where it looks like one, else a number.

        >>> Version.parse("2.0-pre3") < Version.parse("2.0")
        True
        """
        return (DATE if _DATE_LIKE.match(text.strip()) else NUMBER).parse(text)

    @property
    def is_early(self) -> bool:
        """Whether its text says that it comes before a release: a preview, nightly, alpha, beta or candidate.

        >>> [Version.parse(text).is_early for text in ("2.0-pre3", "2.0a1", "2.0a", "2.0")]
        [True, True, False, False]
        """
        if not _EARLY.isdisjoint(re.findall(r"[a-z]+", self.text.casefold())):
            return True
        return self.scheme.name == NUMBER.name and any(part[0] == -1 for part in self.key[1])

    def __str__(self) -> str:
        return self.text

    def __repr__(self) -> str:
        return f"<Version {self.text}>"

    def __hash__(self) -> int:
        return hash((self.scheme, self.key))

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Version):
            return NotImplemented
        return bool(self.scheme == other.scheme and self.key == other.key)

    def __lt__(self, other: Version) -> bool:
        if self.scheme != other.scheme:
            raise VersionError(
                f"{self.text!r} ({self.scheme.name}) and {other.text!r} ({other.scheme.name}) "
                "are versions of different schemes and do not compare",
                remedy="Compare versions of one title; its card names their scheme.",
            )
        return bool(self.key < other.key)


class VersionRange(Struct, frozen=True):
    """A set of versions of one scheme: `>=1.2,<2`, `1.4`, `!=1.5`, or `*` for all.

    Only the order counts: `<2` holds 2.0-pre3, since that comes before 2.0.

    >>> kl.Version.parse("1.4") in kl.VersionRange.parse(">=1.2,<2")
    True
    """

    text: str
    bounds: tuple[tuple[str, Version], ...]

    @staticmethod
    def parse(text: str, scheme: Scheme | None = None) -> VersionRange:
        """Read a range; `scheme` None means each bound's own by its look.

        >>> "1.4.2" in VersionRange.parse(">=1.2,<2")
        True

        Raises:
            VersionError: the text is no version, or no range.
        """
        bounds = []
        read = scheme.parse if scheme else Version.parse
        for part in text.split(","):
            match = re.fullmatch(r"\s*(>=|<=|==|!=|>|<|=)?\s*(.+?)\s*", part)
            if match is None:
                raise VersionError(
                    f"{text!r} is no version range", remedy="Write it like >=1.2,<2 or 1.4 or *."
                )
            if match[2] == "*" and match[1] is None:
                continue
            bounds.append(((match[1] or "==").replace("===", "=="), read(match[2])))
        return VersionRange(text.strip(), tuple(bounds))

    def __contains__(self, version: Version | str) -> bool:
        if isinstance(version, str):
            version = (
                self.bounds[0][1].scheme.parse(version) if self.bounds else Version.parse(version)
            )
        return all(_holds(version, sign, bound) for sign, bound in self.bounds)

    def __str__(self) -> str:
        return self.text


def _holds(version: Version, sign: str, bound: Version) -> bool:
    below = version < bound  # raises for versions of different schemes, whatever the sign
    same = version == bound
    return {
        "<": below,
        "<=": below or same,
        ">": not below and not same,
        ">=": not below,
        "!=": not same,
    }.get(sign, same)


def _number_key(text: str, scheme: Scheme) -> Any:
    head = _RELEASE.match(text)
    if head is None:
        raise _unreadable(text, scheme)
    numbers = [int(part) for part in head[1].split(".")]
    while len(numbers) > 1 and numbers[-1] == 0:
        numbers.pop()
    rest = text[head.end() :].split("+", 1)[0]  # what follows a plus names a build, not an order
    return tuple(numbers), _suffix_key(text, rest, scheme)


def _suffix_key(text: str, rest: str, scheme: Scheme) -> tuple[tuple[Any, ...], ...]:
    """Turn `-pre3`, ` alpha 2`, `a`, `rc1` into segments; the end sorts between before and after."""
    segments: list[tuple[Any, ...]] = []
    at = 0
    if letter := _LETTER.match(rest):
        early = {"a": "alpha", "b": "beta"}.get(letter[1].lower())
        if early and letter[2]:
            segments.append((*_RANK[early], (int(letter[2]),)))
        elif letter[1].lower() in _RANK:
            segments.append((*_RANK[letter[1].lower()], (int(letter[2] or 0),)))
        else:
            segments.append((2, ord(letter[1].lower()), (int(letter[2] or 0),)))
        at = letter.end()
    while at < len(rest.rstrip()):
        word = _WORD.match(rest, at)
        rank = _RANK.get(word[1].lower().replace("-", "")) if word else None
        if word is None or rank is None:
            raise _unreadable(text, scheme)
        segments.append((*rank, tuple(int(n) for n in (word[2] or "0").split("."))))
        at = word.end()
    return (*segments, (0,))


def _date_key(text: str, scheme: Scheme) -> Any:
    match = _DATE.fullmatch(text)
    if match is None or not (1 <= int(match[2]) <= 12 and 1 <= int(match[3]) <= 31):
        raise _unreadable(text, scheme)
    extra = (match[4] or "").lower()
    more = int(extra) if extra.isdigit() else ord(extra) - 96 if extra else 0
    return int(match[1]), int(match[2]), int(match[3]), more


def _integer_key(text: str, scheme: Scheme) -> Any:
    if not re.fullmatch(r"-?\d{1,18}", text):
        raise _unreadable(text, scheme)
    return int(text)


def _decimal_key(text: str, scheme: Scheme) -> Any:
    """Order by value: 1.03 < 1.25 < 1.3. Digits after the point are compared from the left."""
    match = _DECIMAL.fullmatch(text)
    if match is None:
        raise _unreadable(text, scheme)
    return int(text.split(".", maxsplit=1)[0]), (match[1] or "").rstrip("0")


def _listed_key(text: str, scheme: Scheme) -> Any:
    folded = [name.casefold() for name in scheme.order]
    if text.casefold() not in folded:
        raise _unreadable(text, scheme, f"The card lists: {', '.join(scheme.order)}.")
    return folded.index(text.casefold())


_EXPECTED = {
    "number": "a version number",
    "date": "a date",
    "integer": "a whole number",
    "decimal": "a decimal number",
    "listed": "one of the builds that the card lists",
}


def _unreadable(text: str, scheme: Scheme, remedy: str = "") -> VersionError:
    return VersionError(
        f"{text!r} is not {_EXPECTED[scheme.name]}",
        remedy=remedy or "Builds whose names do not order themselves belong in a `listed` scheme.",
    )


_READERS = {
    "number": _number_key,
    "date": _date_key,
    "integer": _integer_key,
    "decimal": _decimal_key,
    "listed": _listed_key,
}
NUMBER = Scheme("number")
DATE = Scheme("date")
INTEGER = Scheme("integer")
DECIMAL = Scheme("decimal")

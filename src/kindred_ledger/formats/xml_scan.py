"""Where the tags of an XML text are, and which lie directly in which.

Expat says whether the text is well-formed; it runs without callbacks, at the speed of C. After
that a `<` can only begin a tag, a comment, a CDATA section, an instruction or the document type,
and the tags are found by columns in large texts and by one pattern in small ones.
"""

from __future__ import annotations

import re
from typing import Any
from xml.parsers import expat

from msgspec import Struct

from ..errors import FormatError
from .nesting import Columns, Listed, Nesting
from .text import place_in

__all__ = ["SPECIAL", "Tags", "scan"]

SPECIAL = re.compile(
    rb"<!--.*?-->|<!\[CDATA\[.*?\]\]>|<\?.*?\?>|<!DOCTYPE[^\[>]*(?:\[.*?\]\s*)?>", re.S
)
_REST = rb"(?:[^\"'<>]++|\"[^\"]*\"|'[^']*')*+>"
_END = re.compile(_REST)
_TAG = re.compile(SPECIAL.pattern + rb"|<(?=[^!?])" + _REST, re.S)
_DEEPEST = 1000
_LARGE = 64 << 10


class Tags(Struct, frozen=True):
    """The tags of a text: where each begins and ends (offset after its `>`), and how they nest."""

    starts: Any
    ends: Any
    nesting: Nesting

    def span(self, token: int) -> tuple[int, int]:
        """Return begin and end of one tag."""
        return int(self.starts[token]), int(self.ends[token])


def scan(data: bytes) -> Tags:
    """Index a well-formed XML text in UTF-8 without a mark.

    Raises:
        FormatError: it is not well-formed, or declares entities, which nobody resolves here.
    """
    _check(data)
    tags = _columns(data) if len(data) >= _LARGE else None
    return tags or _listed(data)


def _check(data: bytes) -> None:
    parser = expat.ParserCreate("utf-8")

    def declared(*told: Any) -> None:
        raise FormatError(
            "the file declares entities, which are not resolved",
            where=place_in(data, parser.CurrentByteIndex),
            remedy="Write their text where they stand, and remove the declarations.",
        )

    parser.EntityDeclHandler = declared
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        raise FormatError(
            f"this is no valid XML: {expat.ErrorString(error.code)}",
            where=f"line {error.lineno}, column {error.offset + 1}",
            remedy="The file may have been cut short." if error.code == 3 else "",
        ) from error


def _listed(data: bytes) -> Tags:
    nesting = Listed()
    starts: list[int] = []
    ends: list[int] = []
    for match in _TAG.finditer(data):
        start, end = match.span()
        sign = data[start + 1]
        if sign in b"!?":
            continue
        starts.append(start)
        ends.append(end)
        if sign == 0x2F:
            nesting.close(start)
        elif data[end - 2] == 0x2F:
            nesting.add(start)
        else:
            nesting.open(start)
            _check_depth(len(nesting.stack))
    return Tags(starts, ends, nesting)


def _check_depth(depth: int) -> None:
    if depth > _DEEPEST:
        raise FormatError(f"elements are nested deeper than {_DEEPEST} levels", where="the root")


def _columns(data: bytes) -> Tags | None:
    import numpy as np

    array = np.frombuffer(data, np.uint8)
    starts = np.flatnonzero(array == 0x3C)
    specials = [match.span() for match in SPECIAL.finditer(data)]
    if specials:
        begins, stops = np.array(specials).T
        at = np.searchsorted(begins, starts, "right") - 1
        starts = starts[(at < 0) | (starts >= stops[np.maximum(at, 0)])]
    closers = np.flatnonzero(array == 0x3E)
    ends = closers[np.searchsorted(closers, starts)] + 1
    # A > may stand in a quoted value: then the quotes before it do not come in pairs, or there are
    # both kinds. Those few tags are looked at one by one.
    quotes = np.flatnonzero(array == 0x22)
    odd = (np.searchsorted(quotes, ends) - np.searchsorted(quotes, starts)) % 2 == 1
    single = np.flatnonzero(array == 0x27)
    if len(single):
        odd |= np.searchsorted(single, ends) != np.searchsorted(single, starts)
    for number in np.flatnonzero(odd).tolist():
        match = _END.match(data, int(starts[number]) + 1)
        if match is None:
            return None
        ends[number] = match.end()
    closing = array[starts + 1] == 0x2F
    opening = ~closing & (array[ends - 2] != 0x2F)
    nesting = Columns(starts, opening, closing)
    _check_depth(nesting.depth)
    return Tags(starts, ends, nesting)

"""Where the brackets, commas and colons of a JSON text are, and which lie directly in which.

Small texts, and those that are no plain JSON, go through one pass that knows the grammar and names
what is wrong. Large ones are checked by a validating parser and indexed in NumPy columns: tokens
sorted by depth lie together by container, so the members of any container are one slice.
"""

from __future__ import annotations

import re
from typing import Any

import msgspec

from ..errors import FormatError
from .nesting import Columns, Listed, Nesting
from .text import place_in

__all__ = ["COMMENT", "DEEPEST", "NUMBER", "SPACE", "STRING", "by_columns", "scan"]

SPACE = re.compile(rb"(?:[ \t\r\n]+|//[^\n]*|/\*.*?\*/)*+", re.S)
STRING = re.compile(rb'"(?:[^"\\\x00-\x1f]++|\\["\\/bfnrt]|\\u[0-9a-fA-F]{4})*+"')
NUMBER = re.compile(rb"-?(?:0|[1-9]\d*+)(\.\d+)?([eE][+-]?\d+)?")
COMMENT = re.compile(rb"//[^\n]*|/\*.*?\*/", re.S)
_WORD = re.compile(rb"true|false|null")
_TO_COMMENT = re.compile(rb'(?:[^"/]++|"(?:[^"\\]++|\\.)*+"|/(?![/*]))*+(//[^\n]*|/\*.*?\*/)', re.S)
DEEPEST = 300  # levels; far beyond real files, far below the interpreter's own limit
_LARGE = 64 << 10  # bytes; below that NumPy costs more to import than it saves
_PATIENCE = 64  # spaces looked at by columns, before the few that go on are looked at singly


def scan(data: bytes) -> Nesting:
    """Index a JSON text (comments and trailing commas are allowed), in UTF-8 without a mark.

    Raises:
        FormatError: it is no JSON; `where` is line and column.
    """
    if len(data) >= _LARGE:
        found = _columns(data)
        if found is not None:
            return found
    return _Careful(data).tokens


def by_columns(data: bytes, tokens: Nesting) -> Columns | None:
    """Return the tokens of a text that was scanned as columns; None if there are comments in it."""
    if isinstance(tokens, Columns):
        return tokens if tokens.plain else None
    return _columns(data) if _valid(data) else None


class _Careful:
    """One pass over the grammar, token by token."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self.tokens = Listed()
        self._pass()

    def _pass(self) -> None:
        data, at, tokens = self._data, 0, self.tokens
        brackets: list[int] = []
        want = "a value"
        while True:
            at = self._after_space(at)
            sign = data[at : at + 1]
            if want == "nothing more":
                if sign:
                    raise self._error(at, want)
                return
            closes = want.startswith(("a comma", "a key or", "a value or"))
            if closes and brackets and sign and sign == _CLOSE[brackets[-1]]:
                brackets.pop()
                tokens.close(at)
                at += 1
            elif want.startswith("a comma") and sign == b",":
                tokens.add(at)
                at += 1
                want = "a key or '}'" if brackets[-1] == 0x7B else "a value or ']'"
                continue
            elif want == "a colon" and sign == b":":
                tokens.add(at)
                at += 1
                want = "a value"
                continue
            elif want.startswith("a key"):
                match = STRING.match(data, at)
                if match is None:
                    raise self._error(at, "a key in double quotes")
                at = match.end()
                want = "a colon"
                continue
            elif want.startswith("a value") and sign in (b"{", b"["):
                if len(brackets) >= DEEPEST:
                    raise FormatError(
                        f"nested deeper than {DEEPEST} levels", where=place_in(data, at)
                    )
                tokens.open(at)
                brackets.append(sign[0])
                at += 1
                want = "a key or '}'" if sign == b"{" else "a value or ']'"
                continue
            elif want.startswith("a value"):
                pattern = STRING if sign == b'"' else NUMBER if sign in _NUMERIC else _WORD
                found = pattern.match(data, at) if sign else None
                if found is None:
                    raise self._error(at, "a value")
                at = found.end()
            else:
                raise self._error(at, want)
            want = "nothing more"
            if brackets:
                want = f"a comma or {_CLOSE[brackets[-1]].decode()!r}"

    def _after_space(self, at: int) -> int:
        match = SPACE.match(self._data, at)
        assert match is not None
        return match.end()

    def _error(self, at: int, expected: str) -> FormatError:
        found = self._data[at : at + 12].decode(errors="replace")
        cut = " The file may have been cut short." if not found else ""
        return FormatError(
            f"expected {expected}, found {found!r}"
            if found
            else f"expected {expected}, found the end",
            where=place_in(self._data, at),
            remedy=f"The file is no valid JSON there.{cut}",
        )


_CLOSE = {0x7B: b"}", 0x5B: b"]"}
_NUMERIC = tuple(b"%c" % sign for sign in b"-0123456789")


def _columns(data: bytes) -> Columns | None:
    """Return the columns of a large text; None if the careful pass must look at it."""
    plain = _valid(data)
    blank = data if plain else _without_comments(data)
    positions, characters = _tokens(blank)
    if not plain and not _valid(_without_trailing_commas(blank, positions, characters)):
        return None
    if len(positions) == 0 or len(positions) >= 1 << 31:
        return None
    opening = (characters == 0x7B) | (characters == 0x5B)
    columns = Columns(positions, opening, (characters == 0x7D) | (characters == 0x5D))
    columns.plain = plain
    return columns if columns.depth <= DEEPEST else None


def _valid(data: bytes) -> bool:
    try:
        msgspec.json.decode(data, type=msgspec.Raw)
    except (msgspec.DecodeError, RecursionError):
        return False
    return True


def _tokens(data: bytes) -> tuple[Any, Any]:
    """Return offsets and characters of what is structural in valid JSON without comments."""
    import numpy as np

    array = np.frombuffer(data, np.uint8)
    marked = np.zeros(256, bool)
    marked[list(b'{}[]:,"')] = True
    positions = np.flatnonzero(marked[array])
    if len(data) < 1 << 31:
        positions = positions.astype(np.int32)
    characters = array[positions]
    quotes = characters == 0x22
    if b"\\" in data:
        slashes = np.flatnonzero(array == 0x5C)
        first = np.ones(len(slashes), bool)
        first[1:] = slashes[1:] != slashes[:-1] + 1
        run = np.maximum.accumulate(np.where(first, np.arange(len(slashes)), 0))
        odd = (np.arange(len(slashes)) - run) % 2 == 0  # this one quotes the character after it
        quoted = slashes[odd] + 1
        at = np.searchsorted(positions, quoted)
        at = at[(at < len(positions))]
        hit = np.isin(positions[at], quoted)
        quotes[at[hit]] = False
    in_string = np.cumsum(quotes.view(np.int8), dtype=np.int8) & 1
    keep = (in_string == 0) & (characters != 0x22)
    return positions[keep], characters[keep]


def _without_comments(data: bytes) -> bytes:
    out = bytearray(data)
    at = 0
    while match := _TO_COMMENT.match(data, at):
        start, at = match.span(1)
        out[start:at] = re.sub(rb"[^\r\n]", b" ", data[start:at])
    return bytes(out)


def _without_trailing_commas(data: bytes, positions: Any, characters: Any) -> bytes:
    import numpy as np

    closes = (characters == 0x7D) | (characters == 0x5D)
    commas = positions[:-1][(characters[:-1] == 0x2C) & closes[1:]]
    array = np.frombuffer(data, np.uint8)
    at = commas + 1
    going = np.arange(len(at))
    for _ in range(_PATIENCE):
        here = array[at[going]]
        going = going[(here == 32) | ((here >= 9) & (here <= 13))]
        if not len(going):
            break
        at[going] += 1
    for number in going.tolist():
        match = SPACE.match(data, int(at[number]))
        assert match is not None
        at[number] = match.end()
    trailing = (array[at] == 0x7D) | (array[at] == 0x5D)
    out = array.copy()
    out[commas[trailing]] = 32
    return out.tobytes()

"""Where the brackets, commas and colons of a JSON text are, and which lie directly in which.

Small texts, and those that are no plain JSON, go through one pass that knows the grammar and names
what is wrong. Large ones are checked by a validating parser and indexed in NumPy columns: tokens
sorted by depth lie together by container, so the members of any container are one slice.
"""

from __future__ import annotations

import re
from typing import Any, Protocol

import msgspec

from ..errors import FormatError
from .text import place_in

__all__ = ["COMMENT", "DEEPEST", "NUMBER", "SPACE", "STRING", "Structure", "scan"]

SPACE = re.compile(rb"(?:[ \t\r\n]+|//[^\n]*|/\*.*?\*/)*+", re.S)
STRING = re.compile(rb'"(?:[^"\\\x00-\x1f]++|\\["\\/bfnrt]|\\u[0-9a-fA-F]{4})*+"')
NUMBER = re.compile(rb"-?(?:0|[1-9]\d*+)(\.\d+)?([eE][+-]?\d+)?")
COMMENT = re.compile(rb"//[^\n]*|/\*.*?\*/", re.S)
_WORD = re.compile(rb"true|false|null")
_TO_COMMENT = re.compile(rb'(?:[^"/]++|"(?:[^"\\]++|\\.)*+"|/(?![/*]))*+(//[^\n]*|/\*.*?\*/)', re.S)
DEEPEST = 300  # levels; far beyond real files, far below the interpreter's own limit
_LARGE = 64 << 10  # bytes; below that NumPy costs more to import than it saves
_PATIENCE = 64  # spaces looked at by columns, before the few that go on are looked at singly


class Structure(Protocol):
    """The structural characters of a text, numbered in order."""

    def position(self, token: int) -> int:
        """Return the byte offset of a token."""
        ...

    def inside(self, token: int) -> tuple[list[int], int]:
        """Return the tokens directly inside an opening one, and its closing one."""
        ...


def scan(data: bytes) -> Structure:
    """Index a JSON text (comments and trailing commas are allowed), in UTF-8 without a mark.

    Raises:
        FormatError: it is no JSON; `where` is line and column.
    """
    if len(data) >= _LARGE:
        found = _columns(data)
        if found is not None:
            return found
    return _Listed(data)


class _Listed:
    """Tokens in lists, found in one pass over the grammar."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._positions: list[int] = []
        self._inside: dict[int, list[int]] = {}
        self._closing: dict[int, int] = {}
        self._pass()

    def position(self, token: int) -> int:
        return self._positions[token]

    def inside(self, token: int) -> tuple[list[int], int]:
        return self._inside[token], self._closing[token]

    def _pass(self) -> None:
        data, at = self._data, 0
        stack: list[int] = []
        want = "a value"
        while True:
            at = self._after_space(at)
            sign = data[at : at + 1]
            if want == "nothing more":
                if sign:
                    raise self._error(at, want)
                return
            closes = want.startswith(("a comma", "a key or", "a value or"))
            if closes and stack and sign and sign == _CLOSE[data[self._positions[stack[-1]]]]:
                opened = stack.pop()
                self._closing[opened] = self._token(at, stack)
                at += 1
            elif want.startswith("a comma") and sign == b",":
                self._token(at, stack)
                at += 1
                in_object = data[self._positions[stack[-1]]] == 0x7B
                want = "a key or '}'" if in_object else "a value or ']'"
                continue
            elif want == "a colon" and sign == b":":
                self._token(at, stack)
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
                if len(stack) >= DEEPEST:
                    raise FormatError(
                        f"nested deeper than {DEEPEST} levels", where=place_in(data, at)
                    )
                opened = self._token(at, stack)
                self._inside[opened] = []
                stack.append(opened)
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
            if stack:
                want = f"a comma or {_CLOSE[data[self._positions[stack[-1]]]].decode()!r}"

    def _token(self, at: int, stack: list[int]) -> int:
        number = len(self._positions)
        self._positions.append(at)
        if stack:
            self._inside[stack[-1]].append(number)
        return number

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


class _Columns:
    """Tokens in NumPy columns."""

    def __init__(self, positions: Any, characters: Any) -> None:
        import numpy as np

        opening = (characters == 0x7B) | (characters == 0x5B)
        closing = (characters == 0x7D) | (characters == 0x5D)
        level = np.cumsum(opening.view(np.int8) - closing.view(np.int8), dtype=np.int32)
        self.depth = int(level.max())
        if self.depth < 1 << 15:
            level = level.astype(np.int16)  # sorted by radix
        level -= opening  # a bracket lies on the level of what is around it
        self._positions = positions
        self._order = np.argsort(level, kind="stable").astype(np.int32)
        self._level = level
        self._starts = np.searchsorted(level[self._order], np.arange(self.depth + 3))
        self._number = np.int32  # searched for as another type, a column is copied each time

    def position(self, token: int) -> int:
        return int(self._positions[token])

    def inside(self, token: int) -> tuple[list[int], int]:
        level = int(self._level[token])
        here = self._order[self._starts[level] : self._starts[level + 1]]
        below = self._order[self._starts[level + 1] : self._starts[level + 2]]
        closing = int(here[here.searchsorted(self._number(token)) + 1])
        first = below.searchsorted(self._number(token))
        last = below.searchsorted(self._number(closing))
        return below[first:last].tolist(), closing


def _columns(data: bytes) -> _Columns | None:
    """Return the columns of a large text; None if the careful pass must look at it."""
    plain = _valid(data)
    blank = data if plain else _without_comments(data)
    positions, characters = _tokens(blank)
    if not plain and not _valid(_without_trailing_commas(blank, positions, characters)):
        return None
    if len(positions) == 0 or len(positions) >= 1 << 31:
        return None
    columns = _Columns(positions, characters)
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

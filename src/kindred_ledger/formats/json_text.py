"""JSON (RFC 8259) that keeps its layout; comments and trailing commas, as tools write, are read too.

Every value knows its span in the text. An edit marks the containers around it; encoding copies the
spans that are unmarked and re-joins the rest, so comments, key order, number text, spacing and
quoting of everything else stay. What it does not keep: nothing. Duplicate keys are carried, but a
path that leads to one cannot be edited, since readers differ in which they take.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from msgspec import Struct, field

from ..errors import FormatError, UsageError
from .document import ANY, Leaf, Path, format_path, occupied
from .text import Text, position

__all__ = ["JsonDocument"]

_SPACE = re.compile(r"(?:[ \t\r\n]+|//[^\n]*|/\*.*?\*/)*", re.S)
# Possessive: where no line ends here, spaces must not be shared out in every possible way.
_REST_OF_LINE = re.compile(r"(?:[ \t]++|/\*[^\n]*?\*/)*+(?://[^\r\n]*)?(?=\r?\n)")
_STRING = re.compile(r'"(?:[^"\\\x00-\x1f]|\\["\\/bfnrt]|\\u[0-9a-fA-F]{4})*"')
_NUMBER = re.compile(r"-?(?:0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?")
_WORD = re.compile(r"true|false|null")
_WORDS: dict[str, Any] = {"true": True, "false": False, "null": None}
_DEEPEST = 300  # levels; far beyond real files, far below the interpreter's own limit
_LONGEST_INT = 4000  # digits; beyond, int() refuses


class _Value(Struct, eq=False):
    """A value: its span in `source`, or once `dirty`, its `text` or its members."""

    kind: str  # object, array or scalar
    source: str
    start: int
    end: int = 0
    members: list[_Member] = field(default_factory=list)
    close: str = ""  # what stands between the last member and the closing bracket
    parent: _Value | None = None
    text: str | None = None
    dirty: bool = False
    origin: Path | None = None
    note: str = ""


class _Member(Struct, eq=False):
    """A member of a container, with all the text around it."""

    value: _Value
    lead: str  # before the key
    key: str | None = None
    key_text: str = ""
    colon: str = ""  # the colon and the space around it
    trail: str = ""  # between value and comma
    comma: bool = False
    after: str = ""  # after the comma, to the end of the line: a comment there is this member's


class JsonDocument:
    """A JSON file as a document; see the module for what it keeps."""

    def __init__(self, data: bytes) -> None:
        self._encoding = Text.decode(data)
        parser = _Parser(self._encoding.text)
        self._head, self._root, self._tail = parser.document()
        for path, value in _walk(self._root, ()):
            value.origin = None if value.members else path

    def leaves(self, at: Path = ()) -> Iterator[Leaf]:
        if at and not self.find(at):
            return
        for path, value in _walk(self._value(at), at):
            if value.kind == "scalar":
                yield Leaf(path, _scalar(_text(value)), _text(value), value.origin, value.note)
            elif not value.members:
                empty: Any = {} if value.kind == "object" else []
                text = "{}" if value.kind == "object" else "[]"
                yield Leaf(path, empty, text, value.origin, value.note)

    def find(self, pattern: Path) -> list[Path]:
        found: list[tuple[Path, _Value]] = [((), self._root)]
        for part in pattern:
            found = [
                ((*path, key), member.value)
                for path, value in found
                for key, member in _keyed(value)
                if part in (ANY, key)
            ]
        return [path for path, _ in found]

    def get(self, path: Path) -> Any:
        return _plain(self._value(path))

    def set(self, path: Path, value: Any, *, note: str = "") -> None:
        text = json.dumps(value, ensure_ascii=False, default=_number_text)
        fresh = _Parser(text).document()[1]
        if isinstance(value, Decimal):
            fresh = _Value("scalar", "", 0, text=str(value), dirty=True)
        for _, inner in _walk(fresh, ()):
            inner.note = note
        try:
            old = self._value(path)
        except UsageError:
            self._insert(path, fresh)
            return
        if not (old.members or fresh.members):  # a leaf in a leaf's place
            fresh.origin, fresh.note = old.origin, old.note or note
        fresh.parent = old.parent
        if old.parent is None:
            self._root = fresh
            return
        self._member(path)[1].value = fresh
        fresh.text = text
        _mark(old.parent)

    def remove(self, path: Path) -> None:
        parent, member = self._member(path)
        at = parent.members.index(member)
        del parent.members[at]
        comments = "".join(t for t in (member.lead, member.after) if "/" in t)
        if at < len(parent.members):
            if comments:
                parent.members[at].lead = comments + parent.members[at].lead
        else:
            parent.close = comments + parent.close
            if parent.members:
                parent.members[-1].comma = member.comma
        _mark(parent)

    def move(self, path: Path, to: Path) -> None:
        if self.find(to):
            raise occupied(to)
        parent, member = self._member(path)
        if path[:-1] == to[:-1] and isinstance(to[-1], str) and member.key is not None:
            member.key = to[-1]
            member.key_text = json.dumps(to[-1], ensure_ascii=False)
            _mark(parent)
            return
        if to[: len(path)] == path:
            raise FormatError("a value cannot be moved into itself", where=format_path(path))
        self.remove(path)
        self._insert(to, member.value)

    def encode(self) -> bytes:
        out: list[str] = [self._head]
        _emit(self._root, out)
        out.append(self._tail)
        return self._encoding.encode("".join(out))

    def _value(self, path: Path) -> _Value:
        value = self._root
        for depth, part in enumerate(path):
            fitting = [member.value for key, member in _keyed(value) if key == part]
            if not fitting:
                raise UsageError("there is no such value", where=format_path(path[: depth + 1]))
            if len(fitting) > 1:
                raise FormatError(
                    f"the key stands there {len(fitting)} times, so it is not changed",
                    where=format_path(path[: depth + 1]),
                    remedy="Remove all but one by hand.",
                )
            value = fitting[0]
        return value

    def _member(self, path: Path) -> tuple[_Value, _Member]:
        value = self._value(path)
        parent = self._value(path[:-1])
        return parent, next(member for member in parent.members if member.value is value)

    def _insert(self, path: Path, value: _Value) -> None:
        """Put a value where nothing is, making the objects on the way."""
        parent = self._root
        for depth, part in enumerate(path[:-1]):
            found = [member.value for key, member in _keyed(parent) if key == part]
            if found:
                parent = found[0]
                continue
            made = _Value("object", "{}", 0, 2)
            self._append(parent, path[: depth + 1], made)
            parent = made
        self._append(parent, path, value)

    def _append(self, parent: _Value, path: Path, value: _Value) -> None:
        key = path[-1]
        in_order = isinstance(key, int) and parent.kind == "array" and key == len(parent.members)
        if not (in_order or (isinstance(key, str) and parent.kind == "object")):
            raise FormatError(
                f"nothing can be put there: it lies in a {parent.kind}", where=format_path(path)
            )
        member = _Member(value, "")
        if isinstance(key, str):
            member.key, member.key_text = key, json.dumps(key, ensure_ascii=False)
            member.colon = ": "
        value.parent = parent
        if parent.members:
            last = parent.members[-1]
            member.lead = re.sub(r"//[^\n]*|/\*.*?\*/", "", last.lead, flags=re.S)
            member.lead = re.sub(r"\n\s*\n", "\n", member.lead) or " "
            member.colon = last.colon or member.colon
            if not last.comma and (rest := _REST_OF_LINE.match(parent.close)):
                last.after, parent.close = rest[0], parent.close[rest.end() :]
            if "//" in last.after and "\n" not in member.lead:
                member.lead = self._encoding.newline + member.lead
            member.comma, last.comma = last.comma, True
        else:
            member.lead, parent.close = self._first_lead(parent)
        parent.members.append(member)
        _mark(parent)

    def _first_lead(self, parent: _Value) -> tuple[str, str]:
        """Return the space before the first member of an empty container and before its bracket."""
        owner = parent.parent
        if owner is None or not owner.members or "\n" not in owner.members[0].lead:
            return "", parent.close
        outer = owner.members[0].lead
        outer = outer[outer.rindex("\n") :]
        step = outer[len(outer) // 2 + 1 :] if owner.parent else outer[1:]
        newline = self._encoding.newline
        return newline + outer[1:] + (step or "  "), parent.close + newline + outer[1:]


class _Parser:
    """Reads one text into values with spans; each method returns where it stopped."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._at = 0

    def document(self) -> tuple[str, _Value, str]:
        head = self._space()
        root = self._value(None, 0)
        tail = self._space()
        if self._at != len(self._text):
            raise self._error("nothing more")
        return head, root, tail

    def _value(self, parent: _Value | None, depth: int) -> _Value:
        start = self._at
        first = self._text[start : start + 1]
        if first in ("{", "["):
            if depth >= _DEEPEST:
                raise FormatError(f"nested deeper than {_DEEPEST} levels", where=self._where())
            return self._container(first, parent, depth)
        pattern = _STRING if first == '"' else _NUMBER if first in "-0123456789" else _WORD
        match = pattern.match(self._text, start) if first else None
        if match is None:
            raise self._error("a value")
        self._at = match.end()
        return _Value("scalar", self._text, start, self._at, parent=parent)

    def _container(self, first: str, parent: _Value | None, depth: int) -> _Value:
        is_object = first == "{"
        value = _Value("object" if is_object else "array", self._text, self._at, parent=parent)
        closing = "}" if is_object else "]"
        self._at += 1
        while True:
            lead = self._space()
            if self._text.startswith(closing, self._at):
                value.close = lead
                self._at += 1
                value.end = self._at
                return value
            if value.members and not value.members[-1].comma:
                raise self._error(f"a comma or {closing!r}")
            value.members.append(self._member(value, lead, depth))

    def _member(self, parent: _Value, lead: str, depth: int) -> _Member:
        member = _Member(parent, lead)
        if parent.kind == "object":
            match = _STRING.match(self._text, self._at)
            if match is None:
                raise self._error("a key in double quotes")
            member.key_text = match[0]
            member.key = _string(match[0])
            self._at = match.end()
            before = self._space()
            if not self._text.startswith(":", self._at):
                raise self._error("a colon")
            self._at += 1
            member.colon = f"{before}:{self._space()}"
        member.value = self._value(parent, depth + 1)
        stop = self._at
        member.trail = self._space()
        if self._text.startswith(",", self._at):
            member.comma = True
            self._at += 1
            if rest := _REST_OF_LINE.match(self._text, self._at):
                member.after = rest[0]
                self._at = rest.end()
        else:
            self._at, member.trail = stop, ""
        return member

    def _space(self) -> str:
        match = _SPACE.match(self._text, self._at)
        assert match is not None
        self._at = match.end()
        return match[0]

    def _where(self) -> str:
        return position(self._text, self._at)

    def _error(self, expected: str) -> FormatError:
        found = (
            repr(self._text[self._at : self._at + 12]) if self._at < len(self._text) else "the end"
        )
        cut = " The file may have been cut short." if self._at >= len(self._text) else ""
        return FormatError(
            f"expected {expected}, found {found}",
            where=self._where(),
            remedy=f"The file is no valid JSON there.{cut}",
        )


def _walk(value: _Value, path: Path) -> Iterator[tuple[Path, _Value]]:
    stack: list[tuple[Path, _Value]] = [(path, value)]
    while stack:
        path, value = stack.pop()
        yield path, value
        if value.members:
            inner = [((*path, key), member.value) for key, member in _keyed(value)]
            stack.extend(reversed(inner))


def _keyed(value: _Value) -> Iterator[tuple[str | int, _Member]]:
    for at, member in enumerate(value.members):
        yield (at if member.key is None else member.key), member


def _mark(value: _Value | None) -> None:
    while value is not None and not value.dirty:
        value.dirty = True
        value = value.parent


def _text(value: _Value) -> str:
    return value.text if value.text is not None else value.source[value.start : value.end]


def _emit(value: _Value, out: list[str]) -> None:
    if not value.dirty or value.kind == "scalar":
        out.append(_text(value))
        return
    out.append("{" if value.kind == "object" else "[")
    for at, member in enumerate(value.members):
        out += (member.lead, member.key_text, member.colon)
        _emit(member.value, out)
        comma = member.comma or at < len(value.members) - 1
        out += (member.trail, "," if comma else "", member.after)
    out += (value.close, "}" if value.kind == "object" else "]")


def _plain(value: _Value) -> Any:
    if value.kind == "scalar":
        return _scalar(_text(value))
    if value.kind == "array":
        return [_plain(member.value) for member in value.members]
    return {member.key: _plain(member.value) for member in value.members}


def _scalar(text: str) -> Any:
    if text[0] == '"':
        return _string(text)
    if text in _WORDS:
        return _WORDS[text]
    if len(text) > _LONGEST_INT or any(letter in text for letter in ".eE"):
        return Decimal(text)
    return int(text)


def _string(text: str) -> str:
    return text[1:-1] if "\\" not in text else str(json.loads(text))


def _number_text(value: Any) -> Any:
    if isinstance(value, Decimal):
        return float(value)
    raise UsageError(f"{value!r} cannot be written in JSON")

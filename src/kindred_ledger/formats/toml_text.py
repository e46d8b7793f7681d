"""TOML 1.0, edited in place: comments, order, spacing and number text stay.

Floats are read exactly, as decimals; dates and times as their text. New members are written as
`key = value` behind the last one of their table, containers in line; a new table of an array of
tables gets a header of its own. What it does not keep: a table with a header that moves elsewhere
is written in line there.
"""

from __future__ import annotations

import json
import re
import tomllib
from decimal import Decimal
from typing import Any

from msgspec import Struct, field

from ..errors import FormatError
from .document import Path, format_path
from .spliced import UNTOUCHED, Spanned, Splice, SplicedDocument
from .tree import LIST, MAPPING, SCALAR

__all__ = ["TomlDocument"]

_DEEPEST = 200  # levels of a dotted key
_DEEP_KEY = re.compile(  # a parser would take a time that grows with the square of it
    rb"""^[ \t]*\[{0,2}[ \t]*(?>(?:[\w-]+|"[^"\n]*"|'[^'\n]*')[ \t]*\.[ \t]*){%d}""" % _DEEPEST,
    re.M,
)
_GAP = re.compile(rb"(?:[ \t\r\n]++|#[^\n]*)*+")
_BLANK = re.compile(rb"[ \t]*+")
_STRING = re.compile(
    rb'"""(?:[^\\]|\\.)*?"""(?!")"{0,2}|\'\'\'.*?\'\'\'(?!\')\'{0,2}|"(?:[^"\\]|\\.)*"|\'[^\']*\'',
    re.S,
)
_KEY = re.compile(rb'"(?:[^"\\]|\\.)*"|\'[^\']*\'|[A-Za-z0-9_-]+')
_BARE = re.compile(rb"\d{4}-\d\d-\d\d \d\d:[^\s,\]}#]*|[^\s,\]}#]+")
_LINE_END = re.compile(rb"[ \t]*+(?:#[^\r\n]*+)?(?:\r?\n|\Z)")
_DATE = re.compile(r"\d{4}-\d\d-\d\d.*|\d\d:\d\d.*")
_PLAIN_KEY = re.compile(r"[A-Za-z0-9_-]+")
_NUMBER = re.compile(r"[+-]?[0-9][0-9_]*")
_INLINE = "inline"


class _Table(Struct, eq=False):
    """What a mapping or list that is not in line is in the text."""

    mentions: list[tuple[int, int]] = field(default_factory=list)  # its name, wherever it stands
    lines: list[tuple[int, int]] = field(default_factory=list)  # its headers and dotted pairs
    header_end: int = -1  # after the line of its own header
    last_pair: int = -1  # after the line of the last pair of its own
    end: int = -1  # after all that belongs to it
    children: dict[str, Spanned] = field(default_factory=dict)  # those like this, by key
    prefix: str = ""  # of pairs written with dotted keys: what stands before the key


class TomlDocument(SplicedDocument):
    """A TOML file as a document; see the module."""

    def _scan(self) -> Spanned:
        if deep := _DEEP_KEY.search(self._data):
            raise _too_deep(self._data, deep.start())
        try:
            tomllib.loads(self._data.decode())
        except (ValueError, RecursionError) as error:  # a number of too many digits is one, too
            told = str(error) or "it is nested too deeply"
            if not isinstance(error, (tomllib.TOMLDecodeError, UnicodeDecodeError)):
                told = "a number has too many digits, or something is nested too deeply"
            match = re.search(r"\(at (line \d+, column \d+)\)", told)
            raise FormatError(
                f"this is no valid TOML: {told.partition(' (at ')[0]}",
                where=match[1] if match else "the end of the file",
                remedy="The file may have been cut short." if "end of document" in told else "",
            ) from error
        return _Reader(self._data).document()

    def _expand(self, node: Spanned) -> list[Spanned]:
        return []

    def _value(self, node: Spanned) -> Any:
        return _scalar(self._text(node))

    def _written(self, value: Any) -> Any:
        return Decimal(str(value)) if isinstance(value, float) else value

    # ---- editing -------------------------------------------------------------------------

    def _scalar_text(self, value: Any, path: Path, instead: Spanned | None) -> str:
        old = self._text(instead) if instead is not None and instead.kind == SCALAR else ""
        if isinstance(value, bool):
            return "true" if value else "false"
        if isinstance(value, str):
            if _DATE.fullmatch(value) and _DATE.fullmatch(old):
                return value
            literal = old.startswith("'") and not old.startswith("'''")
            if literal and value.isprintable() and "'" not in value:
                return f"'{value}'"
            if not value.isprintable() and re.search("[\ud800-\udfff]", value):
                raise FormatError("half a character cannot be written in TOML",
                                  where=format_path(path))  # fmt: skip
            return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")
        if isinstance(value, int):
            return str(value)
        if isinstance(value, (float, Decimal)):
            text = str(value).lower().replace("infinity", "inf")
            return text if re.search(r"[.einf]", text) else text + ".0"
        raise FormatError(f"{value!r} cannot be written in TOML", where=format_path(path))

    def _write(self, node: Spanned, instead: Spanned, path: Path) -> list[Splice]:
        if isinstance(instead.token, _Table):
            if instead.parent is None or instead.parent.kind == LIST:
                raise FormatError("a table with a header is not replaced", where=format_path(path))
            splices = self._without(instead)
            return splices + self._put(instead.parent, node, path)
        return [Splice(instead.start, instead.end, self._inline(node).encode())]

    def _put(self, parent: Spanned, node: Spanned, path: Path) -> list[Splice]:
        text = self._inline(node)
        key = "" if node.key is None else _key_text(node.key)
        table = parent.token
        if not isinstance(table, _Table):
            return [self._put_inline(parent, f"{key} = {text}" if key else text)]
        if parent.kind == LIST:  # an array of tables
            if node.kind != MAPPING:
                raise FormatError("a list of tables takes a table", where=format_path(path))
            names = ".".join(_key_text(str(part)) for part in path if isinstance(part, str))
            lines = [f"[[{names}]]"]
            for member in self._members(node):
                lines.append(f"{_key_text(str(member.key))} = {self._inline(member)}")
            at = table.end
            gap = self._newline if self._data[:at].endswith(b"\n") or not at else self._newline * 2
            return [Splice(at, at, (gap + self._newline.join((*lines, ""))).encode())]
        line = f"{table.prefix}{key} = {text}"
        at = table.last_pair if table.last_pair >= 0 else table.header_end
        if at < 0:  # a table that only its sub-tables name
            names = ".".join(_key_text(str(part)) for part in path[:-1])
            at, line = len(self._data), f"{self._newline}[{names}]{self._newline}{line}"
        ends = not at or self._data[at - 1] == 0x0A
        text = line + self._newline if ends else self._newline + line
        return [Splice(at, at, text.encode())]

    def _has_room(self, parent: Spanned) -> bool:
        members = self._members(parent)
        inline = not isinstance(parent.token, _Table)
        unplaced = inline and members and all(member.start < 0 for member in members)
        return super()._has_room(parent) and not unplaced

    def _put_inline(self, parent: Spanned, text: str) -> Splice:
        members = self._members(parent)
        placed = [member for member in members if member.start >= 0]
        if not placed:
            close = parent.end - 1
            bare = self._data[parent.start + 1 : close].strip() == b""
            start = parent.start + 1 if bare else close
            pad = " " if parent.kind == MAPPING else ""
            return Splice(start, close, f"{pad}{text}{pad}".encode())
        last = max(placed, key=lambda m: m.end)
        lead = self._data[last.begin : last.key_start if last.key_start >= 0 else last.start]
        lead = lead.replace(b",", b"")
        lead = lead if b"#" not in lead and (lead.strip() == b"" and lead) else b" "
        return Splice(last.end, last.end, b"," + lead + text.encode())

    def _without(self, node: Spanned) -> list[Splice]:
        if isinstance(node.token, _Table):
            return [Splice(start, end, b"") for start, end in sorted(set(node.token.lines))]
        parent = node.parent
        if node.end < 0 or (parent.end < 0 and not isinstance(parent.token, _Table)):
            raise FormatError(
                "what dotted keys in a table in line make is not taken out",
                where=format_path(self._path(node)),
                remedy="Write it as a table in braces, by hand.",
            )
        if isinstance(parent.token, _Table):
            return [Splice(node.begin, node.stop, b"")]
        at = self._position(node)
        siblings = self._members(parent)
        if at + 1 < len(siblings) and siblings[at + 1].start >= 0:
            after = siblings[at + 1]
            start = node.key_start if node.key_start >= 0 else node.start
            return [Splice(start, after.key_start if after.key_start >= 0 else after.start, b"")]
        start = siblings[at - 1].end if at else parent.start + 1
        return [Splice(start, node.end if at else node.stop, b"")]

    def _permute(self, node: Spanned, members: list[Spanned]) -> None:
        """Tables of an array of tables change places with all their lines."""
        before = self._members(node)
        if not all(isinstance(member.token, _Table) for member in before):
            super()._permute(node, members)
            return
        spans = {id(each): (each.token.lines[0][0], each.token.lines[-1][1]) for each in before}
        newline = self._newline.encode()
        for at, (here, there) in enumerate(zip(before, members, strict=True)):
            (start, end), (begin, stop) = spans[id(here)], spans[id(there)]
            text = self._data[begin:stop].removesuffix(b"\n").removesuffix(b"\r") + newline
            if at == len(before) - 1 and not self._data[start:end].endswith(b"\n"):
                text = text.removesuffix(newline)
            self._splice([Splice(start, end, text)])
        node.members = list(members)

    def _renamed(self, node: Spanned, key: str, path: Path) -> list[Splice]:
        new = _key_text(key).encode()
        if isinstance(node.token, _Table):
            return [Splice(start, end, new) for start, end in sorted(set(node.token.mentions))]
        return [Splice(node.key_start, node.key_end, new)]

    def _can_go(self, node: Spanned) -> bool:
        if isinstance(node.parent.token, _Table):
            return node.start >= 0
        return all(member.start >= 0 for member in self._members(node.parent))

    def _extent(self, node: Spanned) -> tuple[int, int]:
        if isinstance(node.token, _Table):
            return 0, len(self._data)
        return node.begin, node.stop

    def _inline(self, node: Spanned) -> str:
        """Return a node as one value, the text of its scalars as it is."""
        if node.kind == SCALAR:
            return self._text(node)
        if node.start >= 0 and not isinstance(node.token, _Table) and node.plain is UNTOUCHED:
            return self._data[node.start : node.end].decode()
        parts = [self._inline(member) for member in self._members(node)]
        if node.kind == LIST:
            return f"[{', '.join(parts)}]"
        keys = [_key_text(str(member.key)) for member in self._members(node)]
        pairs = ", ".join(f"{key} = {part}" for key, part in zip(keys, parts, strict=True))
        return f"{{ {pairs} }}" if pairs else "{}"


class _Reader:
    """Finds the spans of everything in a text that is known to be valid."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._at = 0
        self._root = Spanned(MAPPING, members=[], start=0, end=len(data), token=_Table())

    def document(self) -> Spanned:
        root, data = self._root, self._data
        table = root
        chain = [root]
        line_start = 0
        while True:
            self._at = _GAP.match(data, self._at).end()  # type: ignore[union-attr]
            line_start = data.rfind(b"\n", 0, self._at) + 1
            if self._at >= len(data):
                break
            if data[self._at] == 0x5B:
                if root.token.header_end < 0:
                    root.token.header_end = self._before_comments(line_start)
                chain = self._header(line_start)
                table = chain[-1]
            else:
                self._pair(table, chain, line_start)
            for each in chain:
                each.token.end = self._at
        root.token.end = len(data)
        if root.token.header_end < 0:
            root.token.header_end = len(data)
        return root

    def _before_comments(self, at: int) -> int:
        """Return where the comment begins that stands right above a line."""
        while at:
            above = self._data.rfind(b"\n", 0, at - 1) + 1
            if not self._data[above:at].lstrip().startswith(b"#"):
                return at
            at = above
        return at

    def _header(self, line_start: int) -> list[Spanned]:
        array = self._data.startswith(b"[[", self._at)
        self._at += 2 if array else 1
        keys = self._keys()
        self._at = self._data.index(b"]", self._at) + (2 if array else 1)
        end = self._at = _LINE_END.match(self._data, self._at).end()  # type: ignore[union-attr]
        chain = [self._root]
        node = self._root
        for number, (key, start, stop) in enumerate(keys):
            is_last = number == len(keys) - 1
            child = self._child(node, key, LIST if array and is_last else MAPPING, start)
            child.token.mentions.append((start, stop))
            chain.append(child)
            node = child
            if child.kind == LIST:
                if array and is_last:
                    made = Spanned(MAPPING, members=[], start=start, token=_Table())
                    child.members.append(made)  # type: ignore[union-attr]
                    _adopt(child, made)
                node = child.members[-1]  # type: ignore[index]
                chain.append(node)
        node.token.header_end = end
        for each in chain[1:]:
            each.token.lines.append((line_start, end))
        return chain

    def _pair(self, table: Spanned, chain: list[Spanned], line_start: int) -> None:
        data = self._data
        begin = self._at
        keys = self._keys()
        self._at = _BLANK.match(data, data.index(b"=", self._at) + 1).end()  # type: ignore[union-attr]
        value = self._value()
        end = self._at
        self._at = _LINE_END.match(data, end).end()  # type: ignore[union-attr]
        node = table
        inner = []
        for number, (key, start, stop) in enumerate(keys[:-1]):
            node = self._child(node, key, MAPPING, start)
            node.token.mentions.append((start, stop))
            node.token.prefix = data[begin : keys[number + 1][1]].decode()
            inner.append(node)
        key, value.key_start, value.key_end = keys[-1]
        value.key, value.begin, value.stop = key, line_start, self._at
        _adopt(node, value)
        node.members.append(value)  # type: ignore[union-attr]
        for each in (table, *inner):
            each.token.last_pair = self._at
        for each in (*chain[1:], *inner):
            each.token.lines.append((line_start, self._at))

    def _child(self, node: Spanned, key: str, kind: str, start: int) -> Spanned:
        known: Spanned | None = node.token.children.get(key)
        if known is not None:
            return known
        child = Spanned(kind, key=key, members=[], start=start, token=_Table())
        node.token.children[key] = child
        _adopt(node, child)
        node.members.append(child)  # type: ignore[union-attr]
        return child

    def _keys(self) -> list[tuple[str, int, int]]:
        out = []
        while True:
            self._at = _BLANK.match(self._data, self._at).end()  # type: ignore[union-attr]
            match = _KEY.match(self._data, self._at)
            assert match is not None
            text = match[0].decode()
            out.append((_scalar(text) if text[0] in "\"'" else text, *match.span()))
            self._at = _BLANK.match(self._data, match.end()).end()  # type: ignore[union-attr]
            if self._data[self._at : self._at + 1] != b".":
                return out
            if len(out) == _DEEPEST:
                raise _too_deep(self._data, self._at)
            self._at += 1

    def _value(self) -> Spanned:
        start = self._at
        first = self._data[start]
        if first in b"[{":
            return self._container(LIST if first == 0x5B else MAPPING)
        pattern = _STRING if first in b"\"'" else _BARE
        self._at = pattern.match(self._data, start).end()  # type: ignore[union-attr]
        return Spanned(SCALAR, start=start, end=self._at)

    def _container(self, kind: str) -> Spanned:
        node = Spanned(kind, members=[], start=self._at, token=_INLINE)
        self._at += 1
        while True:
            begin = self._at
            self._at = _GAP.match(self._data, begin).end()  # type: ignore[union-attr]
            if self._data[self._at] in b"]}":
                self._at += 1
                node.end = self._at
                return node
            keys = self._keys() if kind == MAPPING else []
            if keys:
                self._at = self._data.index(b"=", self._at) + 1
                self._at = _BLANK.match(self._data, self._at).end()  # type: ignore[union-attr]
            value = self._value()
            value.begin = begin
            parent = node
            for key, start, _stop in keys[:-1]:  # a dotted key in line: its parents are there only
                found = next((m for m in parent.members or () if m.key == key), None)
                if found is None:
                    found = Spanned(MAPPING, key=key, members=[], start=start, token=_INLINE)
                    _adopt(parent, found)
                    parent.members.append(found)  # type: ignore[union-attr]
                parent = found
            if keys:
                value.key, value.key_start, value.key_end = keys[-1]
            _adopt(parent, value)
            parent.members.append(value)  # type: ignore[union-attr]
            self._at = _GAP.match(self._data, self._at).end()  # type: ignore[union-attr]
            value.stop = self._at
            if self._data[self._at] == 0x2C:
                self._at += 1


def _adopt(parent: Spanned, node: Spanned) -> None:
    node.parent, node.at = parent, len(parent.members or ())


def _too_deep(data: bytes, at: int) -> FormatError:
    line = data.count(b"\n", 0, at) + 1
    return FormatError(f"a key is deeper than {_DEEPEST} levels", where=f"line {line}")


def _key_text(key: str) -> str:
    return key if _PLAIN_KEY.fullmatch(key) else json.dumps(key, ensure_ascii=False)


def _scalar(text: str) -> Any:
    if text in ("true", "false"):
        return text == "true"
    if text[0] in "\"'":
        return tomllib.loads(f"v = {text}")["v"]
    if _NUMBER.fullmatch(text):
        return int(text)
    if text[:2] in ("0x", "0o", "0b"):
        return int(text, 0)
    if _DATE.fullmatch(text):
        return text
    return Decimal(text.replace("_", ""))

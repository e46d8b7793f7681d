"""INI files, edited line by line: comments, order, spacing, duplicates and odd lines stay.

A value is all text after the first `=` (or `:` where a line has no `=`), less the space around it;
nothing is unquoted and a trailing comment is part of it, as games differ in both. Lines before the
first section belong to the section "". A line without a separator is a key with an empty value. A
key that stands twice in a section is carried, but not edited.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from msgspec import Struct

from ..errors import FormatError, UsageError
from .document import ANY, Leaf, Path, format_path, occupied
from .text import Text

__all__ = ["IniDocument"]

_LINE = re.compile(r"[^\n]*\n|[^\n]+")
_SECTION = re.compile(r"\s*\[([^\]\r\n]*)\]\s*(?:[;#].*)?$")


class _Line(Struct, eq=False):
    """One line: its text in five pieces for a pair, in `lead` alone for anything else."""

    section: str
    lead: str
    key: str = ""
    separator: str = ""
    value: str = ""
    end: str = ""
    is_pair: bool = False
    is_section: bool = False
    origin: Path | None = None
    note: str = ""

    @property
    def text(self) -> str:
        return self.lead + self.key + self.separator + self.value + self.end


class IniDocument:
    """An INI file as a document of sections; paths are (section, key)."""

    def __init__(self, data: bytes) -> None:
        self._encoding = Text.decode(data)
        if "\0" in self._encoding.text:
            raise FormatError("this is no text file", where=f"byte {data.index(0)}")
        self._lines: list[_Line] = []
        section = ""
        for match in _LINE.finditer(self._encoding.text):
            line = _read_line(match[0], section)
            section = line.section
            self._lines.append(line)
        full = {line.section for line in self._pairs()}
        for line in self._lines:
            if line.is_section and line.section in full:
                line.origin = None

    def leaves(self, at: Path = ()) -> Iterator[Leaf]:
        full = {line.section for line in self._pairs()}
        for line in self._lines:
            path: Path = (line.section, line.key) if line.is_pair else (line.section,)
            if path[: len(at)] != at:
                continue
            if line.is_pair:
                yield Leaf(path, line.value, line.value, line.origin, line.note)
            elif line.is_section and line.section not in full:
                yield Leaf(path, {}, "", line.origin, line.note)

    def find(self, pattern: Path) -> list[Path]:
        out: dict[Path, None] = {}
        for line in self._lines:
            path: Path = (line.section, line.key) if line.is_pair else (line.section,)
            path = path[: len(pattern)]
            if (
                (line.is_pair or line.is_section)
                and len(path) == len(pattern)
                and all(want in (ANY, have) for want, have in zip(pattern, path, strict=True))
            ):
                out[path] = None
        return list(out)

    def get(self, path: Path) -> Any:
        if len(path) == 1:
            return {line.key: line.value for line in self._pairs() if line.section == path[0]}
        return self._line(path).value

    def set(self, path: Path, value: Any, *, note: str = "") -> None:
        text = _text_of(value, path)
        if self.find(path):
            line = self._line(path)
            line.value = text
            if not line.separator:
                line.separator = "="
            return
        self._insert(path, _Line("", "", value=text, is_pair=True, note=note))

    def remove(self, path: Path) -> None:
        if len(path) == 1:
            self._lines = [
                line
                for line in self._lines
                if line.section != path[0] or not (line.is_pair or line.is_section)
            ]
            return
        self._lines.remove(self._line(path))

    def move(self, path: Path, to: Path) -> None:
        if self.find(to):
            raise occupied(to)
        if len(path) == 1 or len(to) == 1:
            self._rename_section(path, to)
            return
        line = self._line(path)
        if path[0] == to[0]:
            line.key = str(to[1])
            return
        self._lines.remove(line)
        self._insert(to, line)

    def encode(self) -> bytes:
        return self._encoding.encode("".join(line.text for line in self._lines))

    def _pairs(self) -> list[_Line]:
        return [line for line in self._lines if line.is_pair]

    def _line(self, path: Path) -> _Line:
        found = [line for line in self._pairs() if (line.section, line.key) == path]
        if not found:
            raise UsageError("there is no such key", where=format_path(path))
        if len(found) > 1:
            raise FormatError(
                f"the key stands there {len(found)} times, so it is not changed",
                where=format_path(path),
                remedy="Remove all but one by hand.",
            )
        return found[0]

    def _rename_section(self, path: Path, to: Path) -> None:
        if len(path) != 1 or len(to) != 1:
            raise FormatError("a section cannot become a key", where=format_path(path))
        if not self.find(path):
            raise UsageError("there is no such section", where=format_path(path))
        for line in self._lines:
            if line.section == path[0]:
                if line.is_section:
                    line.lead = line.lead.replace(f"[{path[0]}]", f"[{to[0]}]", 1)
                line.section = str(to[0])

    def _insert(self, path: Path, pair: _Line) -> None:
        """Put a pair behind the last one of its section, in the style of its neighbours."""
        if len(path) != 2:
            raise FormatError("an INI path is section and key", where=format_path(path))
        section, key = str(path[0]), str(path[1])
        newline = self._encoding.newline
        at = [
            n
            for n, line in enumerate(self._lines)
            if line.section == section and (line.is_pair or line.is_section)
        ]
        if self._lines and not self._lines[-1].text.endswith("\n"):
            self._lines[-1].end += newline
        if not at and section:
            if self._lines:
                self._lines.append(_Line(self._lines[-1].section, newline))
            self._lines.append(_Line(section, f"[{section}]{newline}", is_section=True))
            at = [len(self._lines) - 1]
        like = next((line for line in reversed(self._pairs()) if line.separator), None)
        pair.section, pair.key, pair.end = section, key, newline
        pair.separator = like.separator if like else "="
        pair.lead = like.lead if like else ""
        self._lines.insert(at[-1] + 1 if at else 0, pair)


def _read_line(text: str, section: str) -> _Line:
    if match := _SECTION.match(text):
        return _Line(match[1], text, is_section=True, origin=(match[1],))
    body = text.strip()
    if not body or body[0] in ";#":
        return _Line(section, text)
    content = text.rstrip()
    lead = content[: len(content) - len(content.lstrip())]
    sign = "=" if "=" in content else ":"
    before, found, after = content[len(lead) :].partition(sign)
    key, value = before.rstrip(), after.lstrip()
    return _Line(
        section,
        lead,
        key,
        separator=before[len(key) :] + found + after[: len(after) - len(value)],
        value=value,
        end=text[len(content) :],
        is_pair=True,
        origin=(section, key),
    )


def _text_of(value: Any, path: Path) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (int, float, Decimal)):
        return str(value)
    if isinstance(value, str) and not any(sign in value for sign in "\r\n\0"):
        return value
    raise FormatError(f"{value!r} cannot be written in an INI file", where=format_path(path))

"""INI files, edited line by line: comments, order, spacing, duplicates and odd lines stay.

A value is all text after the first `=` (or `:` where a line has no `=`), less the space around it;
nothing is unquoted and a trailing comment is part of it, as games differ in both. Lines before the
first section belong to the section "". A line without a separator is a key with an empty value. A
key that stands twice in a section is carried, but not edited. What it does not keep: nothing.

The text is cut at its section headers; the lines of a part are read when somebody looks into it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct

from ..errors import FormatError, UsageError
from .document import ANY, Leaf, Path, document_paths, format_path, not_reordered, occupied
from .reading_back import unreadable
from .text import Text

__all__ = ["IniDocument"]

_LINE = re.compile(r"[^\r\n]*+(?:\r\n|\n|\r)|[^\r\n]+")
_SECTION = re.compile(
    r"(?<![^\r\n])[^\S\r\n]*\[([^\]\r\n]*)\][^\S\r\n]*(?:[;#][^\r\n]*)?(?![^\r\n])"
)


class _Line(Struct, eq=False):
    """One line: its text in five pieces for a pair, in `lead` alone for anything else."""

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


class _Part(Struct, eq=False):
    """A section header and what follows it: `start:end` of the text until its `lines` are read."""

    section: str
    start: int
    end: int
    lines: list[_Line] | None = None


@document_paths
class IniDocument:
    """An INI file as a document of sections; paths are (section, key)."""

    def __init__(self, data: bytes) -> None:
        self._encoding = Text.decode(data)
        self._text = text = self._encoding.text
        if "\0" in text:
            raise FormatError("this is no text file", where=f"byte {data.index(0)}")
        self._edited = False
        self._parts = [_Part("", 0, len(text))]
        self._named: dict[str, list[_Part]] = {"": self._parts[:]}
        for match in _SECTION.finditer(text):
            start, section = match.start(), match[1]
            self._parts[-1].end = start
            part = _Part(section, start, len(text))
            self._parts.append(part)
            self._named.setdefault(section, []).append(part)

    def leaves(self, at: Path = ()) -> Iterator[Leaf]:
        for part in self._named.get(str(at[0]), []) if at else self._parts:
            pairs = [line for line in self._lines(part) if line.is_pair]
            if not pairs and not self._pairs(part.section):
                for line in self._lines(part):
                    if line.is_section and len(at) < 2:
                        yield Leaf((part.section,), {}, "", line.origin, line.note)
            for line in pairs:
                path: Path = (part.section, line.key)
                if path[: len(at)] == at:
                    yield Leaf(path, line.value, line.value, line.origin, line.note)

    def find(self, pattern: Path) -> list[Path]:
        if not pattern:
            return [()]
        parts = self._parts if pattern[0] == ANY else self._named.get(str(pattern[0]), [])
        out: dict[Path, None] = {}
        for part in parts if len(pattern) < 3 else []:
            if len(pattern) == 1:
                if any(line.is_pair or line.is_section for line in self._lines(part)):
                    out[(part.section,)] = None
                continue
            for line in self._lines(part):
                if line.is_pair and pattern[1] in (ANY, line.key):
                    out[part.section, line.key] = None
        return list(out)

    def get(self, path: Path) -> Any:
        if not path:
            return {name: self.get((name,)) for (name,) in self.find((ANY,))}
        if len(path) == 1:
            return {line.key: line.value for line in self._pairs(str(path[0]))}
        return self._line(path)[1].value

    def set(self, path: Path, value: Any, *, note: str = "") -> None:
        self._edited = True
        text = _text_of(value, path)
        if len(path) == 2 and self.find(path):
            line = self._line(path)[1]
            _write(line, line.key, text, path)
            return
        self._insert(path, _Line("", value=text, is_pair=True, note=note))

    def remove(self, path: Path) -> None:
        self._edited = True
        if len(path) == 1:
            if not self.find(path):
                raise UsageError("there is no such section", where=format_path(path))
            for part in self._named.get(str(path[0]), []):
                kept = [ln for ln in self._lines(part) if not (ln.is_pair or ln.is_section)]
                part.lines = kept
            return
        part, line = self._line(path)
        self._lines(part).remove(line)

    def move(self, path: Path, to: Path) -> None:
        self._edited = True
        if self.find(to):
            raise occupied(to)
        _check_path(to)
        if len(path) == 1 or len(to) == 1:
            self._rename_section(path, to)
            return
        part, line = self._line(path)
        if path[0] == to[0]:
            _write(line, str(to[1]), line.value, to)
            return
        self._insert(to, line)
        self._lines(part).remove(line)

    def reorder(self, path: Path, order: Sequence[int]) -> None:
        """Put the keys of a section into another order: lines change places, comments stay.

        Raises:
            FormatError: it is no section.
            UsageError: the order does not have every member once.
        """
        pairs = self._pairs(str(path[0])) if len(path) == 1 else []
        if not pairs or len({pair.key for pair in pairs}) < len(pairs):
            raise not_reordered(path)
        if sorted(order) != list(range(len(pairs))):
            raise UsageError("an order has every member once", where=format_path(path))
        self._edited = True
        texts = [(pair.lead, pair.key, pair.separator, pair.value) for pair in pairs]
        known = [(pair.origin, pair.note) for pair in pairs]
        for pair, at in zip(pairs, order, strict=True):
            pair.lead, pair.key, pair.separator, pair.value = texts[at]
            pair.origin, pair.note = known[at]

    def encode(self) -> bytes:
        out: list[str] = []
        begin = stop = 0  # a run of parts that nobody looked into
        for part in self._parts:
            if part.lines is None and part.start == stop:
                stop = part.end
                continue
            out.append(self._text[begin:stop])
            begin = stop = part.end
            if part.lines is None:
                begin = part.start
            else:
                out += (line.text for line in part.lines)
        out.append(self._text[begin:stop])
        data = self._encoding.encode("".join(out))
        if self._edited:
            self._check()
        return data

    def _check(self) -> None:
        """Raise unless each part that was looked into reads back as it is; others are copied as they were.

        Lines stand for themselves, so a part is read alone; it must end a line where another follows.
        """
        parts = [
            part
            for part in self._parts
            if part.lines or (part.lines is None and part.end > part.start)
        ]
        for part in parts:
            if part.lines is None:
                continue
            text = "".join(line.text for line in part.lines)
            again = IniDocument(text.encode("utf-8", "surrogatepass"))
            found = [
                (line.key, line.value)
                for each in again._parts
                for line in again._lines(each)
                if line.is_pair
            ]
            meant = [(line.key, line.value) for line in part.lines if line.is_pair]
            headers = [each.section for each in again._parts[1:]]
            wanted = [part.section for line in part.lines if line.is_section]
            ended = part is parts[-1] or text.endswith(("\n", "\r"))
            if found != meant or headers != wanted or not ended:
                raise unreadable("the section would be another", part.section or "the file")

    def _lines(self, part: _Part) -> list[_Line]:
        if part.lines is None:
            full = False
            part.lines = []
            is_header = part.start > 0 or part is not self._parts[0]
            for match in _LINE.finditer(self._text, part.start, part.end):
                line = _read_line(match[0], part.section, is_header=is_header)
                is_header = False
                full |= line.is_pair
                part.lines.append(line)
            if full and part.lines[0].is_section:
                part.lines[0].origin = None
        return part.lines

    def _pairs(self, section: str) -> list[_Line]:
        parts = self._named.get(section, [])
        return [line for part in parts for line in self._lines(part) if line.is_pair]

    def _line(self, path: Path) -> tuple[_Part, _Line]:
        found = [
            (part, line)
            for part in self._named.get(str(path[0]), [])
            for line in self._lines(part)
            if line.is_pair and len(path) == 2 and line.key == path[1]
        ]
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
        if not path[0] or not to[0]:
            raise FormatError(
                "what stands before the first section has no name",
                where=format_path(path) or "the file",
            )
        new = str(to[0])
        _check_section(new, to)
        for part in self._named.pop(str(path[0])):
            for line in self._lines(part):
                if line.is_section:
                    line.lead = line.lead.replace(f"[{path[0]}]", f"[{new}]", 1)
            part.section = new
            self._named.setdefault(new, []).append(part)

    def _insert(self, path: Path, pair: _Line) -> None:
        """Put a pair behind the last one of its section, in the style of its neighbours."""
        _check_path(path, least=2)
        section = str(path[0])
        _check_section(section, path)
        newline = self._encoding.newline
        like = self._neighbour(self._last_of(section)[0])
        lead, separator = (like.lead, like.separator) if like else ("", "=")
        fresh = _Line(lead, pair.key, separator, pair.value, newline, is_pair=True)
        _write(fresh, str(path[1]), pair.value, path)
        self._end_last_line(newline)
        part, at = self._last_of(section)
        if part is None:
            if any(p.lines if p.lines is not None else p.end > p.start for p in self._parts):
                self._lines(self._parts[-1]).append(_Line(newline))
            header = _Line(f"[{section}]{newline}", is_section=True)
            part, at = _Part(section, -1, -1, [header]), 1
            self._parts.append(part)
            self._named.setdefault(section, []).append(part)
        fresh.origin, fresh.note = pair.origin, pair.note
        self._lines(part).insert(at, fresh)

    def _last_of(self, section: str) -> tuple[_Part | None, int]:
        """Return where a pair of a section goes: its last part that has any line of it."""
        for part in reversed(self._named.get(section, [])):
            places = [n for n, ln in enumerate(self._lines(part)) if ln.is_pair or ln.is_section]
            if places:
                return part, places[-1] + 1
        return (self._parts[0], 0) if not section else (None, 0)

    def _end_last_line(self, newline: str) -> None:
        if self._text and not self._text.endswith(("\n", "\r")):
            lines = next((ls for p in reversed(self._parts) if (ls := self._lines(p))), None)
            if lines and not lines[-1].text.endswith(("\n", "\r")):
                lines[-1].end += newline

    def _neighbour(self, part: _Part | None) -> _Line | None:
        """Return a pair to write like: of the section, else the last one before the file's end.

        It is the last of those that are indented least: some readers take what is indented deeper
        for more of the value above.
        """
        for each in (*([part] if part is not None else ()), *reversed(self._parts)):
            pairs = [line for line in self._lines(each) if line.is_pair and line.separator]
            if pairs:
                least = min(len(line.lead) for line in pairs)
                return [line for line in pairs if len(line.lead) == least][-1]
        return None


def _write(line: _Line, key: str, value: str, path: Path) -> None:
    """Give a line a key and a value that are read back from it; else change nothing and raise."""
    separator = line.separator or "="
    for sign in dict.fromkeys((separator, separator.replace(":", "="))):
        text = line.lead + key + sign + value
        again = _read_line(text, "", is_header=False)
        plain = not re.search(r"[\r\n\0]", text) and not _SECTION.fullmatch(text)
        if plain and again.is_pair and (again.key, again.value) == (key, value):
            line.key, line.separator, line.value = key, sign, value
            return
    what = f"{key} = {value}"
    raise FormatError(
        f"{what!r} cannot be written in an INI file so that it reads back", where=format_path(path)
    )


def _check_path(path: Path, *, least: int = 1) -> None:
    if not least <= len(path) <= 2 or not all(isinstance(part, str) for part in path):
        raise FormatError("an INI path is section and key", where=format_path(path))


def _check_section(name: str, path: Path) -> None:
    match = _SECTION.fullmatch(f"[{name}]")
    if match is None or match[1] != name:
        raise FormatError(
            f"{name!r} cannot be the name of a section in an INI file", where=format_path(path)
        )


def _read_line(text: str, section: str, *, is_header: bool) -> _Line:
    if is_header:
        return _Line(text, is_section=True, origin=(section,))
    body = text.strip()
    if not body or body[0] in ";#":
        return _Line(text)
    content = text.rstrip()
    lead = content[: len(content) - len(content.lstrip())]
    sign = "=" if "=" in content else ":"
    before, found, after = content[len(lead) :].partition(sign)
    key, value = before.rstrip(), after.lstrip()
    return _Line(
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

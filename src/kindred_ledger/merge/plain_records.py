"""Records as they lie in the text of XML, CSV and JSON files: told apart by lines, without a parser.

A unit is a line; of XML elements over several lines, and of objects of JSON of one depth, it goes to the line
that closes it. Only what can be read in one way counts as a record: an element in a line of its own without
anything inside, one from its opening line to its closing line, a row without quotes, an object of a list.
Texts are UTF-8.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Hashable, Iterator, Sequence
from itertools import chain, repeat
from operator import itemgetter
from typing import Any
from xml.parsers import expat

from msgspec import Struct

from ..errors import FormatError
from ..formats import decode

__all__ = [
    "Form",
    "Records",
    "cells_of",
    "form_of",
    "is_plain",
    "is_sound",
    "read_records",
    "spans_of",
    "units_of",
]

_ATTRIBUTE = rb' [A-Za-z_][\w.:-]*+="[^"<>&\r\n\t]*+"'
_ELEMENT = rb"[ \t]*+<[A-Za-z_][\w.:-]*+(?:" + _ATTRIBUTE + rb")*+ ?/>[ \t]*+\r?\n"
_ELEMENTS = re.compile(rb"(?m)^(?:" + _ELEMENT + rb")++")
_TAG = re.compile(rb"(?m)^[ \t]*<([\w.:-]+)")
_CELL = re.compile(rb' ([\w.:-]+)="([^"]*)"')
_VALUE = re.compile(rb'"[^"<>&\r\n\t]*"')
_LONG_COMMENT = re.compile(rb"<!--(?![^\r\n]*?-->)")
_OTHER_ENCODING = re.compile(rb"""encoding\s*=\s*["'](?!utf-8)""", re.I)
_OPENS = re.compile(rb"\n([ \t]+)\{\r?\n")
_CLOSES = re.compile(rb"(?m)^([ \t]*)</([A-Za-z_][\w.:-]*)>[ \t]*\r?\n")
_LONE_RETURN = re.compile(rb"\r(?!\n)")


class Form(Struct, frozen=True):
    """How records lie in a file: what closes each, with the end of the line before it, and what opens it.

    Without `closes` each is a line.
    """

    codec: str
    closes: bytes = b""
    opens: bytes = b""


_OFTEN = 20  # as often as the commonest element, or a part of that

Cells = tuple[list[tuple[str, bytes]], bytes]


class Records(Struct):
    """Units that are records: how many, with how many fields, and of which tag if they are elements of XML.

    `values` gives those of a field by its name, None if not every record has it once.
    """

    count: int
    fields: int
    tag: str
    values: Callable[[str], Sequence[Hashable] | None]

    def names(self, field: str, others: set[Any]) -> bool:
        """Tell whether a field names these records: single, and none like those of `others`."""
        values = self.values(field)
        if values is None:
            return False
        known = set(values)
        if values and isinstance(values[0], bytes):
            others = {str(each).encode() for each in others}
        return len(known) == len(values) and known.isdisjoint(others)


def is_plain(data: bytes, codec: str) -> bool:
    """Tell whether the lines, or the brackets at one depth, of a file are what they look like."""
    if b"\0" in data or (b"\r" in data and _LONE_RETURN.search(data)):
        return False
    if not data.isascii():
        try:
            data.decode()
        except UnicodeDecodeError:
            return False
    if codec == "csv":
        return b'"' not in data
    if codec == "json":
        return b"/*" not in data and b"//" not in data
    if _OTHER_ENCODING.search(data, 0, 200):
        return False
    return b"<![" not in data and b"<!DOCTYPE" not in data and not _LONG_COMMENT.search(data)


def form_of(data: bytes, codec: str) -> Form:
    """Return how the records of a file lie in it, by the largest list of them."""
    if codec == "json" and (opens := _OPENS.search(data)) is not None:
        ends = b"\r\n" if data[opens.end() - 2 : opens.end() - 1] == b"\r" else b"\n"
        return Form(codec, b"\n" + opens[1] + b"}," + ends)
    if codec == "xml" and data.count(b"</") * 4 > data.count(b"/>"):
        closing = Counter(match[0] for match in _CLOSES.finditer(data))
        most = max(closing.values(), default=0)
        # Elements lie in each other: those that lie outermost, but for the few that hold all others.
        often = [line for line, times in closing.items() if times * _OFTEN >= most]
        line = min(often, key=lambda line: len(line) - len(line.lstrip()), default=b"")
        if closing[line] * 4 > data.count(b"/>\n") + data.count(b"/>\r\n"):
            match = _CLOSES.match(line)
            assert match is not None
            return Form(codec, b"\n" + line, match[1] + b"<" + match[2])
    return Form(codec)


def units_of(data: bytes, form: Form) -> list[bytes]:
    """Return a file in parts of which most are a record each; joined they are the file."""
    mark = form.closes
    if not mark:
        return data.splitlines(keepends=True)
    parts = data.split(mark)
    units = [part + mark for part in parts[:-1]]
    if parts[-1]:
        units.append(parts[-1])
    return units


def is_sound(data: bytes, codec: str, decode: Callable[[bytes], Any]) -> bool:
    """Tell whether a file that was put together of plain records reads as one of its kind."""
    if codec == "csv":  # rows as wide as the others
        return True
    try:
        if codec == "xml":
            expat.ParserCreate().Parse(data, True)
        else:
            decode(data)
    except (FormatError, expat.ExpatError):
        return False
    return True


def spans_of(units: Sequence[bytes], form: Form) -> Iterator[tuple[int, int]]:
    """Yield where some units are records one after the other: begin and end."""
    if form.codec == "csv":
        yield 0, len(units)
    elif form.codec == "xml" and not form.closes:
        text = b"".join(units)
        first = done = 0
        for match in _ELEMENTS.finditer(text):
            first += text.count(b"\n", done, match.start())
            last = first + text.count(b"\n", match.start(), match.end())
            yield first, last
            first, done = last, match.end()
    else:
        first = 0
        for at, unit in enumerate(units):
            if not _is_record(unit, form):  # the last of its list, or what stands around it
                yield first, at
                first = at + 1
        yield first, len(units)


def _is_record(unit: bytes, form: Form) -> bool:
    if form.codec == "json":
        return unit.rstrip().endswith(b",")
    opens = form.opens
    again = unit.find(b"\n" + opens) >= 0  # another of its kind, or of a longer name, in it
    named = unit.startswith((opens + b" ", opens + b">"))
    return named and not again and unit.endswith(form.closes)


def cells_of(codec: str, head: bytes) -> Callable[[bytes], Cells]:
    """Return what reads a record of XML or CSV: its fields in order, and what stands around their values."""
    if codec == "xml":
        return lambda unit: (
            [(f"@{name.decode()}", value) for name, value in _CELL.findall(unit)],
            _VALUE.sub(b"", unit),
        )
    sign = sign_of(head)
    names = [name.decode() for name in head.rstrip(b"\r\n").split(sign)]

    def read(unit: bytes) -> Cells:
        row = unit.rstrip(b"\r\n")
        values = row.split(sign)
        if len(values) != len(names):
            return [], unit
        return list(zip(names, values, strict=True)), unit[len(row) :]

    return read


def sign_of(head: bytes) -> bytes:
    """Return what stands between the cells of a row: a comma, a semicolon or a tab."""
    return max((b",", b";", b"\t"), key=head.count)


def read_records(runs: Sequence[Sequence[bytes]], form: Form, head: bytes) -> Records | None:
    """Return units as records; None if one of them is anything else. `head` is the first of the file."""
    units = runs[0] if len(runs) == 1 else list(chain.from_iterable(runs))
    if form.codec == "xml" and form.closes:
        return _read_elements(units)
    return {"xml": _read_xml, "csv": _read_csv, "json": _read_json}[form.codec](units, head)


def _read_xml(units: Sequence[bytes], head: bytes) -> Records | None:
    text = b"".join(units)
    tags = set(_TAG.findall(text))
    if not _ELEMENTS.fullmatch(text) or len(tags) != 1 or text.count(b"\n") != len(units):
        return None

    def values(field: str) -> list[bytes] | None:
        if not field.startswith("@"):
            return None
        found = re.findall(b' %s="([^"]*)"' % re.escape(field[1:].encode()), text)
        return found if len(found) == len(units) else None

    bare = sum(b'="' not in unit for unit in units)  # one field, too
    return Records(len(units), text.count(b'="') + bare, tags.pop().decode(), values)


def _read_elements(units: Sequence[bytes]) -> Records | None:
    """Read elements over several lines, by the codec."""
    try:
        found = decode(b"<all>\n" + b"".join(units) + b"</all>\n", "xml").get(())
    except FormatError:
        return None
    lists = list(found.items()) if isinstance(found, dict) else []
    if len(lists) != 1 or not isinstance(lists[0][1], list) or len(lists[0][1]) != len(units):
        return None
    tag, records = lists[0]
    return Records(
        len(units), sum(map(_size, records)), tag, lambda field: _singles(records, field)
    )


def _singles(records: Sequence[Any], field: str) -> list[Any] | None:
    """Return a field of all records, each as a single value; None if one has it not, or several."""
    out = []
    for record in records:
        value = record.get(field) if isinstance(record, dict) else None
        if isinstance(value, list) and len(value) == 1:
            value = value[0]
        if type(value) is not str and type(value) is not int:
            return None
        out.append(value)
    return out


def _read_csv(units: Sequence[bytes], head: bytes) -> Records | None:
    sign = sign_of(head)
    names = head.rstrip(b"\r\n").split(sign)
    width = len(names) - 1
    if width < 1 or set(map(bytes.count, units, repeat(sign))) != {width}:
        return None

    def values(field: str) -> list[bytes] | None:
        name = field.encode()
        if names.count(name) != 1:
            return None
        at = names.index(name)
        found = list(map(itemgetter(at), map(bytes.split, units, repeat(sign), repeat(at + 1))))
        return [each.rstrip(b"\r\n") for each in found] if at == width else found

    return Records(len(units), len(units) * len(names), "", values)


def _read_json(units: Sequence[bytes], head: bytes) -> Records | None:
    text = b"".join(units).rstrip()
    if not text.endswith(b"},") or not all(unit.lstrip().startswith(b"{") for unit in units):
        return None
    try:
        found = json.loads(b"[" + text[:-1] + b"]")
    except (ValueError, RecursionError):
        return None
    if len(found) != len(units):
        return None

    def values(field: str) -> list[Any] | None:
        return _singles(found, field)

    return Records(len(units), sum(map(_size, found)), "", values)


def _size(value: Any) -> int:
    if isinstance(value, dict) and value:
        return sum(map(_size, value.values()))
    return sum(map(_size, value)) if isinstance(value, list) and value else 1

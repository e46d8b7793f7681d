"""Naming: places in documents as text that reads back: `crew[id=7].name`, `tide[@id='2'].@height`, `[0]`.

A record is named by a field and its value. A text that would read as something else stands in single quotes.
"""

from __future__ import annotations

import re
from contextlib import suppress
from decimal import Decimal, InvalidOperation
from typing import Any, NamedTuple

from ..errors import UsageError
from ..formats import format_path, parse_path

__all__ = ["At", "Named", "read_at", "write_at"]

_PART = re.compile(
    r"\[(?P<index>\d{1,9})\]"
    r"|\[(?P<field>\"(?:[^\"\\]|\\.)*\"|[^\[\]=\"']+)=(?P<value>'(?:[^']|'')*'|[^\[\]']*)\]"
    r"|\.?(?P<key>\"(?:[^\"\\]|\\.)*\"|[^.\[\]\"]+)"
)
_ODD = re.compile(r"[\[\]']|^\s|\s$|^$")


class Named(NamedTuple):
    """A record of a list: the field that names it, and its value there."""

    field: str
    value: Any


At = tuple["str | int | Named", ...]  # keys, numbers in lists whose members never move, records


def write_at(at: At) -> str:
    """Return a place as text that `read_at` reads.

    >>> write_at(("crew", Named("id", 7), "name")), write_at((Named("@id", "7"), 0))
    ('crew[id=7].name', "[@id='7'][0]")
    """
    text = ""
    for part in at:
        if isinstance(part, Named):
            text += f"[{_field(part.field)}={_value(part.value)}]"
        elif isinstance(part, int):
            text += f"[{part}]"
        else:
            text += f"{'.' if text else ''}{format_path((part,))}"
    return text


def read_at(text: str) -> At:
    """Read a place.

    >>> read_at("crew[id=7].name") == ("crew", Named("id", 7), "name")
    True

    Raises:
        UsageError: the text is no place.
    """
    parts: list[str | int | Named] = []
    at = 0
    while at < len(text):
        match = _PART.match(text, at)
        if match is None:
            raise UsageError(
                f"{text!r} is no place in a file: it breaks at column {at + 1}",
                remedy="Write it like crew[id=7].name.",
            )
        if match["index"] is not None:
            parts.append(int(match["index"]))
        elif match["field"] is not None:
            parts.append(Named(_key(match["field"]), _read(match["value"])))
        else:
            parts.append(_key(match["key"]))
        at = match.end()
    return tuple(parts)


def _key(text: str) -> str:
    (key,) = parse_path(text)
    return str(key)


def _field(field: str) -> str:
    text = format_path((field,))
    if text.startswith('"') or not {"=", "'"} & {*field}:
        return text
    return '"' + field.replace("\\", "\\\\") + '"'


def _value(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    text = str(value)
    if isinstance(value, str) and (_ODD.search(text) or not isinstance(_read(text), str)):
        return "'" + text.replace("'", "''") + "'"
    return text


def _read(text: str) -> Any:
    if text.startswith("'"):
        return text[1:-1].replace("''", "'")
    if text in ("true", "false"):
        return text == "true"
    with suppress(ValueError):
        return int(text) if text == str(int(text)) else text
    with suppress(InvalidOperation):
        number = Decimal(text)
        return number if number.is_finite() else text
    return text

"""Cells: values of a table as texts that a spreadsheet may show and save, and back, exactly.

What nobody touched keeps its value, also where a spreadsheet wrote its text otherwise: 007 as 7, 1.10 as 1.1,
a number of twenty digits rounded to fifteen. Only a text that means something else is an edit.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from datetime import date, datetime, time
from decimal import Decimal, InvalidOperation
from math import isfinite
from typing import Any

import msgspec
from msgspec import Struct

from ..errors import FormatError
from ..merge import ABSENT, same

__all__ = ["Kinds", "cell_of", "fields_of", "misread", "value_of"]

_MOST_DIGITS = 15  # that a spreadsheet keeps of a number
_DATE = re.compile(
    r"\d{1,4}[-/.]\d{1,2}(?:[-/.]\d{1,4})?|(?:jan|feb|mar|apr|may|jun|jul|aug|sept?|oct|nov|dec)[-/ ]?\d{1,4}"
    r"|\d{1,2}:\d\d(?::\d\d)?",
    re.I,
)
_NUMBER = re.compile(r"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?")
_JSON = msgspec.json.Encoder(decimal_format="number")
_WORDS = {"true": True, "false": False}


class Kinds(Struct):
    """What kinds of values a column has, and whether every row has one."""

    types: set[type] = set()
    is_full: bool = True

    @staticmethod
    def of(values: Iterable[Any]) -> Kinds:
        """Look at the values of a column; `ABSENT` where a row has none."""
        types = {type(value) for value in values}
        return Kinds(types - {type(ABSENT)}, type(ABSENT) not in types)

    @property
    def takes_text(self) -> bool:
        """Whether texts stand in it, or nothing is known of it."""
        return str in self.types or not self.types - {type(None)}


def fields_of(record: Any, before: tuple[str, ...] = ()) -> dict[tuple[str, ...], Any]:
    """Return the fields of a record, those of mappings in it one by one; lists stay whole."""
    found: dict[tuple[str, ...], Any] = {}
    for key, value in record.items():
        if isinstance(value, Mapping) and value:
            found.update(fields_of(value, (*before, key)))
        else:
            found[(*before, key)] = value
    return found


def cell_of(value: Any) -> str:
    """Return the text of a value: lists and empty mappings as JSON, bytes in hexadecimal, nothing as ""."""
    if isinstance(value, str):
        return value
    if value is None or value is ABSENT:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (list, dict)):
        return _JSON.encode(value).decode()
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, (datetime, date, time)):
        return value.isoformat()
    return str(value)


def value_of(text: str, old: Any, kinds: Kinds) -> tuple[Any, bool]:
    """Return the value that a cell says, and whether only a spreadsheet wrote it otherwise.

    `old` is the value that is there, `ABSENT` for a row that is new.

    Raises:
        FormatError: no value of the column is written so.
    """
    if old is not ABSENT:
        if text == cell_of(old):
            return old, False
        if _same_otherwise(text, old):
            return old, True
    if isinstance(old, str) or (text == "" and kinds.takes_text and kinds.is_full):
        return text, False
    if text == "":
        return _empty(kinds), False
    if old is None or old is ABSENT:
        return _read(text, kinds), False
    return _read(text, Kinds({type(old)})), False


def _same_otherwise(text: str, old: Any) -> bool:
    """Tell whether a text is a value as a spreadsheet writes it."""
    was = cell_of(old)
    if isinstance(old, bool):
        return text.strip().lower() == was
    if text.replace("\r\n", "\n") == was.replace("\r\n", "\n"):
        return True
    if isinstance(old, (list, dict)):
        return _same_json(text, old)
    if not (_NUMBER.fullmatch(text.strip()) and _NUMBER.fullmatch(was.strip())):
        return False
    now, before = Decimal(text.strip()), Decimal(was.strip())
    if now == before:
        return True
    digits = len(before.as_tuple().digits)
    if digits <= _MOST_DIGITS and "e" not in text.lower():
        return False  # it would have been kept
    kept = len(now.as_tuple().digits) if "e" in text.lower() else _MOST_DIGITS
    return bool(now == Decimal(f"{before:.{max(kept - 1, 0)}e}"))


def _same_json(text: str, old: Any) -> bool:
    try:
        return same(json.loads(text, parse_float=Decimal), old)
    except ValueError:
        return False


def _empty(kinds: Kinds) -> Any:
    """Return what an empty cell means in a column that is not all texts."""
    if type(None) in kinds.types:
        return None
    if not kinds.is_full:
        return ABSENT
    raise FormatError("it is empty", remedy="Give it a value.")


def _read(text: str, kinds: Kinds) -> Any:
    """Return the value of a text, of a kind that the column has."""
    plain = text.strip()
    if bool in kinds.types and plain.lower() in _WORDS:
        return _WORDS[plain.lower()]
    if kinds.types & {int, Decimal, float} and (value := _number(plain, kinds)) is not None:
        return value
    for kind in (datetime, date, time):
        if kind in kinds.types:
            try:
                return kind.fromisoformat(plain)
            except ValueError:
                continue
    if bytes in kinds.types:
        try:
            return bytes.fromhex(plain)
        except ValueError:
            pass
    if kinds.types & {list, dict}:
        try:
            return json.loads(plain, parse_float=Decimal)
        except ValueError:
            pass
    if kinds.takes_text:
        return text
    raise FormatError(f"{text[:40]!r} is no {_named(kinds)}", remedy=_remedy(plain, kinds))


def _number(text: str, kinds: Kinds) -> Any:
    if not _NUMBER.fullmatch(text):
        return None
    try:
        value = Decimal(text)
    except InvalidOperation:
        return None
    if not isfinite(value):
        return None
    if Decimal in kinds.types and int not in kinds.types:
        return value if "." in text or "e" in text.lower() else Decimal(f"{text}.0")
    return int(text) if re.fullmatch(r"[+-]?\d+", text) else value


def _named(kinds: Kinds) -> str:
    names = {
        bool: "truth value", int: "number", Decimal: "number", float: "number", bytes: "row of bytes",
        list: "list in JSON", dict: "mapping in JSON", datetime: "date and time", date: "date",
        time: "time",
    }  # fmt: skip
    return " or ".join(sorted({names[kind] for kind in kinds.types if kind in names})) or "value"


def _remedy(text: str, kinds: Kinds) -> str:
    if kinds.types & {int, Decimal, float} and re.fullmatch(r"[+-]?\d+,\d+", text):
        return "Write a point for the decimal comma."
    return "Write it as the others in its column."


def misread(value: str | int) -> str:
    """Return how a spreadsheet changes a text or number if it is opened plainly; "" if it does not.

    >>> misread("007"), misread("1-2"), misread("Ada"), misread(7)
    ('zeros in front or behind go', 'taken for a date', '', '')
    """
    text = str(value)
    plain = text.strip()
    if _NUMBER.fullmatch(plain):
        number = Decimal(plain)
        if len(number.as_tuple().digits) > _MOST_DIGITS:
            return f"kept to {_MOST_DIGITS} digits"
        shortest = f"{number:f}".rstrip("0").rstrip(".") if "." in f"{number:f}" else f"{number:f}"
        return "" if isinstance(value, int) or shortest == plain else "zeros in front or behind go"
    if text[:1] in ("=", "@", "+", "-"):
        return "taken for a formula"
    return "taken for a date" if _DATE.fullmatch(plain) else ""

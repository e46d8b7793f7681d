"""Id lists in files: reading one out of a file as the card says, and writing another in its place."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Any

from ...errors import FormatError, IdListError, KindredError
from ...formats import decode, parse_path
from ...wording import count
from ..world_models import IdSourceTable
from .id_list import IdList

__all__ = ["compile_line", "read_id_list", "with_id_list"]

_HOLE = re.compile(r"(\{number\}|\{name\})")
_NUMBER = r"(?P<number>\d{1,10})(?!\d)"
_NAME = r"(?P<name>[^\s\"'<>|]+)"
_PLAIN_NUMBER = re.compile(r"\s*\d{1,19}\s*")
_SHOWN = 5


@lru_cache(maxsize=64)
def compile_line(pattern: str) -> re.Pattern[bytes]:
    """Return what finds ids in lines: fixed text around {number}, {name} or both, each once.

    A space stands for any run of spaces and tabs. What it takes is linear in the text, whatever the pattern.

    >>> compile_line("id {number} is {name}").search(b"  id 17 is bog:bell")["name"]
    b'bog:bell'

    Raises:
        FormatError: there is neither, or one of them twice.
    """
    parts = _HOLE.split(pattern)
    holes = parts[1::2]
    if not holes or len(set(holes)) < len(holes):
        raise FormatError(
            f"the pattern {pattern!r} needs {{number}} or {{name}}, each once",
            remedy="Write it like: id {number} is {name}",
        )
    out = ""
    for part in parts:
        if part == "{number}":
            out += (r"(?<!\d)" if not out else "") + _NUMBER
        elif part == "{name}":
            out += _NAME
        else:
            out += r"[ \t]+".join(map(re.escape, re.split(r"[ \t]+", part)))
    return re.compile(out.encode())


def read_id_list(data: bytes, table: IdSourceTable, *, origin: str) -> IdList:
    """Read the id list that a file holds.

    Raises:
        IdListError: there is none, it contradicts itself, or a row of it is no name with a number.
        FormatError: the file cannot be read.
    """
    try:
        pairs = list(_pairs(data, table))
    except IdListError as error:
        raise error.inside(origin) from None
    except KindredError as error:
        raise FormatError(error.what, where=error.where, remedy=error.remedy).inside(
            origin
        ) from error
    return IdList.of(pairs, origin=origin)


def _pairs(data: bytes, table: IdSourceTable) -> Iterator[tuple[str, int]]:
    if table.pattern:
        # In a log the last start of the program counts, and a list is logged anew at each.
        found: dict[str, int] = {}
        for match in compile_line(table.pattern).finditer(data):
            found[match["name"].decode("utf-8", "replace")] = int(match["number"])
        yield from found.items()
        return
    document = decode(data, table.codec)
    if table.names:
        values = document.get(parse_path(table.names))
        yield from _of_values(values, table.names)
        return
    for path in document.find((*parse_path(table.records), "*")):
        record = document.get(path)
        if not isinstance(record, dict) or table.name not in record or table.number not in record:
            raise IdListError(
                f"a record of {table.records} has no {table.name} or no {table.number}",
                where=f"{table.records}[{path[-1]}]",
                remedy="Check the keys `number` and `name` of the card.",
            )
        yield str(record[table.name]), _number(record[table.number], str(record[table.name]))


def _of_values(values: Any, at: str) -> Iterator[tuple[str, int]]:
    if isinstance(values, list):
        for number, name in enumerate(values):
            if name:  # an empty name is a number that nothing has
                yield str(name), number
        return
    if not isinstance(values, dict):
        raise IdListError("this is neither a table nor a list", where=at)
    turned = all(_PLAIN_NUMBER.fullmatch(str(key)) for key in values)
    for key, value in values.items():
        if turned:
            yield str(value), int(key)
        else:
            yield str(key), _number(value, str(key))


def _number(value: Any, name: str) -> int:
    text = str(value)
    if isinstance(value, bool) or not re.fullmatch(r"-?\d{1,19}", text):
        raise IdListError(
            f"the number of {name} is {text[:40]!r}", remedy="Expected a whole number."
        )
    return int(text)


def with_id_list(data: bytes, table: IdSourceTable, new: IdList, renamed: dict[str, str]) -> bytes:
    """Return a file with another id list in it; all else in it stays as it is.

    Records keep their other fields: under the old name, or the one it is `renamed` to.

    Raises:
        IdListError: the list cannot be written there, or does not read back.
    """
    if table.pattern:
        raise IdListError(
            "a list that is read by a pattern cannot be written",
            where=table.file,
            remedy="Describe the world's own list by `names` or `records`.",
        )
    document = decode(data, table.codec)
    if table.names:
        _write_names(document, parse_path(table.names), new, renamed)
    else:
        _write_records(document, table, new, renamed)
    out = document.encode()
    again = read_id_list(out, table, origin=table.file)
    if not again.same_as(new):
        missing = [name for name in new.numbers if again.numbers.get(name) != new.numbers[name]]
        raise IdListError(
            f"the list does not read back as it was written: {count(len(missing), 'name')}",
            where=table.file,
            remedy=", ".join(missing[:_SHOWN]),
        )
    return out


def _write_names(document: Any, at: tuple[Any, ...], new: IdList, renamed: dict[str, str]) -> None:
    values = document.get(at)
    if isinstance(values, list):
        document.set(at, [new.names.get(number, "") for number in range(new.highest + 1)])
        return
    turned = all(_PLAIN_NUMBER.fullmatch(str(key)) for key in values)
    wanted = {str(n): name for name, n in new.numbers.items()} if turned else dict(new.numbers)
    as_text = any(isinstance(value, str) for value in values.values()) and not turned
    for key in values:
        if key not in wanted:
            document.remove((*at, key))
    for key, value in wanted.items():
        put = str(value) if as_text else value
        if values.get(key) != put:
            document.set((*at, key), put)


def _write_records(
    document: Any, table: IdSourceTable, new: IdList, renamed: dict[str, str]
) -> None:
    at = parse_path(table.records)
    rows = document.find((*at, "*"))
    left = dict(new.numbers)
    gone = []
    for path in rows:
        name = str(document.get((*path, table.name)))
        now = renamed.get(name, name)
        if now not in left:
            gone.append(path)
            continue
        old, number = document.get((*path, table.number)), left.pop(now)
        if now != name:
            document.set((*path, table.name), now)
        if str(old) != str(number):
            document.set((*path, table.number), str(number) if isinstance(old, str) else number)
    for path in reversed(gone):
        document.remove(path)
    count_left = len(rows) - len(gone)
    for number_of, (name, number) in enumerate(left.items()):
        document.set((*at, count_left + number_of), {table.number: number, table.name: name})

"""Looking up one value in a file, to tell what version something is."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ..errors import FormatError, KindredError
from .codecs import decode
from .document import ANY, Path, parse_path

__all__ = ["look_up", "values_at"]


def values_at(values: Any, path: Path) -> Iterator[Any]:
    """Yield what stands at a path of plain values; `ANY` in it means every key or index.

    >>> list(values_at({"crew": [{"name": "Ada"}, {"name": "Bo"}]}, ("crew", ANY, "name")))
    ['Ada', 'Bo']
    """
    if not path:
        yield values
        return
    first, rest = path[0], path[1:]
    if first == ANY:
        inner = values.values() if isinstance(values, dict) else values
        for each in inner if isinstance(values, (dict, list)) else ():
            yield from values_at(each, rest)
    elif isinstance(values, dict):
        if first in values:
            yield from values_at(values[first], rest)
    elif isinstance(values, list) and isinstance(first, int) and first < len(values):
        yield from values_at(values[first], rest)


def look_up(data: bytes, codec: str, key: str) -> str:
    """Return the text of the value under `key` in a file.

    >>> look_up(b'<top><game build="2.0"/></top>', "xml", "game.@build")
    '2.0'

    Raises:
        FormatError: the file cannot be read, or has no such value.
    """
    try:
        value = decode(data, codec).get(parse_path(key))
    except KindredError as error:
        raise FormatError(error.what, where=error.where) from error
    if isinstance(value, (dict, list)) or value is None:
        raise FormatError("this is no single value", where=key)
    return str(value).strip()

"""Looking up one value in a file, to tell what version something is."""

from __future__ import annotations

from ..errors import FormatError, KindredError
from .codecs import decode
from .document import parse_path

__all__ = ["look_up"]


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

"""Names that the system gives and that are no valid text: file names are bytes on many systems.

Python has such bytes as lone surrogates (PEP 383), which no JSON, database or hash takes. In trees, entries
and journals each of them is NUL and four hex digits instead: no name holds a NUL otherwise. Names are
turned into this text where they come from the system, and back where the system is asked for them.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import msgspec

__all__ = ["as_name", "as_text", "is_canonical", "json_bytes"]

_LONE = re.compile("[\ud800-\udfff]")
_WRITTEN = re.compile("\0(d[89a-f][0-9a-f]{2})")


def as_text(name: str) -> str:
    """Return a name of the system's as valid text.

    >>> as_text("caf\\udce9.sav")
    'caf\\x00dce9.sav'
    """
    if name.isascii() or not _LONE.search(name):
        return name
    return _LONE.sub(lambda found: f"\0{ord(found[0]):04x}", name)


def as_name(text: str) -> str:
    """Return the name of which `as_text` made a text."""
    return _WRITTEN.sub(lambda found: chr(int(found[1], 16)), text) if "\0" in text else text


def is_canonical(text: str) -> bool:
    """Tell whether a text is what `as_text` makes of a name: no other text means the same name.

    Bytes that are valid text together are never written one by one.
    """
    name = as_name(text)
    if "\0" in name or as_text(name) != text:
        return False
    try:
        return name.encode("utf-8", "surrogateescape").decode("utf-8", "surrogateescape") == name
    except UnicodeEncodeError:  # a name of Windows, which are of 16 bits
        return name.encode("utf-16", "surrogatepass").decode("utf-16", "surrogatepass") == name


def json_bytes(value: Any) -> bytes:
    """Return a value as JSON, with names as valid text."""
    try:
        return msgspec.json.encode(value)
    except UnicodeEncodeError:
        return msgspec.json.encode(_valid(msgspec.to_builtins(value)))


def _valid(value: Any) -> Any:
    if isinstance(value, str):
        return as_text(value)
    if isinstance(value, Mapping):
        return {_valid(key): _valid(inner) for key, inner in value.items()}
    if isinstance(value, (list, tuple)):
        return [_valid(inner) for inner in value]
    return value

"""Looking up one value in a text file, to tell what version something is."""

from __future__ import annotations

import tomllib
from typing import Any

from ..errors import FormatError, KindredError
from .codecs import CODECS, decode
from .document import Path, format_path, parse_path
from .text import Text

__all__ = ["READABLE", "look_up"]

READABLE = (*CODECS, "toml", "xml")


def look_up(data: bytes, codec: str, key: str) -> str:
    """Return the text of the value under `key` in a JSON, INI, TOML or XML file.

    In XML a path names elements below the root and ends in an element or `@attribute`.

    Raises:
        FormatError: the file cannot be read, or has no such value.
    """
    if codec == "xml":
        return _in_xml(data, key)
    path = parse_path(key)
    try:
        value = _in_toml(data, path) if codec == "toml" else decode(data, codec).get(path)
    except KindredError as error:
        raise FormatError(error.what, where=error.where) from error
    if isinstance(value, (dict, list)) or value is None:
        raise FormatError("this is no single value", where=key)
    return str(value)


def _in_toml(data: bytes, path: Path) -> Any:
    try:
        value: Any = tomllib.loads(Text.decode(data).text)
    except tomllib.TOMLDecodeError as error:
        raise FormatError(f"this is no valid TOML: {error}") from error
    for depth, part in enumerate(path):
        try:
            value = value[part]
        except (KeyError, IndexError, TypeError) as error:
            raise FormatError(
                "there is no such value", where=format_path(path[: depth + 1])
            ) from error
    return value


def _in_xml(data: bytes, key: str) -> str:
    from xml.etree import ElementTree

    if b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        raise FormatError("the file declares entities, which are not resolved")
    try:
        element: Any = ElementTree.fromstring(data)
    except ElementTree.ParseError as error:
        raise FormatError(f"this is no valid XML: {error}") from error
    value = None
    for part in key.split("."):
        if part.startswith("@"):
            value = element.get(part[1:])
            break
        element = element.find(part)
        if element is None:
            break
        value = element.text
    if value is None:
        raise FormatError("there is no such value", where=key)
    return str(value).strip()

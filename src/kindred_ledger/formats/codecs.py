"""Codecs by name: what turns bytes into a document."""

from __future__ import annotations

from collections.abc import Callable

from ..errors import UsageError
from .document import Document
from .ini_text import IniDocument
from .json_text import JsonDocument
from .xml_text import XmlDocument

__all__ = ["CODECS", "decode"]

CODECS: dict[str, Callable[[bytes], Document]] = {
    "json": JsonDocument,
    "ini": IniDocument,
    "xml": XmlDocument,
}


def decode(data: bytes, codec: str) -> Document:
    """Read bytes as a document.

    >>> document = decode(b'{"coins": 1.10} // mine', "json")
    >>> document.set(("pets",), 2); document.encode()
    b'{"coins": 1.10, "pets": 2} // mine'

    Raises:
        FormatError: the bytes are not of that format.
    """
    if codec not in CODECS:
        raise UsageError(f"there is no codec {codec!r}", remedy=f"Use one of: {', '.join(CODECS)}.")
    return CODECS[codec](data)

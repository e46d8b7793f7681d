"""The text between the tags of an XML file: its pieces beside comments, and what it stands for."""

from __future__ import annotations

import re
from collections.abc import Iterator

__all__ = ["ATTRIBUTE", "BLANK", "NAME", "TEXT", "has_asides", "resolved", "stripped", "texts_in"]

TEXT = "text()"  # the key of the text beside attributes and elements
NAME = re.compile(rb"[^\s/>]+")
ATTRIBUTE = re.compile(rb"(\s+)([^\s=/>]+)\s*=\s*(?:\"([^\"]*)\"|'([^']*)')")

BLANK = b" \t\r\n"
_ASIDE = re.compile(rb"<!\[CDATA\[.*?\]\]>|(<!--.*?-->|<\?.*?\?>)", re.S)
_REFERENCE = re.compile(r"&(?:#([0-9]+)|#x([0-9a-fA-F]+)|(lt|gt|amp|quot|apos));|\r\n?")
_PIECE = re.compile(r"<!\[CDATA\[(.*?)\]\]>|([^<]+)|<", re.S)
_ENTITIES = {"lt": "<", "gt": ">", "amp": "&", "quot": '"', "apos": "'"}


def has_asides(data: bytes, start: int, end: int) -> bool:
    """Tell whether there are comments or instructions in a span; CDATA that holds some has none."""
    return any(match[1] for match in _ASIDE.finditer(data, start, end))


def texts_in(data: bytes, start: int, end: int) -> Iterator[tuple[int, int]]:
    """Yield where the texts of a span are, cut at comments, without the space at their ends."""
    if start == end or not data[start:end].strip(BLANK):
        return
    at = start
    for begin, stop in (*(m.span() for m in _ASIDE.finditer(data, start, end) if m[1]), (end, end)):
        text = stripped(data, at, begin)
        if text[0] < text[1]:
            yield text
        at = stop


def stripped(data: bytes, start: int, end: int) -> tuple[int, int]:
    """Return a span without the space at its ends."""
    text = data[start:end]
    begin = start + len(text) - len(text.lstrip(BLANK))
    return begin, max(begin, start + len(text.rstrip(BLANK)))


def resolved(text: str) -> str:
    """Return what the text of an element or attribute stands for: references and CDATA resolved."""
    if "<" not in text:
        return _REFERENCE.sub(_meant, text) if "&" in text or "\r" in text else text
    out = ""
    for match in _PIECE.finditer(text):
        out += match[1] if match[1] is not None else _REFERENCE.sub(_meant, match[2] or "")
    return out


def _meant(match: re.Match[str]) -> str:
    if match[3]:
        return _ENTITIES[match[3]]
    if not (match[1] or match[2]):
        return "\n"
    return chr(int(match[1]) if match[1] else int(match[2], 16))

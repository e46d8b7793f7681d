"""Text from outside, made fit to be shown: file names, notes, versions, what servers and cards say.

A terminal takes some characters as orders: to move, to hide, to rename its window, to write from right
to left. All that is shown passes here, and those are written as what they stand for, such as \\x1b.
"""

from __future__ import annotations

import re

__all__ = ["escaped", "one_line", "visible"]

# The control characters (but line feed and tab), and what changes the direction or ends a line in Unicode.
_ORDERS = re.compile(
    "\0(?:dc[89a-f][0-9a-f])?|"  # with digits it is a byte of a name that is no valid text; see `os_names`
    "[\x01-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]"
)
_ALL_ORDERS = re.compile(f"{_ORDERS.pattern[:-1]}\t\n]")


def visible(text: str) -> str:
    """Return a text without characters that a terminal takes as orders.

    >>> visible("eel\\x1b[2J.voyage")
    'eel\\\\x1b[2J.voyage'
    """
    return _ORDERS.sub(_written, text) if _ORDERS.search(text) else text


def one_line(text: str) -> str:
    """Return a text that also stays on one line, such as a name within a sentence."""
    return _ALL_ORDERS.sub(_written, text) if _ALL_ORDERS.search(text) else text


def escaped(json: str) -> str:
    """Return JSON in which such characters are escaped: a program reads the same, a terminal is safe."""
    return _ORDERS.sub(lambda found: f"\\u{ord(found[0]):04x}", json)


def _written(found: re.Match[str]) -> str:
    if len(found[0]) > 1:
        return f"\\x{found[0][-2:]}"
    if "\udc80" <= found[0] <= "\udcff":
        return f"\\x{ord(found[0]) - 0xDC00:02x}"
    return ascii(found[0])[1:-1]

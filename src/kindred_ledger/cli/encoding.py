"""Output in any encoding: what a terminal or a pipe cannot show is written as what it stands for.

A pipe on Windows is often in cp1252 or cp437, and a bare server in ASCII. A sign that is not in there
must not end a command half way, with a status that means something else.
"""

from __future__ import annotations

import codecs

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import TextIO

__all__ = ["prepare"]

_HANDLER = "kindred-plain"
_STANDS_FOR = {
    "…": "...", "→": "->", "←": "<-", "×": "x", "·": "-", "•": "*", "–": "-", "—": "-", "−": "-",
    "≥": ">=", "≤": "<=", "≠": "!=", "✓": "ok", "✔": "ok", "✗": "x", "✘": "x", "▸": ">", "░": ".",
    "█": "#", "‘": "'", "’": "'", "“": '"', "”": '"', "\u00a0": " ", "µ": "u", "°": " deg",
}  # fmt: skip
_BOXES = range(0x2500, 0x2580)  # lines and corners of tables


def prepare(stream: TextIO, *, encoding: str | None = None) -> None:
    """Let a stream write any text; `encoding` None keeps its own."""
    codecs.register_error(_HANDLER, _plain)
    change = getattr(stream, "reconfigure", None)
    if change is not None:
        change(encoding=encoding or stream.encoding, errors=_HANDLER)


def _plain(error: UnicodeError) -> tuple[str, int]:
    """Return what is written in the place of characters that an encoding has not."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    return "".join(map(_shown, error.object[error.start : error.end])), error.end


def _shown(sign: str) -> str:
    if sign in _STANDS_FOR:
        return _STANDS_FOR[sign]
    if ord(sign) in _BOXES:
        return "-" if sign in "─━═" else "|" if sign in "│┃║" else "+"
    return ascii(sign)[1:-1]  # as \u00e9, which is JSON, too

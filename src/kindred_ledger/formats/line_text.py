"""Plain text as a list of its lines; each keeps its own line end.

What it does not keep: nothing. Form feeds and other odd separators are part of a line.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct

from ..errors import FormatError, UsageError
from .document import ANY, Leaf, Path, document_paths, format_path, not_reordered, occupied
from .reading_back import unreadable
from .text import Text

__all__ = ["LineDocument"]

_LINE = re.compile(r"([^\n\r]*)(\r\n|\n|\r|\Z)")


class _Line(Struct, eq=False):
    text: str
    end: str
    origin: Path | None = None
    note: str = ""

    def open(self) -> None:
        """Take the line end away; a line that is empty would be none without it."""
        if self.text:
            self.end = ""


@document_paths
class LineDocument:
    """A text file as a document; paths are (line,), from 0."""

    def __init__(self, data: bytes) -> None:
        self._encoding = Text.decode(data)
        if "\0" in self._encoding.text:
            raise FormatError("this is no text file", where=f"byte {data.index(0)}")
        self._lines = [
            _Line(match[1], match[2], (at,))
            for at, match in enumerate(_LINE.finditer(self._encoding.text))
            if match[0]
        ]

    def leaves(self, at: Path = ()) -> Iterator[Leaf]:
        for path in self.find(at or (ANY,)):
            line = self._line(path)
            yield Leaf(path, line.text, line.text, line.origin, line.note)

    def find(self, pattern: Path) -> list[Path]:
        if len(pattern) != 1:
            return [()] if not pattern else []
        if pattern[0] == ANY:
            return [(at,) for at in range(len(self._lines))]
        at = pattern[0]
        return [(at,)] if isinstance(at, int) and 0 <= at < len(self._lines) else []

    def get(self, path: Path) -> Any:
        return self._line(path).text if path else [line.text for line in self._lines]

    def set(self, path: Path, value: Any, *, note: str = "") -> None:
        if isinstance(value, bool) or not isinstance(value, (str, int, float, Decimal)):
            raise FormatError(f"{value!r} is no line of text", where=format_path(path))
        text = str(value)
        if any(sign in text for sign in "\r\n\0"):
            raise FormatError(f"{value!r} is no single line", where=format_path(path))
        if self.find(path):
            self._line(path).text = text
        else:
            self._append(path, _Line(text, "", note=note))

    def remove(self, path: Path) -> None:
        line = self._line(path)
        self._lines.remove(line)
        if not line.end and self._lines:  # the last line had no end, so now the one before has none
            self._lines[-1].open()

    def move(self, path: Path, to: Path) -> None:
        if self.find(to):
            raise occupied(to)
        line = self._line(path)
        self._check_room(to)
        self._lines.remove(line)
        self._append((len(self._lines),), line)

    def reorder(self, path: Path, order: Sequence[int]) -> None:
        if path:
            raise not_reordered(path)
        last = self._lines[-1].end if self._lines else ""
        self._lines = [self._lines[at] for at in order]
        for line in self._lines:
            line.end = line.end or self._encoding.newline
        if self._lines and not last:
            self._lines[-1].open()

    def encode(self) -> bytes:
        text = "".join(line.text + line.end for line in self._lines)
        if [match[1] for match in _LINE.finditer(text) if match[0]] != self.get(()):
            raise unreadable("there would be other lines", "the file")
        return self._encoding.encode(text)

    def _line(self, path: Path) -> _Line:
        if len(path) != 1 or not self.find(path):
            raise UsageError("there is no such line", where=format_path(path) or "the document")
        return self._lines[path[0]]  # type: ignore[index]

    def _check_room(self, path: Path) -> None:
        if path != (len(self._lines),):
            raise FormatError("nothing can be put there", where=format_path(path))

    def _append(self, path: Path, line: _Line) -> None:
        self._check_room(path)
        line.end = self._encoding.newline
        if self._lines and not self._lines[-1].end:
            self._lines[-1].end = line.end
            line.open()
        self._lines.append(line)

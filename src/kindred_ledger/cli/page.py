"""Page: where results are drawn. Plain text goes straight out where no terminal asks for more."""

from __future__ import annotations

import os
from functools import cached_property
from typing import TYPE_CHECKING, TextIO

from .visible import one_line, visible

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

__all__ = ["Page"]

_LEAST = 10  # columns that a text is folded to
_PLAIN_WIDTH = 120  # of tables that do not go to a terminal


class Page:
    """A stream to draw on; what draws styles and tables is imported when there is one to draw."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream
        self._styled = stream.isatty() or "FORCE_COLOR" in os.environ

    @cached_property
    def console(self) -> Console:
        """What draws styles, tables and bars."""
        from .console import VisibleConsole

        width = None if self._stream.isatty() else _PLAIN_WIDTH
        return VisibleConsole(
            file=self._stream, width=width, highlight=False, markup=False, emoji=False
        )

    @property
    def width(self) -> int:
        """The columns of the terminal; 0 where nothing limits a line."""
        return self.console.width if self._stream.isatty() else 0

    def print(
        self, what: object = "", *, style: str = "", end: str = "\n", soft_wrap: bool = False
    ) -> None:
        """Draw a text, or anything else that can be drawn."""
        if isinstance(what, str) and not (self._styled and (style or not soft_wrap)):
            self._stream.write(visible(what) + end)
        else:
            self.console.print(what, style=style or None, end=end, soft_wrap=soft_wrap)

    def assemble(self, *parts: tuple[str, str]) -> None:
        """Draw parts, each a text and its style, as one line; a terminal cuts it to its width."""
        shown = [(one_line(text), style) for text, style in parts]
        if not self._styled:
            self._stream.write("".join(text for text, _ in shown) + "\n")
            return
        from rich.text import Text

        self.console.print(Text.assemble(*shown), overflow="ellipsis", no_wrap=True)

    def hang(self, start: str, text: str, *, style: str, aside: str | None = None) -> None:
        """Draw a text behind a start; what a terminal wraps stands below the text.

        With `aside` only the start has the style; the aside is drawn dim, behind the text or below it.
        """
        if not self._styled:
            self._stream.write(f"{start}{visible('  '.join(filter(None, (text, aside or ''))))}\n")
            return
        from rich.text import Text

        if not start:
            self.console.print(Text(text, overflow="fold"), style=style)
            return
        told = Text(visible(text), style=style)
        if aside is not None:
            fits = len(start) + len(text) + 2 + len(aside) <= self.console.width
            between = "" if not (text and aside) else "  " if fits else "\n"
            told = Text.assemble(visible(text), (between + visible(aside), "dim"))
        for at, line in enumerate(self._folded(told, self.console.width - len(start))):
            before = start if at == 0 else " " * len(start)
            self.console.print(Text.assemble((before, style), line), soft_wrap=True)

    def folded(self, text: str, columns: int) -> list[str]:
        """Return a text in lines of so many columns of a terminal."""
        from rich.text import Text

        return [line.plain for line in self._folded(Text(text), columns)]

    def _folded(self, text: Text, columns: int) -> list[Text]:
        lines = list(text.wrap(self.console, max(_LEAST, columns), overflow="fold"))
        for line in lines:
            line.rstrip()
        return lines

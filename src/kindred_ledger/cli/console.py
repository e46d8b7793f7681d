"""The console of a terminal: what draws styles, tables and bars, none of whose text gives orders."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment

from .visible import visible

__all__ = ["VisibleConsole"]


class VisibleConsole(Console):
    """A console that passes each piece of text, of whatever is drawn, through `visible`."""

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterable[Segment]:
        """Yield the segments of what is to be drawn."""
        for segment in super().render(renderable, options):
            text = segment.text if segment.control else visible(segment.text)
            yield segment if text is segment.text else Segment(text, segment.style)

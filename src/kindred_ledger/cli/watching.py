"""Progress on a terminal: a bar with rate and time left, for anything over a second."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from rich.progress import (
    BarColumn,
    DownloadColumn,
    MofNCompleteColumn,
    TextColumn,
    TimeRemainingColumn,
    TransferSpeedColumn,
)
from rich.progress import Progress as Bars

from ..progress import Progress, Task

if TYPE_CHECKING:
    from rich.console import Console

__all__ = ["DrawnProgress"]

_QUIET_SECONDS = 1.0  # shorter work flickers by without a bar
_BETWEEN_SECONDS = 0.1


class DrawnProgress(Progress):
    """Draws a bar for a task once it has run for a second."""

    def __init__(self, console: Console) -> None:
        super().__init__()
        self._console = console
        self._bars: dict[int, Bars] = {}
        self._since: dict[int, float] = {}
        self._drawn: dict[int, float] = {}

    def begin(self, task: Task) -> None:
        self._since[id(task)] = time.monotonic()

    def moved(self, task: Task) -> None:
        now = time.monotonic()
        key = id(task)
        if now - self._since.get(key, now) < _QUIET_SECONDS:
            return
        if now - self._drawn.get(key, 0) < _BETWEEN_SECONDS:
            return
        self._drawn[key] = now
        if key not in self._bars:
            amounts = (
                (DownloadColumn(), TransferSpeedColumn())
                if task.unit == "bytes"
                else (MofNCompleteColumn(),)
            )
            bars = Bars(
                TextColumn("{task.description}", markup=False),
                BarColumn(),
                *amounts,
                TimeRemainingColumn(),
                console=self._console,
                transient=True,
            )
            bars.add_task(task.label, total=task.total or None)
            bars.start()
            self._bars[key] = bars
        described = f"{task.label} ({task.state})" if task.state else task.label
        first = self._bars[key].tasks[0].id
        self._bars[key].update(first, completed=task.done, description=described)

    def end(self, task: Task) -> None:
        if bars := self._bars.pop(id(task), None):
            bars.stop()
        self._since.pop(id(task), None)

"""Progress on a terminal: how much of how many, rate and time left, for anything over a second.

What always holds: a second after a task began it is drawn, also if nothing of it is done yet, and it moves:
so that long work does not look frozen.
"""

from __future__ import annotations

import threading
import time
from datetime import timedelta
from typing import TYPE_CHECKING

from rich.filesize import decimal
from rich.progress import (
    BarColumn,
    ProgressColumn,
    SpinnerColumn,
    TaskID,
    TextColumn,
)
from rich.progress import Progress as Bars
from rich.progress import Task as Row
from rich.text import Text

from ..progress import Progress, Task

if TYPE_CHECKING:
    from rich.console import Console

__all__ = ["DrawnProgress"]

_QUIET_SECONDS = 1.0  # shorter work flickers by without a bar
_BETWEEN_SECONDS = 0.1


class _Amount(ProgressColumn):
    """How much is done, of how much, and how fast."""

    def render(self, task: Row) -> Text:
        unit = str(task.fields["unit"])
        done, total, speed = task.completed, task.total, task.finished_speed or task.speed
        if unit == "bytes":
            told = decimal(int(done)) + (f" of {decimal(int(total))}" if total else "")
            rate = f", {decimal(int(speed))}/s" if speed else ""
        else:
            told = f"{done:,.0f}" + (f" of {total:,.0f} {unit}" if total else f" {unit}")
            rate = f", {speed:,.0f}/s" if speed and speed >= 1 else ""
        return Text(told + rate)


class _Time(ProgressColumn):
    """How long it has taken since it began, and how long it will take, once that can be told."""

    def render(self, task: Row) -> Text:
        told = f"after {timedelta(seconds=int(time.monotonic() - float(task.fields['since'])))}"
        left = task.time_remaining if task.completed else None
        if left is not None:
            told += f", {timedelta(seconds=int(left))} left"
        return Text(told, style="dim")


class DrawnProgress(Progress):
    """Draws a line for a task once it has run for a second, whether anything of it is done or not."""

    def __init__(self, console: Console) -> None:
        super().__init__()
        self._console = console
        self._bars: Bars | None = None
        self._rows: dict[int, TaskID] = {}
        self._timers: dict[int, threading.Timer] = {}
        self._drawn: dict[int, float] = {}
        self._lock = threading.Lock()  # the timers draw, too

    def begin(self, task: Task) -> None:
        timer = threading.Timer(_QUIET_SECONDS, self._show, (task,))
        timer.daemon = True
        self._timers[id(task)] = timer
        timer.start()

    def _show(self, task: Task) -> None:
        with self._lock:
            if id(task) not in self._timers:
                return  # it ended meanwhile
            if self._bars is None:
                self._bars = Bars(
                    SpinnerColumn(),
                    TextColumn("{task.description}", markup=False),
                    BarColumn(bar_width=24),
                    _Amount(),
                    _Time(),
                    console=self._console,
                    transient=True,
                )
                self._bars.start()
            self._rows[id(task)] = self._bars.add_task(
                _described(task), total=task.total or None, completed=task.done, unit=task.unit,
                since=time.monotonic() - _QUIET_SECONDS,
            )  # fmt: skip

    def moved(self, task: Task) -> None:
        now, key = time.monotonic(), id(task)
        if key not in self._rows or now - self._drawn.get(key, 0) < _BETWEEN_SECONDS:
            return
        self._drawn[key] = now
        with self._lock:
            if self._bars is not None:
                row = self._rows[key]
                self._bars.update(row, completed=task.done, description=_described(task))

    def end(self, task: Task) -> None:
        with self._lock:
            self._timers.pop(id(task)).cancel()
            row = self._rows.pop(id(task), None)
            self._drawn.pop(id(task), None)
            if self._bars is None or row is None:
                return
            self._bars.remove_task(row)
            if not self._rows:
                self._bars.stop()
                self._bars = None


def _described(task: Task) -> str:
    return f"{task.label} ({task.state})" if task.state else task.label

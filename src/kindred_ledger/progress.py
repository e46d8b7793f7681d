"""How long work tells how far it is and learns that it should stop. No screen code.

`Progress` itself is the null object: work that nobody watches passes it on at no cost. Whoever draws
subclasses it. `cancel()` and `pause()` may be called from any thread or signal handler; the work notices at
its next `advance`. It ends with `Cancelled`, leaving nothing half done, or waits until `go_on()`.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from .errors import Cancelled

TYPE_CHECKING = False
if TYPE_CHECKING:
    import threading

__all__ = ["Progress", "Task"]


class Progress:
    """Receives tasks and their advance; draws nothing.

    >>> class Told(kl.Progress):
    ...     def begin(self, task):
    ...         labels.append(task.label)
    ...
    >>> labels = []
    >>> _ = ledger.backup(install, progress=Told())
    >>> labels[0]
    'keeping'
    """

    def __init__(self) -> None:
        self._stop = False
        self._paused: threading.Event | None = None

    def cancel(self) -> None:
        """Ask the work to stop at the next safe point, also if it waits."""
        self._stop = True
        self.go_on()

    def pause(self) -> None:
        """Ask the work to wait at the next safe point, until `go_on` is called."""
        import threading  # whoever pauses has other threads, and so has it loaded

        if self._paused is None:
            self._paused = threading.Event()

    def go_on(self) -> None:
        """Let work that was paused go on."""
        paused, self._paused = self._paused, None
        if paused is not None:
            paused.set()

    def check(self) -> None:
        """Raise `Cancelled` once `cancel` was called; wait while the work is paused."""
        paused = self._paused
        if paused is not None:
            paused.wait()
        if self._stop:
            raise Cancelled(
                "stopped because you asked for it", remedy="Nothing was left half done."
            )

    @contextmanager
    def task(self, label: str, *, total: int = 0, unit: str = "files") -> Iterator[Task]:
        """Open a piece of work of `total` units (0: unknown); `unit` is "files" or "bytes"."""
        task = Task(self, label, total, unit)
        self.begin(task)
        try:
            yield task
        finally:
            self.end(task)

    def begin(self, task: Task) -> None:
        """Called when a task starts."""

    def moved(self, task: Task) -> None:
        """Called when a task advanced."""

    def end(self, task: Task) -> None:
        """Called when a task ended, well or not."""


class Task:
    """One piece of work: how much of it is done.

    >>> with kl.Progress().task("reading", total=3) as task:
    ...     task.advance(3)
    ...
    >>> task.done
    3
    """

    __slots__ = ("done", "label", "progress", "state", "total", "unit")

    def __init__(self, progress: Progress, label: str, total: int, unit: str) -> None:
        self.progress = progress
        self.label = label
        self.total = total
        self.unit = unit
        self.done = 0
        self.state = ""

    def advance(self, amount: int = 1) -> None:
        """Count `amount` more units as done; raise `Cancelled` if asked to stop."""
        self.done += amount
        self.progress.check()
        self.progress.moved(self)

    def tell(self, state: str) -> None:
        """Say what it is at, or waits for, beside how far it is; empty if it simply goes on."""
        self.state = state
        self.progress.check()
        self.progress.moved(self)

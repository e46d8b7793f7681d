"""Watching: what changes in an install is kept once it has settled, and told: an update behind one's back,
from which version to which, what it touched; or, of an install that is guarded, taken back.

The system says when something changes (watchdog, where it is installed); nothing is read before that, and
nothing is kept before it was quiet for a while.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from enum import StrEnum

from msgspec import Struct

from ..cards import PROGRAM, Install
from ..changes import Applied, Changeset, actions_between
from ..errors import DecisionNeeded, PlaceChanged, UsageError
from ..ledger import Entry, Ledger, Tag
from ..places import Difference, Tree, roots_of
from ..progress import Progress

__all__ = ["Event", "Watcher", "What"]


class What(StrEnum):
    """What happened to an install, as far as its version tells."""

    UPDATED = "updated"
    WENT_BACK = "went back"
    CHANGED = "changed"  # of the same version, in the program's folder
    PLAYED = "played"  # only what the card counts as the user's


class Event(Struct, frozen=True):
    """Something that happened and settled: what it touched, and the entry that keeps it as it is now.

    `before` and `after` are versions, empty where nothing tells. Of an install that is guarded there is no
    entry: `change` took it back.

    >>> watcher = kl.Watcher(install, ledger)
    >>> with open("mossferry/userdata/saves/new.voyage", "wb") as file:
    ...     _ = file.write(b"{}")
    ...
    >>> event = watcher.look()
    >>> print(event)
    played: 1 added
    >>> event.entry.files
    207
    """

    what: What
    before: str
    after: str
    touched: tuple[Difference, ...]
    entry: Entry | None
    change: Applied | None = None

    def __str__(self) -> str:
        """Return it as people say it: "updated from 1.4 to 2.0: 66 changed, 8 added, 6 removed"."""
        counts = dict.fromkeys(("changed", "added", "removed"), 0)
        for difference in self.touched:
            counts[difference.status] = counts.get(difference.status, 0) + 1
        told = ", ".join(f"{number} {status}" for status, number in counts.items() if number)
        if self.before != self.after:
            return (
                f"{self.what} from {self.before or 'unknown'} to {self.after or 'unknown'}: {told}"
            )
        return f"{self.what}: {told}"


class Watcher:
    """Watches one install; `guard` takes changes of its program back to what it was at the beginning.

    `quiet_seconds` is how many nothing may have changed before it is looked at.

    >>> watcher = kl.Watcher(install, ledger, quiet_seconds=5)
    >>> watcher.look() is None
    True
    """

    def __init__(
        self,
        install: Install,
        ledger: Ledger,
        *,
        guard: bool = False,
        quiet_seconds: float = 10.0,
        progress: Progress | None = None,
    ) -> None:
        self._install = install
        self._ledger = ledger
        self._guard = guard
        self._quiet_seconds = quiet_seconds
        self._progress = progress
        self._tree = ledger.scan(install.place, progress=progress)
        self._changed_at = 0.0
        self._woken = threading.Event()
        self._ended = False

    def note_change(self) -> None:
        """Note that something changed just now; may be called from any thread."""
        self._changed_at = time.monotonic()
        self._woken.set()

    def end(self) -> None:
        """Have `events` end."""
        self._ended = True
        self._woken.set()

    def events(self) -> Iterator[Event]:
        """Yield what happens, until `end` is called; sleeps where nothing does.

        What changed since the watcher was made comes first.

        Raises:
            UsageError: watchdog is not installed.
        """
        with _notified(self._install, self.note_change):
            self.note_change()
            while not self._ended:
                self._woken.wait()
                self._woken.clear()
                self._wait_until_quiet()
                if not self._ended and (event := self.look()) is not None:
                    yield event

    def _wait_until_quiet(self) -> None:
        while not self._ended:
            quiet = time.monotonic() - self._changed_at
            if quiet >= self._quiet_seconds:
                return
            time.sleep(min(self._quiet_seconds - quiet, 1.0))

    def look(self) -> Event | None:
        """Compare the install with what it last was, keep it if it is another, and say what happened.

        None if it is the same, or still changes (then it is looked at again).
        """
        try:
            now = self._ledger.scan(self._install.place, progress=self._progress)
        except PlaceChanged:
            self.note_change()
            return None
        touched = _touched(self._tree, now, self._install.tag)
        if not touched:
            return None
        program = any(self._is_program(difference.path) for difference in touched)
        install = self._install.again()
        before, after = _version(self._install), _version(install)
        if self._guard and program:
            return self._take_back(now, before, after, touched)
        what = self._what(program, before, after)
        entry = self._ledger.backup(install, note=f"kept while watching: {what}")
        self._tree, self._install = now, install
        return Event(what, before, after, touched, entry)

    def _is_program(self, path: str) -> bool:
        return path.startswith(f"{PROGRAM}/") and not self._install.card.category_of(path)

    def _what(self, program: bool, before: str, after: str) -> What:
        if before != after and before and after:
            build = self._install.card.build
            return What.UPDATED if build(before) < build(after) else What.WENT_BACK
        return What.CHANGED if program else What.PLAYED

    def _take_back(
        self, now: Tree, before: str, after: str, touched: tuple[Difference, ...]
    ) -> Event | None:
        """Bring the program's files back to what they were; what the user did stays.

        None while that cannot be, as something runs from there: then it is looked at again.
        """
        entry = self._guarded()
        wanted = Tree(
            {
                **{p: n for p, n in now.items() if not self._is_program(p)},
                **{p: n for p, n in self._tree.items() if self._is_program(p)},
            }
        )
        source = self._ledger.place(entry)
        actions = actions_between(now, wanted, source, reason="this install is guarded")
        change = Changeset(
            place=self._install.place,
            operation="guard",
            summary=f"take back what happened to {self._install.card.name} {before}",
            before=now,
            actions=tuple(actions),
            tag=self._install.again().tag,
            version_after=before,
        )
        try:
            done = change.apply(self._ledger)
        except (DecisionNeeded, PlaceChanged):  # the launcher is still at it, or the game runs
            self.note_change()
            return None
        self._tree = self._ledger.scan(self._install.place)
        return Event(self._what(True, before, after), before, after, touched, None, done)

    def _guarded(self) -> Entry:
        """Return the entry of the install as it shall stay."""
        fitting = [
            entry
            for entry in self._ledger.entries()
            if entry.complete and dict(entry.roots) == dict(roots_of(self._install.place))
        ]
        for entry in reversed(fitting):
            tree = self._ledger.tree(entry)
            if all(tree.get(p) == n for p, n in self._tree.items() if self._is_program(p)):
                return entry
        raise UsageError(
            "nothing was kept of this install as it shall stay",
            where=self._install.place.location,
            remedy="Run kindred backup before it is guarded.",
        )

    def check_guard(self) -> None:
        """Raise unless the ledger has what a guard would bring back."""
        self._guarded()


@contextmanager
def _notified(install: Install, note_change: Callable[[], None]) -> Iterator[None]:
    """Have `note_change` called whenever something changes in an install, within the block.

    Raises:
        UsageError: watchdog is not installed.
    """
    try:
        from watchdog.events import FileSystemEvent, FileSystemEventHandler
        from watchdog.observers import Observer
    except ImportError as error:
        raise UsageError(
            "watching needs the package watchdog",
            remedy="Install it: pip install 'kindred-ledger[watch]'",
        ) from error

    class Handler(FileSystemEventHandler):
        def on_any_event(self, event: FileSystemEvent) -> None:
            if event.event_type not in ("opened", "closed_no_write"):
                note_change()

    observer = Observer()
    roots = sorted(set(roots_of(install.place).values()))
    for root in roots:
        if not any(root.startswith(other + os.sep) for other in roots):
            observer.schedule(Handler(), root, recursive=True)
    observer.start()
    try:
        yield
    finally:
        observer.stop()
        observer.join(10)


def _touched(before: Tree, after: Tree, tag: Tag) -> tuple[Difference, ...]:
    return tuple(
        difference
        for difference in before.diff(after)
        if difference.status != "touched"
        and {node.kind for node in difference[2:] if node is not None} != {"dir"}
        and not tag.disposes(difference.path)
    )


def _version(install: Install) -> str:
    return install.version.text if install.version is not None and install.agreed else ""

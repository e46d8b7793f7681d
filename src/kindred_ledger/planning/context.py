"""Context: where an operation looks up what it names: the ledger, the cards, this machine, how to connect."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor
from contextlib import AbstractContextManager
from functools import cached_property
from types import TracebackType
from typing import TYPE_CHECKING, Self, TypeVar

from ..cards import Card, Install, Surroundings, card_for
from ..errors import KindredError, UsageError
from ..ledger import Entry, Ledger
from ..places import FolderPlace, Place, discard, open_place
from ..progress import Progress
from ..suggestions import path_meant

if TYPE_CHECKING:
    from ..merge import Resolution
    from ..places.remotes import Remote

__all__ = ["Context"]

_T = TypeVar("_T")
_RELEASE, _ENTRY = "release:", "entry:"
_LONG_AGO_SECONDS = 86_400  # what a run that was cut off left is not wanted any more


class Context:
    """What operations are computed in; see the module. In a `with` block scratch space goes at its end.

    `ledger`, `cards` and `around` may be given as what gives them, asked when they are needed first. `build`
    and `folders` are what is said of the installs that are named, where neither evidence nor card tells it.
    `executor` is what large conversions run in, with so many `workers`; None is this process. With `dry_run`
    nothing will be applied, and not even an empty folder is made. `broken_cards` are cards that could not be
    read: what no other card fits may be of such a title, and is then refused. `decided` is what somebody
    decided about conflicts since, for when an operation is computed again.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     context.install("mossferry").version.text
    ...
    '1.4'
    """

    def __init__(
        self,
        ledger: Ledger | Callable[[], Ledger],
        *,
        cards: Sequence[Card] | Callable[[], Sequence[Card]] = (),
        around: Surroundings | Callable[[], Surroundings] | None = None,
        build: str = "",
        folders: Mapping[str, str] | None = None,
        connect: Callable[[str], Remote] | None = None,
        executor: Executor | None = None,
        workers: int = 1,
        dry_run: bool = False,
        broken_cards: Callable[[], Sequence[KindredError]] = tuple,
        progress: Progress | None = None,
    ) -> None:
        self._ledger, self._cards, self._connect = ledger, cards, connect
        self._around = around
        self._exits = contextlib.ExitStack()
        self.build, self.folders = build, dict(folders or {})
        self.executor, self.workers = executor, workers
        self.dry_run = dry_run
        self.decided: tuple[Resolution, ...] = ()
        self._broken = broken_cards
        self.progress = progress or Progress()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        at: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """Remove the scratch space that operations used."""
        self._exits.close()

    def at_close(self, act: Callable[[], object]) -> None:
        """Have something done when the context is closed."""
        self._exits.callback(act)

    def enter(self, manager: AbstractContextManager[_T]) -> _T:
        """Enter what is to be left when the context is closed."""
        return self._exits.enter_context(manager)

    @cached_property
    def ledger(self) -> Ledger:
        """The ledger."""
        return self._ledger() if callable(self._ledger) else self._ledger

    @cached_property
    def cards(self) -> list[Card]:
        """The cards that are known, those of variants last."""
        return list(self._cards() if callable(self._cards) else self._cards)

    @cached_property
    def around(self) -> Surroundings:
        """This machine, as cards see it."""
        if self._around is None:
            return Surroundings.here()
        return self._around() if callable(self._around) else self._around

    def scratch(self, name: str) -> str:
        """Return a folder for results in the ledger's `work`, which goes with the context.

        What a run that was cut off left in others of the name is removed.
        """
        work = self.ledger.folder("work")
        for entry in os.scandir(work):
            old = entry.stat(follow_symlinks=False).st_mtime < time.time() - _LONG_AGO_SECONDS
            if entry.name.startswith(f"{name}-") and old:
                discard(entry.path)
        folder = os.path.join(work, f"{name}-{os.getpid()}")
        self.at_close(lambda: discard(folder))
        return folder

    # What is named

    def install(self, path: str, *, title: str = "", build: str | None = None) -> Install:
        """Open an install of a title; `build` None takes what is said of installs.

        A `title` that no card describes will do: then no more than that is known of it.

        Raises:
            UsageError: there is no such folder, or no card fits it.
        """
        folder = os.path.abspath(os.path.expanduser(path))
        if not os.path.isdir(folder):
            raise UsageError("no such folder", where=path, remedy="Check the path.")
        known = [card for card in self.cards if card.title == title]
        if title and not known:
            card = Card.plain(title)
        else:
            card = card_for(folder, known or self.cards)
        version = self.build if build is None else build
        return card.open(folder, version=version, folders=self.folders, around=self.around)

    def place(self, text: str) -> Place:
        """Open what is named as nothing but a place: a folder, archive or URL, an entry, a release.

        Raises:
            UsageError: there is no such place.
            PlaceError: it cannot be reached.
        """
        if text.startswith(_ENTRY):
            return self.ledger.place(self.ledger.entry(text))
        if "://" in text:
            from ..places.remotes import RemotePlace, connect

            return RemotePlace((self._connect or connect)(text))
        return self.release(text)

    def release(self, text: str) -> Place:
        """Open a release: one on the shelf by its name, or a folder or archive.

        Raises:
            UsageError: there is none; what the shelf has of that version, or name, is told.
        """
        if text.startswith(_RELEASE):
            return self.ledger.shelf.place(self.ledger.shelf.find(text))
        if "://" not in text and not os.path.exists(os.path.expanduser(text)):
            known = self.ledger.shelf.releases()
            meant = {f"{_RELEASE}{one.name}" for one in known if text in (one.version, one.name)}
            if meant:
                told = f"The shelf has it: {' or '.join(sorted(meant))}"
                raise UsageError("no such file or folder", where=text, remedy=told)
        return open_place(text)

    def subject(self, text: str) -> Install | Place:
        """Open what is named: an install, a folder, archive or URL, `entry:ID`, `release:NAME`.

        Raises:
            UsageError: there is nothing of the name.
            PlaceError: it cannot be reached.
        """
        if text.startswith((_RELEASE, _ENTRY)) or "://" in text:
            return self.place(text)
        if not os.path.exists(os.path.expanduser(text)):
            if "/" not in text and os.sep not in text:
                return self.ledger.place(self._entry(text))
            raise UsageError("no such file or folder", where=text, remedy="Check the path.")
        place = open_place(text)
        if isinstance(place, FolderPlace):
            return self.install(text) if self.is_install(text) else place
        for card in self.cards:
            with contextlib.suppress(UsageError):
                return card.open_release(place)
        self._refuse_doubt(text)
        return place

    def _entry(self, text: str) -> Entry:
        """Return the entry of a name that is that of no folder here."""
        try:
            return self.ledger.entry(text)
        except UsageError as error:
            names = [*os.listdir("."), *(entry.name for entry in self.ledger.entries())]
            raise UsageError(
                f"no such folder or entry: {text}", remedy=path_meant(text, names) or error.advice
            ) from error

    def is_install(self, text: str) -> bool:
        """Tell whether what is named is the folder of an install of a known title."""
        folder = os.path.abspath(os.path.expanduser(text))
        if not os.path.isdir(folder):
            return False
        if any(card.is_install(folder) for card in self.cards):
            return True
        self._refuse_doubt(text)
        return False

    def _refuse_doubt(self, text: str) -> None:
        """Raise if a card that cannot be read may describe what no other card does."""
        for error in self._broken():
            raise UsageError(
                f"no card fits this, and {error.where}, which may describe it, cannot be read",
                where=text,
                remedy="Put that card right, or name the one that describes it: `card=FILE`.",
            )

    def card_of(self, title: str) -> Card:
        """Return the card of a title, or one that knows no more than that."""
        return next((card for card in self.cards if card.title == title), Card.plain(title))

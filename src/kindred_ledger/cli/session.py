"""Session: what every command shares: where output goes, the ledger, the cards, the places."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import click
import msgspec

from ..cards import Card, Surroundings, find_cards
from ..errors import KindredError, LedgerError, NoLedger, UsageError
from ..extensions import card_folders
from ..ledger import Ledger
from ..os_names import json_bytes
from ..progress import Progress
from .page import Page
from .speaking import speaking
from .visible import escaped

if TYPE_CHECKING:
    from ..places.remotes import Remote
    from ..planning.context import Context

__all__ = ["Session", "file_bytes", "refuse_taken"]


@dataclass
class Session:
    """The common options of one call, and what they lead to."""

    name: str
    json: bool = False
    ledger_path: str = ""
    card_path: str = ""
    build: str = ""
    folders: Mapping[str, str] = field(default_factory=dict)
    user_ids: Mapping[str, str] = field(default_factory=dict)
    makes_ledger: bool = False
    _opened: list[Ledger] = field(default_factory=list)
    _remotes: dict[str, Remote] = field(default_factory=dict)
    _broken: list[KindredError] = field(default_factory=list)

    @cached_property
    def out(self) -> Page:
        """Where results are drawn."""
        return Page(sys.stdout)

    @cached_property
    def err(self) -> Page:
        """Where everything else goes."""
        return Page(sys.stderr)

    @cached_property
    def progress(self) -> Progress:
        """Draws progress on a terminal; silent elsewhere."""
        if not sys.stderr.isatty():
            return Progress()
        from .watching import DrawnProgress

        return DrawnProgress(self.err.console)

    @cached_property
    def ledger(self) -> Ledger:
        """The ledger, open. Where there is none one is made: by commands that store something, or in
        the folder that is used where nobody names one.
        """
        create = self.makes_ledger or not self._ledger_named
        try:
            return self.open_ledger(self.ledger_where, create=create)
        except NoLedger as error:
            error.remedy = (
                f"Check the path. To make one: kindred backup FOLDER --ledger {self.ledger_where}"
            )
            raise

    def open_ledger(self, where: str, *, create: bool = True) -> Ledger:
        """Open the ledger in a folder or at a URL; a password that is still wanted is asked for."""
        at = self.remote(where) if "://" in where else where
        ledger = Ledger.open(at, create=create, passphrase=self.passphrase, connect=self.remote)
        self._opened.append(ledger)
        return ledger

    def known_ledger(self) -> Ledger | None:
        """Return the ledger if there is one; none is made. One that --ledger names must be there."""
        try:
            return self.open_ledger(self.ledger_where, create=False)
        except LedgerError:
            if self.ledger_path:
                raise
            return None

    def finish(self) -> None:
        """End the use of the ledgers that were opened."""
        if "context" in self.__dict__:
            self.context.close()
        for ledger in self._opened:
            for name in ledger.sessions.cleared:
                self.err.print(f"Removed a left-over of a command that was cut off: {name}")
            ledger.finish()
        for remote in self._remotes.values():
            remote.close()

    def remote(self, url: str) -> Remote:
        """Return the remote at a URL, once connected; a password that is still wanted is asked for."""
        if url not in self._remotes:
            self._remotes[url] = self._connected(url)
        return self._remotes[url]

    def _connected(self, url: str) -> Remote:
        from platformdirs import user_config_dir

        from ..places.remotes import connect, login_for

        own = os.path.join(user_config_dir("kindred-ledger", appauthor=False), "remotes.toml")
        file = os.environ.get("KINDRED_REMOTES", "") or own
        ask = _hidden if sys.stdin.isatty() else None
        return connect(url, login_for(url, os.environ, file=file, ask=ask))

    @property
    def passphrase(self) -> Callable[[], str] | None:
        """What gives the passphrase of an encrypted ledger: KINDRED_PASSPHRASE, or who is asked."""
        known = os.environ.get("KINDRED_PASSPHRASE", "")
        if known:
            return lambda: known
        return (lambda: _hidden("Passphrase of the ledger")) if sys.stdin.isatty() else None

    @property
    def _ledger_named(self) -> str:
        return self.ledger_path or os.environ.get("KINDRED_LEDGER", "")

    @property
    def ledger_where(self) -> str:
        """Where the ledger is: --ledger, KINDRED_LEDGER, or the user's own."""
        path = self._ledger_named
        if not path:
            from platformdirs import user_data_dir

            path = os.path.join(user_data_dir("kindred-ledger", appauthor=False), "ledger")
        return path

    @cached_property
    def cards(self) -> list[Card]:
        """The cards: --card, or those beside the caller, in KINDRED_CARDS and in the user's.

        Cards of variants come last: a file that fits both is the title's own.
        """
        if self.card_path:
            return [Card.load(self.card_path)]
        from platformdirs import user_config_dir

        kept = os.path.join(user_config_dir("kindred-ledger", appauthor=False), "cards")
        named = os.environ.get("KINDRED_CARDS", "").split(os.pathsep)
        folders = [os.getcwd(), *filter(None, named), kept, *card_folders()]
        found = find_cards(folders, broken=self._tell_broken)
        return sorted(found, key=lambda card: card.file.variant is not None)

    @property
    def named_title(self) -> str:
        """The title of the card that --card names; empty without it."""
        return self.cards[0].title if self.card_path else ""

    def _tell_broken(self, error: KindredError) -> None:
        self._broken.append(error)
        self.err.print(f"! {error.where}: {error.what}; this card is not used", style="bold yellow")
        if error.advice:
            self.err.print(error.advice, soft_wrap=True)

    @cached_property
    def around(self) -> Surroundings:
        """The machine, as cards see it."""
        return Surroundings.here(user_ids=self.user_ids)

    @cached_property
    def context(self) -> Context:
        """What operations are computed in."""
        from ..planning.context import Context

        return Context(
            lambda: self.ledger,
            cards=lambda: self.cards,
            around=lambda: self.around,
            build=self.build,
            folders=self.folders,
            connect=self.remote,
            broken_cards=lambda: self._broken,
            progress=self.progress,
        )

    def tell_damage(self, damaged: Sequence[KindredError]) -> int:
        """Say on standard error what of the ledger cannot be read; return the status that goes with it."""
        for error in damaged:
            self.err.hang("✗ ", f"{error.where}: {error.what}", style="red")
        if damaged:
            self.err.print("To see what that costs: kindred ledger verify")
        return damaged[0].exit_status if damaged else 0

    def emit_line(self, **values: Any) -> None:
        """Print a JSON object on a line of its own, at once: for what goes on until somebody stops it."""
        whole = {"command": self.name, "status": 0, **values}
        sys.stdout.write(escaped(json_bytes(whole).decode()) + "\n")
        sys.stdout.flush()

    def emit(self, status: int = 0, **values: Any) -> int:
        """Print the one JSON object of this call; return the status."""
        whole = {"command": self.name, "status": status, **speaking(values)}
        data = msgspec.json.format(json_bytes(whole), indent=2)
        sys.stdout.write(escaped(data.decode()) + "\n")
        return status


def _hidden(question: str) -> str:
    return str(click.prompt(question, hide_input=True, err=True))


def refuse_taken(path: str) -> None:
    """Raise `UsageError` if there is something of the name of a file that shall be written."""
    if os.path.lexists(path):
        raise UsageError(
            "there is something of this name already", where=path, remedy="Choose another."
        )


def file_bytes(path: str) -> bytes:
    """Return what a file that was named holds."""
    try:
        with open(path, "rb") as file:
            return file.read()
    except OSError as error:
        raise UsageError(f"the file cannot be read: {error.strerror}", where=path) from error

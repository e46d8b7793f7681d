"""Operations about mods: mending what a check finds."""

from __future__ import annotations

from ..cards import Card, Install
from ..changes import Changeset
from ..errors import UsageError
from ..places import AnyPlace
from ..planning.context import Context
from ..planning.modded import fitting_card
from ..planning.operation import Operation
from ..planning.trial_copies import place_test_copy
from .check import ModCheck, check_mods
from .relink import relink
from .suspect_search import SuspectSearch
from .swap import swap_library
from .trim import TrimChoices, trim_mod
from .usage import remove_library

__all__ = [
    "CheckMods",
    "PlaceTestCopy",
    "Relink",
    "RemoveLibrary",
    "SwapLibrary",
    "TrimMod",
    "TrySuspects",
]


class CheckMods(Operation, frozen=True, tag="check mods"):
    """Mend what a check of mods finds, as far as it can be mended safely; see `check_mods`.

    `what` is an install, a folder that mods lie in, or one mod; `build` the one they shall work with.
    """

    what: str
    build: str = ""
    core: tuple[str, ...] = ()
    title: str = ""

    def check(self, context: Context, *, with_ledger: bool = True) -> ModCheck:
        """Look for what is wrong, and change nothing."""
        subject, card = subject_of(context, self.what, self.title)
        ledger = context.ledger if with_ledger else None
        return check_mods(subject, self.build, card=card, ledger=ledger, core=self.core)

    def compute(self, context: Context) -> Changeset:
        return self.check(context).change(context.ledger, progress=context.progress)


class TrimMod(Operation, frozen=True, tag="trim mod"):
    """Reduce a pack to what differs from the original; see `trim_mod`.

    `original` and `target` are releases, folders or archives; `covers` are texts `FOLDER=FOLDER`, or one
    folder of the title that the whole pack stands for.
    """

    pack: str
    original: str
    target: str = ""
    into: str = ""
    build: str = ""
    title: str = ""
    covers: tuple[str, ...] = ()
    drop: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()
    pixels: bool = False

    def compute(self, context: Context) -> Changeset:
        _, card = subject_of(context, self.pack, self.title)
        covers = dict(_covered(text) for text in self.covers)
        return trim_mod(
            self.pack,
            context.subject(self.original),
            ledger=context.ledger,
            target=context.subject(self.target) if self.target else None,
            into=self.into,
            card=card,
            build=self.build,
            choices=TrimChoices(covers, self.drop, self.keep, self.pixels),
            progress=context.progress,
        )


class Relink(Operation, frozen=True, tag="relink"):
    """Mend the references of a project that lead nowhere; see `relink`.

    `choices` are texts `OLD=NEW`.
    """

    project: str
    search: tuple[str, ...]
    choices: tuple[str, ...] = ()
    title: str = ""

    def compute(self, context: Context) -> Changeset:
        with_projects = _with_projects(context, self.title)
        return relink(
            self.project,
            self.search,
            ledger=context.ledger,
            card=with_projects[0] if len(with_projects) == 1 else None,
            choices=dict(_chosen(text) for text in self.choices),
            progress=context.progress,
        )


class SwapLibrary(Operation, frozen=True, tag="swap library"):
    """Have projects use another version of a library; see `swap_library`."""

    project: str
    old: str
    new: str
    title: str = ""

    def compute(self, context: Context) -> Changeset:
        with_projects = _with_projects(context, self.title)
        if len(with_projects) != 1:
            names = ", ".join(card.name for card in with_projects) or "none"
            raise UsageError(
                f"which card describes these projects? Cards with projects here: {names}",
                remedy="Name the title: `title=TITLE`.",
            )
        return swap_library(
            self.project, self.old, self.new, card=with_projects[0], ledger=context.ledger,
            progress=context.progress,
        )  # fmt: skip


class TrySuspects(Operation, frozen=True, tag="try suspects"):
    """Set up the next trial of the search for what breaks `what`; see `SuspectSearch`."""

    what: str

    def compute(self, context: Context) -> Changeset:
        search = SuspectSearch.open(context.install(self.what), context.ledger)
        return search.change(progress=context.progress)


class PlaceTestCopy(Operation, frozen=True, tag="test copy"):
    """Place a copy for a test; see `place_test_copy`."""

    source: str
    install: str
    at: str

    def compute(self, context: Context) -> Changeset:
        return place_test_copy(
            context.install(self.install), self.source, self.at, ledger=context.ledger,
            progress=context.progress,
        )  # fmt: skip


class RemoveLibrary(Operation, frozen=True, tag="remove library"):
    """Remove a library that no project uses any more; see `remove_library`."""

    library: str
    folders: tuple[str, ...]
    names: tuple[str, ...] = ()
    let_go: tuple[str, ...] = ()

    def compute(self, context: Context) -> Changeset:
        return remove_library(
            self.library, self.folders, ledger=context.ledger, let_go=self.let_go,
            names=self.names, progress=context.progress,
        )  # fmt: skip


def _with_projects(context: Context, title: str) -> list[Card]:
    """Return the cards that describe projects; the one that is named, if one is."""
    if title:
        return [context.card_of(title)]
    return [card for card in context.cards if card.file.projects]


def _chosen(text: str) -> tuple[str, str]:
    old, sign, new = text.partition("=")
    if not sign or not old or not new:
        raise UsageError(f"{text!r} is not OLD=NEW", remedy="Write it like parts/a.dat=lib/a.dat.")
    return old, new


def _covered(text: str) -> tuple[str, str]:
    own, sign, original = text.rpartition("=")
    return (own, original) if sign else ("", text)


def subject_of(context: Context, what: str, title: str) -> tuple[Install | AnyPlace, Card | None]:
    """Return what is named as an install, if it is one; else as a path, with the card whose mods lie there.

    Raises:
        UsageError: the card that is named describes no mods.
    """
    if context.is_install(what):
        return context.install(what, title=title), None
    if title:
        card = context.card_of(title)
        if not card.mods:
            raise UsageError(
                f"the card of {card.name} describes no mods",
                where=card.path,
                remedy="Add a table [mods.NAME] to it; see docs/cards.md.",
            )
        return what, card
    return what, fitting_card(what, context.cards)

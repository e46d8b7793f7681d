"""Operations about mods: mending what a check finds."""

from __future__ import annotations

from ..cards import Card, Install
from ..changes import Changeset
from ..errors import UsageError
from ..places import AnyPlace
from ..planning.context import Context
from ..planning.modded import fitting_card
from ..planning.operation import Operation
from .check import ModCheck, check_mods
from .trim import TrimChoices, trim_mod

__all__ = ["CheckMods", "TrimMod"]


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

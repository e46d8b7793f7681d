"""Operations that bring data from one place to another."""

from __future__ import annotations

from msgspec.structs import replace

from ..changes import Changeset
from ..errors import UsageError
from ..places import wanted
from ..planning.context import Context
from ..planning.deciding import rules_for
from ..planning.operation import Operation, never
from .carry import CarryChoices, carry
from .carry_files import carry_files, known_as
from .meet import MeetChoices, meet
from .switch import Begin, switch

__all__ = ["Carry", "CarryFiles", "Meet", "Switch"]


class Carry(Operation, frozen=True, tag="carry"):
    """Bring categories of one install into another, converted where needed; see `carry`.

    What is said of installs (`build` of the context) is said of the target.
    """

    source: str
    target: str
    categories: tuple[str, ...]
    only: tuple[str, ...] = ()
    overwrite: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()
    both: tuple[str, ...] = ()
    merge: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()

    def compute(self, context: Context) -> Changeset:
        source = context.install(self.source, build="")
        if not self.categories:
            raise UsageError(
                "between installs it must be said what to carry",
                remedy=f"Name it: `category={'` `category='.join(source.card.categories)}`",
            )
        choices = CarryChoices(
            overwrite=wanted(self.overwrite) or never,
            keep=wanted(self.keep) or never,
            both=wanted(self.both) or never,
            merge=wanted(self.merge) or never,
        )
        return carry(
            source,
            context.install(self.target),
            self.categories,
            ledger=context.ledger,
            only=wanted(self.only, self.exclude),
            choices=choices,
            progress=context.progress,
        )


class CarryFiles(Operation, frozen=True, tag="carry files"):
    """Bring files as they are from any place into another; see `carry_files`."""

    source: str
    target: str
    only: tuple[str, ...] = ()
    overwrite: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()
    both: tuple[str, ...] = ()
    exact: bool = False
    exclude: tuple[str, ...] = ()

    def compute(self, context: Context) -> Changeset:
        place = context.place(self.target)
        tag = known_as(place, ledger=context.ledger)
        if context.build:
            tag = replace(tag, version=context.build, read_from="--build")
        choices = CarryChoices(
            overwrite=wanted(self.overwrite) or never,
            keep=wanted(self.keep) or never,
            both=wanted(self.both) or never,
        )
        return carry_files(
            context.place(self.source),
            place,
            ledger=context.ledger,
            only=wanted(self.only, self.exclude),
            choices=choices,
            exact=self.exact,
            tag=tag,
            card=context.card_of(tag.title) if tag.title else None,
            progress=context.progress,
        )


class Meet(Operation, frozen=True, tag="meet"):
    """Take in what another machine did to the same data; see `meet`."""

    install: str
    entry: str = ""
    categories: tuple[str, ...] = ()
    mine: tuple[str, ...] = ()
    theirs: tuple[str, ...] = ()
    both: tuple[str, ...] = ()
    resolutions: str = ""

    def compute(self, context: Context) -> Changeset:
        ways = {"theirs": self.theirs, "mine": self.mine, "both": self.both}
        return meet(
            context.install(self.install),
            ledger=context.ledger,
            other=context.ledger.entry(self.entry) if self.entry else None,
            categories=self.categories,
            choices=MeetChoices(rules=rules_for(self.resolutions, context.decided, **ways)),
            progress=context.progress,
        )


class Switch(Operation, frozen=True, tag="switch"):
    """Give an install its turn in the folders it shares with other builds; see `switch`."""

    install: str
    written_by: str = ""
    begin: Begin = Begin.ASK

    def compute(self, context: Context) -> Changeset:
        return switch(
            context.install(self.install),
            ledger=context.ledger,
            written_by=self.written_by,
            begin=self.begin,
            progress=context.progress,
        )

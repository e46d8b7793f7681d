"""Operations that change what is inside files: converting them, filling what came out empty."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Callable, Iterator

from ..cards import Card, Format, Install
from ..changes import Changeset
from ..errors import KindredError, UsageError
from ..places import FilePlace, FolderPlace, Place, read_bytes, wanted
from ..planning.context import Context
from ..planning.operation import Operation
from ..statement import lines_named
from .bulk import results_of
from .converting import Work, convert_files, convert_install
from .proof import Proof
from .proving import prove_files, prove_install
from .rescue import rescue_file
from .routing import FileRoute, routes_in

__all__ = ["Convert", "Rescue"]

_ONE_ROW = re.compile(r"\[\d")  # in the name of a field
_WORTH_KEEPING = (
    100  # results that are not applied: so many need not be made again when it is meant
)


class Convert(Operation, frozen=True, tag="convert"):
    """Bring files of an install, of a folder, or one file, into other formats; see `convert_install`.

    `to` is a build, or `to_format` a format version of loose files; `from_format` is that of files that do
    not say theirs. Fields that fit `fields` have lines of their own in the books, whatever their number.
    """

    what: str
    to: str = ""
    to_format: str = ""
    only: tuple[str, ...] = ()
    from_format: str = ""
    leave: tuple[str, ...] = ()
    beside: bool = False
    fields: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()

    def subject(self, context: Context) -> tuple[Install | Place, Callable[[str], bool] | None]:
        """Return what is meant, and which files of it; of a file, its folder only if it gets a neighbour."""
        formats = [format for card in context.cards for format in card.formats.values()]
        if os.path.isfile(self.what) and any(format.fits_name(self.what) for format in formats):
            folder, name = os.path.split(os.path.abspath(self.what))
            place = FolderPlace(folder) if self.beside else FilePlace(self.what)
            return place, lambda path: path == name
        return context.subject(self.what), wanted(self.only, self.exclude)

    def prove(self, context: Context) -> Iterator[tuple[str, Proof | KindredError]]:
        """Yield for each file what its conversion is worth; see `prove_install`."""
        found, only = self.subject(context)
        if isinstance(found, Install):
            build = found.card.build(self.to) if self.to else None
            return prove_install(found, build, only=only, progress=context.progress)
        card = _card_of_files(context.cards, found, only)
        return prove_files(
            found,
            card,
            self.to or None,
            version=self.to_format,
            only=only,
            progress=context.progress,
        )

    def routes(self, context: Context) -> tuple[Card, list[FileRoute]]:
        """Return the card of what is meant, and the routes its files take; see `routes_in`."""
        found, only = self.subject(context)
        card = (
            found.card if isinstance(found, Install) else _card_of_files(context.cards, found, only)
        )
        build = self.to or None
        if isinstance(found, Install) and not (self.to or self.to_format):
            build = found.sure_version.text
        return card, routes_in(found, card, build, version=self.to_format, source=self.from_format)

    def compute(self, context: Context) -> Changeset:
        found, only = self.subject(context)
        work = self._work(context, found.place if isinstance(found, Install) else found)
        if isinstance(found, Install):
            change = convert_install(
                found,
                found.card.build(self.to) if self.to else None,
                ledger=context.ledger,
                only=only,
                leave=wanted(self.leave),
                source=self.from_format,
                beside=self.beside,
                work=work,
                progress=context.progress,
            )
        else:
            card = _card_of_files(context.cards, found, only)
            change = convert_files(
                found,
                card,
                card.build(self.to) if self.to else None,
                ledger=context.ledger,
                version=self.to_format,
                only=only,
                leave=wanted(self.leave),
                source=self.from_format,
                beside=self.beside,
                work=work,
                progress=context.progress,
            )
        if work.cache is not None and len(change.actions) < _WORTH_KEEPING:
            context.at_close(change.clear or (lambda: None))
        return change

    def _work(self, context: Context, place: Place) -> Work:
        """Return how it is carried out; where single rows of lists are asked for, each stands by itself."""
        singly = any(_ONE_ROW.search(pattern) for pattern in self.fields)
        return Work(
            context.executor,
            context.workers,
            results_of(context.ledger, place),
            sys.maxsize if singly else Work().column_threshold,
            lines_named(self.fields),
        )


def _card_of_files(cards: list[Card], place: Place, only: Callable[[str], bool] | None) -> Card:
    """Return the card whose formats the files of a folder are of; of variants, that of the title itself."""
    files = [path for path in place.survey().files if only is None or only(path)]
    every = [
        card
        for card in cards
        if any(format.fits_name(path) for format in card.formats.values() for path in files)
        or any(format.is_pack(files) for format in card.formats.values())
    ]
    titles = {card.title for card in every}
    fitting = [
        card for card in every if card.file.variant is None or card.file.variant.of not in titles
    ]
    if len(fitting) != 1:
        names = ", ".join(card.title for card in fitting)
        what = (
            f"{len(fitting)} cards match these files: {names}"
            if fitting
            else "no card matches these files"
        )
        raise UsageError(what, where=place.location, remedy="Name one: `card=FILE`.")
    return fitting[0]


class Rescue(Operation, frozen=True, tag="rescue"):
    """Fill groups of fields that are empty in a newer file from an older one; see `rescue_file`."""

    newer: str
    older: str
    groups: tuple[str, ...] = ()
    names: dict[str, str] = {}  # noqa: RUF012 (a struct copies it)

    def compute(self, context: Context) -> Changeset:
        card, format = _format_of_file(context.cards, self.newer)
        older = FilePlace(self.older)
        return rescue_file(
            self.newer,
            read_bytes(older, older.name),
            format,
            ledger=context.ledger,
            title=card.title,
            groups=self.groups,
            names=self.names,
            progress=context.progress,
        )


def _format_of_file(cards: list[Card], path: str) -> tuple[Card, Format]:
    if not os.path.isfile(path):
        raise UsageError("there is no such file", where=path, remedy="Check the path.")
    for card in cards:
        for format in card.formats.values():
            if format.fits_name(path):
                return card, format
    raise UsageError(
        "no card has a format for this file", where=path, remedy="Name a card: `card=FILE`."
    )

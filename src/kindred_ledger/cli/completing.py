"""What a shell offers when somebody presses Tab: entries, changes, titles and categories.

Nothing is made for it and nothing is said: where the ledger or a card cannot be read, nothing is offered.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import click
from click.shell_completion import CompletionItem

from ..errors import KindredError
from .session import Session

__all__ = ["categories", "changes", "entries", "titles"]

_Offer = Callable[[click.Context, click.Parameter, str], list[CompletionItem]]


def _offering(
    find: Callable[[Session], Iterable[tuple[str, str]]], *, files: bool = False
) -> _Offer:
    """Return what completes by the names that `find` gives, each with a line of help."""

    def offer(
        ctx: click.Context, parameter: click.Parameter, incomplete: str
    ) -> list[CompletionItem]:
        named = ctx.params.get("ledger") or ctx.find_root().params.get("ledger") or ""
        session = Session("", ledger_path=named, card_path=ctx.params.get("card") or "")
        try:
            found = [
                CompletionItem(name, help=told)
                for name, told in dict(find(session)).items()
                if name.startswith(incomplete)
            ]
        except (KindredError, OSError):
            found = []
        return [*found, CompletionItem(incomplete, type="file")] if files else found

    return offer


def _entries(session: Session) -> Iterable[tuple[str, str]]:
    ledger = session.known_ledger()
    for entry in reversed(ledger.entries()) if ledger else ():
        yield entry.id, f"{entry.name} {entry.note}".strip()
        if entry.tag.title and entry.tag.version:
            yield entry.name, "the newest of this version"


def _changes(session: Session) -> Iterable[tuple[str, str]]:
    ledger = session.known_ledger()
    for record in reversed(ledger.records()) if ledger else ():
        yield record.id, record.summary


def _categories(session: Session) -> Iterable[tuple[str, str]]:
    return ((name, card.name) for card in session.cards for name in card.categories)


def _titles(session: Session) -> Iterable[tuple[str, str]]:
    ledger = session.known_ledger()
    yield from ((card.title, card.name) for card in session.cards)
    yield from ((entry.tag.title, "") for entry in (ledger.entries() if ledger else ()))


categories, changes, titles = map(_offering, (_categories, _changes, _titles))
entries = _offering(_entries, files=True)

"""Finding: cards by where they are kept, and installs by looking through folders."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator

from ..errors import KindredError, UsageError
from ..places import Place
from .card import Card
from .roots import find_root

__all__ = ["card_for", "card_of_release", "find_cards", "find_installs"]

_SUFFIX = ".card.toml"
_DEEPEST = 3  # folders below the one given: libraries keep titles one or two levels down


def find_cards(
    folders: Iterable[str], *, broken: Callable[[KindredError], object] | None = None
) -> list[Card]:
    """Load every `*.card.toml` in these folders; the first of a title wins.

    `broken` is told of a card that cannot be read, which is left out then; None raises.

    Raises:
        CardError, PlaceError: a card cannot be read, and nobody is told.

    >>> [card.name for card in kl.find_cards(["."])]
    ['Longnight', 'Mossferry']
    """
    found: dict[str, Card] = {}
    for folder in folders:
        if not os.path.isdir(folder):
            continue
        for name in sorted(os.listdir(folder)):
            if name.endswith(_SUFFIX):
                try:
                    card = Card.load(os.path.join(folder, name))
                except KindredError as error:
                    if broken is None:
                        raise
                    broken(error)
                    continue
                found.setdefault(card.title, card)
    return list(found.values())


def card_for(folder: str, cards: list[Card]) -> Card:
    """Return the card whose title is installed in `folder`.

    Raises:
        UsageError: none fits, or more than one.
    """
    fitting = [card for card in cards if card.is_install(folder)]
    if len(fitting) == 1:
        return fitting[0]
    if fitting:
        raise UsageError(
            f"{len(fitting)} cards fit: {', '.join(card.title for card in fitting)}",
            where=folder,
            remedy="Say which with `card=FILE`.",
        )
    known = ", ".join(card.title for card in cards)
    raise UsageError(
        "no card fits this folder",
        where=folder,
        remedy=f"Cards known here: {known}."
        if known
        else "No cards were found. Give one with `card=FILE`, or keep it beside you as NAME.card.toml.",
    )


def card_of_release(parts: Iterable[Place], cards: list[Card]) -> Card:
    """Return the card whose title's markers lie in parts of a download.

    Raises:
        UsageError: no card's do, or those of several.
    """
    trees = [(part.location, part.survey()) for part in parts]
    fitting = [
        card
        for card in cards
        if any(find_root(tree, card.file.program.markers, where=where) for where, tree in trees)
    ]
    if len(fitting) == 1:
        return fitting[0]
    names = ", ".join(card.title for card in fitting or cards) or "none"
    raise UsageError(
        f"{len(fitting)} cards fit" if fitting else "no card tells what this is",
        where=trees[0][0],
        remedy=f"Cards known here: {names}. Say what it is with `title=TITLE`.",
    )


def find_installs(top: str, cards: list[Card]) -> Iterator[tuple[str, Card]]:
    """Yield the program folders of installs in `top` and a few levels below, with their cards.

    >>> sorted((os.path.relpath(folder), card.name) for folder, card in kl.find_installs(".", [card]))
    [('mossferry', 'Mossferry'), ('second/mossferry', 'Mossferry')]
    """
    stack = [(os.path.abspath(top), 0)]
    while stack:
        folder, depth = stack.pop()
        fitting = [card for card in cards if card.is_install(folder)]
        if fitting:
            yield from ((folder, card) for card in fitting)
            continue
        if depth < _DEEPEST:
            try:
                with os.scandir(folder) as entries:
                    inner = sorted(e.path for e in entries if e.is_dir(follow_symlinks=False))
            except OSError:
                continue  # a folder nobody may look into holds no install of theirs
            stack += [(path, depth + 1) for path in reversed(inner)]

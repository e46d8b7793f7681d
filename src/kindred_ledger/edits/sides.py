"""Sides: the trees that edits are told from, with paths as the title's card has them."""

from __future__ import annotations

from contextlib import suppress

from msgspec import Struct

from ..cards import PROGRAM, Card, Install
from ..errors import UsageError
from ..ledger import EntryPlace, Ledger, ReleasePlace
from ..places import FILE, AnyPlace, JoinedPlace, Place, Tree, as_place
from ..progress import Progress
from ..versions import Version

__all__ = ["Side", "opened_side"]


class Side(Struct, frozen=True):
    """Files of one side: where they are, what they are called, and the build they are of, if that is known.

    With a card, paths begin as an install's do, and what the card counts among the user's own is left out.
    `whole` is all that is in the place.
    """

    name: str
    place: Place
    tree: Tree
    whole: Tree
    version: Version | None = None
    install: Install | None = None


def opened_side(
    what: Install | AnyPlace,
    card: Card | None,
    *,
    ledger: Ledger,
    progress: Progress | None = None,
) -> Side:
    """Open the files of one side.

    Raises:
        UsageError: there is nothing, or it is of another title.
        PlaceError: it cannot be read.
    """
    install = what if isinstance(what, Install) else None
    place = install.place if install is not None else as_place(what)  # type: ignore[arg-type]
    if card is not None and install is None:
        install = _as_install(place, card)
        if install is not None:
            place = install.place
        elif not _has_parts(place):
            place = JoinedPlace({PROGRAM: place})
    if card is not None and install is not None and install.card.title != card.title:
        raise UsageError(
            f"this is of {install.card.name}, the other side of {card.name}",
            where=place.location,
        )
    is_entry = isinstance(place, EntryPlace)
    whole = place.survey() if is_entry else ledger.scan(place, progress=progress)
    tree = whole
    if card is not None:
        own = card.category_of
        tree = whole.select(
            lambda path: (
                path.startswith(f"{PROGRAM}/")
                and whole[path].kind == FILE
                and not (card.file.categories and own(path))
            )
        )
    version = install.version if install is not None and install.agreed else None
    if card is not None and isinstance(place, EntryPlace) and place.tag.version:
        version = card.build(place.tag.version)
    return Side(_name(what, place), place, tree, whole, version, install)


def _as_install(place: Place, card: Card) -> Install | None:
    """Open a place as an install or a release of the title, if it is one."""
    if isinstance(place, EntryPlace) and not isinstance(place, ReleasePlace):
        return None
    with suppress(UsageError):
        version = place.release.version if isinstance(place, ReleasePlace) else ""
        return card.open_release(place, version=version)
    return None


def _has_parts(place: Place) -> bool:
    """Tell whether the paths of a place begin as an install's do: those of an entry of one."""
    return isinstance(place, EntryPlace) and any(
        path == PROGRAM or path.startswith(f"{PROGRAM}/") for path in place.survey()
    )


def _name(what: Install | AnyPlace, place: Place) -> str:
    if isinstance(what, ReleasePlace):
        return what.release.name
    return place.location

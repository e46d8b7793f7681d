"""Comparing two states of a title: by path, by category, and inside the files the card describes.

Contents are compared by digest, never by size or time.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import suppress
from typing import TYPE_CHECKING

from msgspec import Struct, field

from ..cards import Card, Install
from ..errors import KindredError, UsageError
from ..formats import Document, FieldDifference, parse_path
from ..ledger import EntryPlace, Ledger, Tag
from ..merge import ABSENT, Keys, differences, resolved, told, values_of
from ..notebook import frame_of, html_table
from ..places import (
    DIR,
    AnyPlace,
    AnySelection,
    Difference,
    Place,
    TarPlace,
    Tree,
    ZipPlace,
    as_place,
    as_selection,
    check_selected,
    read_bytes,
    scan,
)
from ..progress import Progress

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Comparison", "compare"]

_LARGEST = 8 << 20  # bytes; a larger text file is compared as a whole only
_PROGRAM = "program"


class Comparison(Struct, frozen=True):
    """What differs: files and links by path, and the fields of those that could be read.

    `same` is how many files and links hold the same on both sides; `categories` names what a path
    belongs to, where either side knows; `unread` says why a file's fields could not be compared.

    >>> old, new = "downloads/mossferry-1.4.zip", "downloads/mossferry-2.0.zip"
    >>> compared = kl.compare(old, new, card=card)
    >>> len(compared.differences), compared.same, compared.differences[0].path
    (80, 122, 'program/build.json')
    """

    differences: tuple[Difference, ...]
    same: int
    categories: Mapping[str, str] = field(default_factory=dict)
    fields: Mapping[str, tuple[FieldDifference, ...]] = field(default_factory=dict)
    unread: Mapping[str, str] = field(default_factory=dict)

    def __repr__(self) -> str:
        return f"<Comparison {len(self.differences):,} differ, {self.same:,} are the same>"

    def _repr_html_(self) -> str:
        rows = [(each.status, each.path) for each in self.differences]
        return html_table(("status", "path"), rows, caption=repr(self)[1:-1])

    def to_frame(self) -> DataFrame:
        """Return what differs as a data frame: a row a field where fields were compared, else a row a file.

        Columns: `status`, `path`, `category`, `field`, `before`, `after`; those of no field are None.

        Raises:
            UsageError: pandas is not installed.
        """
        rows = [
            (each.status, each.path, self.categories.get(each.path), *inside)
            for each in self.differences
            for inside in self._inside(each.path)
        ]
        names = ("status", "path", "category", "field", "before", "after")
        return frame_of({name: [row[at] for row in rows] for at, name in enumerate(names)})

    def _inside(self, path: str) -> list[tuple[str | None, str | None, str | None]]:
        fields = self.fields.get(path)
        if not fields:
            return [(None, None, None)]
        return [(each.name, each.before, each.after) for each in fields]


def compare(
    before: Install | AnyPlace,
    after: Install | AnyPlace,
    *,
    ledger: Ledger | None = None,
    card: Card | None = None,
    only: AnySelection = None,
    progress: Progress | None = None,
) -> Comparison:
    """Compare two places, installs or entries; `card` says what is inside their files.

    `before` and `after` may be paths; `only` is a pattern, several, or a function of a path.
    A `ledger` remembers what it read, so that the next time is faster.

    Raises:
        PlaceError, PlaceChanged: something cannot be read.

    >>> old, new = "downloads/mossferry-1.4.zip", "downloads/mossferry-2.0.zip"
    >>> len(kl.compare(old, new, card=card).differences)
    80
    """
    sides = [_side(side, card) for side in (before, after)]
    wanted = as_selection(only)
    watch = progress or Progress()
    places = [side.place if isinstance(side, Install) else side for side in sides]
    trees = [_tree(place, ledger, watch) for place in places]
    if wanted is not None:
        check_selected(wanted, {*trees[0].leaves, *trees[1].leaves})
        trees = [tree.select(wanted) for tree in trees]
    found = tuple(
        difference
        for difference in trees[0].diff(trees[1])
        if difference.status != "touched"
        and {node.kind for node in difference[2:] if node is not None} != {DIR}
    )
    both = set(trees[0].leaves) & set(trees[1].leaves)
    fields: dict[str, tuple[FieldDifference, ...]] = {}
    unread: dict[str, str] = {}
    for difference in found:
        format = card.format_of(difference.path) if card else None
        if difference.status != "changed" or format is None or _too_large(difference):
            continue
        try:
            old, new = (format.decode(read_bytes(p, difference.path)) for p in places)
            keys = {parse_path(at): field for at, field in format.table.keys.items()}
            fields[difference.path] = tuple(_inside(old, new, Keys(keys)))
        except KindredError as error:
            unread[difference.path] = error.what
    return Comparison(
        found,
        len(both) - sum(difference.status == "changed" for difference in found),
        _categories(found, *reversed(sides)),
        fields,
        unread,
    )


def _side(value: Install | AnyPlace, card: Card | None) -> Install | Place:
    """Return what is compared; the archive of a release as an install of the card's title."""
    if isinstance(value, Install):
        return value
    place = as_place(value)
    if card is not None and isinstance(place, (ZipPlace, TarPlace)):
        with suppress(UsageError):
            return card.open_release(place)
    return place


def _tree(place: Place, ledger: Ledger | None, progress: Progress) -> Tree:
    if isinstance(place, EntryPlace):
        return place.survey()
    return (
        scan(place, progress=progress) if ledger is None else ledger.scan(place, progress=progress)
    )


def _inside(old: Document, new: Document, keys: Keys) -> Iterator[FieldDifference]:
    """Yield what differs between two documents; a record that came or went is one difference."""
    values = values_of(old), values_of(new)
    texts = [{leaf.path: leaf.text for leaf in document.leaves()} for document in (old, new)]
    for each in differences(*values, keys):
        sides = [
            None if value is ABSENT else shown.get(resolved(whole, each.at) or (), told(value))
            for value, whole, shown in zip((each.before, each.after), values, texts, strict=True)
        ]
        yield FieldDifference(each.name or "the whole", *sides)


def _too_large(difference: Difference) -> bool:
    return any(node is not None and node.size > _LARGEST for node in difference[2:])


def _categories(found: tuple[Difference, ...], *sides: Install | Place) -> dict[str, str]:
    for side in sides:
        tag = getattr(side, "tag", None)
        if isinstance(tag, Tag) and tag.categories:
            known = tag.categories.items()
            return {
                d.path: next((name for name, wanted in known if wanted(d.path)), _PROGRAM)
                for d in found
            }
    return {}

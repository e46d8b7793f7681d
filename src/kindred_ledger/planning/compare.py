"""Comparing two states of a title: by path, by category, and inside the files the card describes.

Contents are compared by digest, never by size or time.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from decimal import Decimal
from functools import partial
from typing import TYPE_CHECKING, Any

from msgspec import Struct, field
from msgspec.structs import replace

from ..cards import Card, Install
from ..errors import KindredError, UsageError
from ..formats import Document, FieldDifference
from ..ledger import Entry, EntryPlace, Ledger, Tag
from ..merge import ABSENT, Index, Keys, differences, frozen, resolved, told, values_of
from ..merge import Difference as Differing
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
from .reading import read_as

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["COLUMNS", "Comparison", "compare", "largest_first", "relative_change"]

COLUMNS = ("status", "path", "category", "field", "before", "after", "relative")

_LARGEST = 8 << 20  # bytes; a larger text file is compared as a whole only
_MOST_INSIDE = 500  # files of which the card says nothing that are compared inside
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
        rows = self.rows()
        return frame_of({name: [row[at] for row in rows] for at, name in enumerate(COLUMNS)})

    def rows(self) -> list[tuple[Any, ...]]:
        """Return a row for every field that differs, and for every file that differs as a whole.

        `relative` is how much a number grew, of what it was: 0.5 for half as much again.
        """
        return [
            (each.status, each.path, self.categories.get(each.path), *inside)
            for each in self.differences
            for inside in self._inside(each.path)
        ]

    def to_csv(self) -> str:
        """Return the rows as CSV (RFC 4180) with a line of heads."""
        out = io.StringIO()
        table = csv.writer(out)
        table.writerow(COLUMNS)
        table.writerows(self.rows())
        return out.getvalue()

    def _inside(self, path: str) -> list[tuple[Any, ...]]:
        fields = self.fields.get(path)
        if not fields:
            return [(None, None, None, None)]
        return [(each.name, each.before, each.after, relative_change(each)) for each in fields]


def relative_change(field: FieldDifference) -> float | None:
    """Return how much a number grew, of what it was; None for what is no amount, or was none or zero.

    >>> relative_change(FieldDifference("tide", "2.0", "3.0"))
    0.5
    """
    if field.before is None or field.after is None or field.is_version:
        return None
    try:
        old, new = Decimal(field.before), Decimal(field.after)
        change = float((new - old) / abs(old)) if old else math.nan
    except (ArithmeticError, ValueError):
        return None
    return change if math.isfinite(change) else None


def largest_first(fields: Iterable[FieldDifference]) -> list[FieldDifference]:
    """Return differences with the numbers that changed most, of what they were, first."""
    known = [(relative_change(each), each) for each in fields]
    numbers = sorted((n for n in known if n[0] is not None), key=lambda n: -abs(n[0] or 0.0))
    return [each for _, each in (*numbers, *(n for n in known if n[0] is None))]


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
    for entry in (place.entry for place in places if isinstance(place, EntryPlace)):
        if entry.left_out is not None:  # what it does not have for that is no difference
            trees = [tree.select(partial(_is_kept, entry)) for tree in trees]
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
    looked = 0  # files of which the card says nothing
    for difference in found:
        named = _as_installed(difference.path, card)
        known = card is not None and card.format_of(named) is not None
        looked += not known
        if difference.status != "changed" or _too_large(difference) or looked > _MOST_INSIDE:
            continue
        try:
            contents = [read_bytes(place, difference.path) for place in places]
            reading = read_as(named, contents, card)
            if not reading.is_lines:
                old, new = map(reading.decode, contents)
                version = reading.format.version_key if reading.format is not None else ""
                fields[difference.path] = tuple(
                    replace(each, is_version=True) if version and each.name == version else each
                    for each in _inside(old, new, Keys(reading.keys))
                )
        except KindredError as error:
            if known:
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


def _as_installed(path: str, card: Card | None) -> str:
    """Return a path as it is in an install: a release has no folder for the program."""
    inside = f"{_PROGRAM}/{path}"
    return (
        inside
        if card is not None and card.format_of(path) is None and card.format_of(inside)
        else path
    )


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
    index: Index = {}
    for each in _by_leaf(differences(*values, keys)):
        if isinstance(each.before, list) and isinstance(each.after, list):
            yield FieldDifference(each.name or "the whole", *_members(each.before, each.after))
            continue
        sides = [
            None
            if value is ABSENT
            else shown.get(resolved(whole, each.at, index) or (), told(value))
            for value, whole, shown in zip((each.before, each.after), values, texts, strict=True)
        ]
        before, after = sides
        yield FieldDifference(each.name or "the whole", before, after)


def _by_leaf(found: Iterable[Differing]) -> Iterator[Differing]:
    """Yield differences; a mapping that came or went, and is no record, field by field."""
    for each in found:
        sides = each.before, each.after
        inner = next((side for side in sides if side is not ABSENT), None)
        if ABSENT in sides and isinstance(inner, dict) and inner and not each.is_record:
            for key, value in inner.items():
                before, after = (ABSENT if side is ABSENT else value for side in sides)
                yield from _by_leaf([Differing((*each.at, key), before, after)])
        else:
            yield each


def _members(old: list[Any], new: list[Any]) -> tuple[str, str]:
    """Return the members of a list that went and that came; all, where only their order differs."""
    before, after = ([frozen(each) for each in side] for side in (old, new))
    known, left = {*before}, {*after}
    gone = [each for each, key in zip(old, before, strict=True) if key not in left]
    came = [each for each, key in zip(new, after, strict=True) if key not in known]
    return (told(gone), told(came)) if gone or came else (told(old), told(new))


def _is_kept(entry: Entry, path: str) -> bool:
    return not entry.lacks(path)


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

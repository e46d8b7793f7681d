"""Origin: which release somebody's files were made from, told by their files, records and fields.

A wrong base is worse than none: it turns what the release changed into somebody's edits. So a base is taken
only where it is clearly nearer than any other, and the evidence is told.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import Struct

from ..cards import PROGRAM, Card, Install
from ..errors import DecisionNeeded, KindredError, UsageError
from ..formats import Document
from ..ledger import Ledger, Release
from ..merge import Keys, differences, values_of
from ..places import FILE, AnyPlace, Place, Tree, read_bytes
from ..planning.reading import Reading, read_as
from ..progress import Progress
from ..wording import count
from .sides import Side, opened_side

__all__ = ["BaseMatch", "find_base", "match_bases"]

_COMPARED = 12  # releases that are compared inside files, the likest by files
_MOST_FILES = 200  # of a release that are
_LARGEST = 16 << 20
_WHOLE = 100  # what a file counts that cannot be compared inside, in fields
_UNKNOWN = 20  # and one that the release does not have
_SHARE = 0.5  # of fields and files that must agree with a base
_CLEAR = 1.5  # so many times as far the next best must be
_APART = 4  # and so many fields farther at least


class BaseMatch(Struct, frozen=True):
    """Somebody's files held against a release: files that are the same, and how those that differ do.

    `agree` and `differ` are fields of the files that are not the same; `unread` are files that could not be
    compared inside, `unknown` those the release does not have, `missing` those it has and they do not.

    >>> kept = kl.shelve("downloads/mossferry-1.4.zip", card, ledger=ledger)
    >>> str(kl.match_bases(install, ledger=ledger)[0])
    'mossferry@1.4: 193 files the same, 1 edited'
    """

    release: Release
    same: int
    edited: tuple[str, ...]
    agree: int
    differ: int
    unread: tuple[str, ...]
    unknown: tuple[str, ...]
    missing: tuple[str, ...]

    @property
    def distance(self) -> int:
        """How far the files are from the release, in fields."""
        return self.differ + _WHOLE * len(self.unread) + _UNKNOWN * len(self.unknown)

    @property
    def share(self) -> float:
        """How much of what can be compared agrees, from 0 to 1: files, and fields of those that differ."""
        files = self.same + len(self.edited)
        inside = self.agree / (self.agree + self.differ) if self.agree + self.differ else 0.0
        read = len(self.edited) - len(self.unread)
        return (self.same + read * inside) / files if files else 0.0

    def __str__(self) -> str:
        """Return the evidence in a line.

        "mossferry@1.3: 7 files the same, 2 edited (412 of 420 fields agree), 1 unknown"
        """
        parts = [f"{count(self.same, 'file')} the same"]
        if self.edited:
            inside = f"{self.agree:,} of {self.agree + self.differ:,} fields agree"
            parts.append(f"{len(self.edited):,} edited" + (f" ({inside})" if self.agree else ""))
        for paths, word in ((self.unknown, "not in it"), (self.missing, "of it missing")):
            if paths:
                parts.append(f"{len(paths):,} {word}")
        return f"{self.release.name}: {', '.join(parts)}"


def match_bases(
    mine: Install | AnyPlace,
    *,
    ledger: Ledger,
    card: Card | None = None,
    progress: Progress | None = None,
) -> tuple[BaseMatch, ...]:
    """Hold somebody's files against the releases on the shelf they may be made from; the nearest first.

    `card` is that of their title, where they are no install: a mod, say.

    Raises:
        UsageError: their title is not known.
        PlaceError: they cannot be read.

    >>> kept = kl.shelve("downloads/mossferry-1.4.zip", card, ledger=ledger)
    >>> [(each.release.name, len(each.edited)) for each in kl.match_bases(install, ledger=ledger)]
    [('mossferry@1.4', 1)]
    """
    known = card or (mine.card if isinstance(mine, Install) else None)
    if known is None:
        raise UsageError(
            "the title of these files is not known", remedy="Give its card: `card=CARD`."
        )
    side = opened_side(mine, known, ledger=ledger, progress=progress)
    releases = ledger.shelf.releases(known.title)
    return tuple(_matched(side, known, ledger=ledger, releases=releases))


def _matched(
    mine: Side, card: Card, *, ledger: Ledger, releases: Iterable[Release]
) -> list[BaseMatch]:
    by_files = [_by_files(mine.tree, card, release, ledger) for release in releases]
    by_files.sort(key=lambda one: (len(one.edited) + len(one.unknown), -one.same))
    inside = [_inside(mine, card, one, ledger) for one in by_files[:_COMPARED]]
    return sorted(inside, key=lambda one: (one.distance, len(one.missing), -one.same))


def find_base(
    mine: Side, card: Card, *, ledger: Ledger, progress: Progress | None = None
) -> tuple[Side, BaseMatch, tuple[str, ...]]:
    """Return the release that somebody's files were made from, with the evidence, and what speaks against it.

    Where their version is known, only releases of that version count.

    Raises:
        UsageError: nothing on the shelf is near enough.
        DecisionNeeded: several are about as near, and differ in the files that count.
    """
    releases = ledger.shelf.releases(card.title)
    if mine.version is not None:
        known = [
            each for each in releases if each.version and card.build(each.version) == mine.version
        ]
        if not known:
            raise UsageError(
                f"the shelf has no {card.name} {mine.version}, which these files are of",
                where=mine.name,
                remedy="Put it there (kindred shelf add FILE), or say what they were made from:"
                " `old=WHERE`.",
            )
        releases = known
    found = _matched(mine, card, ledger=ledger, releases=releases)
    if not found or found[0].share < _SHARE:
        nearest = f" The nearest is {found[0]}." if found else ""
        raise UsageError(
            f"no release on the shelf is what these files were made from.{nearest}",
            where=mine.name,
            remedy=_where_to_get(found, card),
        )
    best = found[0]
    rivals = [one for one in found[1:] if not _is_clear(best, one)]
    others = [one for one in rivals if not _alike(mine, best.release, one.release, card, ledger)]
    if others:
        raise DecisionNeeded(
            "these files could be made from more than one release",
            where=mine.name,
            choices=tuple(map(str, (best, *others))),
            remedy="Say which: `old=release:NAME`.",
        )
    against = [f"as near, and the same in these files: {one.release.name}" for one in rivals]
    farther = [one for one in found[1:] if one not in rivals]
    if farther:
        against.append(f"the next is {farther[0]}")
    side = opened_side(ledger.shelf.place(best.release), card, ledger=ledger, progress=progress)
    return side, best, tuple(against)


def _is_clear(best: BaseMatch, other: BaseMatch) -> bool:
    return other.distance >= max(best.distance * _CLEAR, best.distance + _APART)


def _where_to_get(found: Sequence[BaseMatch], card: Card) -> str:
    near = [one for one in found[:2] if one.same]
    if len(near) == 2:
        names = " and ".join(one.release.name for one in near)
        return (
            f"They may be of a build between {names}: put it on the shelf (kindred shelf add FILE), or say"
            " what they were made from: `old=WHERE`."
        )
    return (
        f"Put the {card.name} they were made from on the shelf: kindred shelf add FILE; or say where it is:"
        " `old=WHERE`."
    )


def _by_files(mine: Tree, card: Card, release: Release, ledger: Ledger) -> BaseMatch:
    here = {
        path.removeprefix(f"{PROGRAM}/"): node.digest.hex()
        for path, node in mine.items()
        if node.kind == FILE and node.digest
    }
    there = {
        path: digest
        for path, digest in ledger.shelf.files(release).items()
        if not (card.file.categories and card.category_of(f"{PROGRAM}/{path}"))
    }
    same = {path for path, digest in here.items() if there.get(path) == digest}
    both = here.keys() & there.keys()
    return BaseMatch(
        release,
        len(same),
        tuple(sorted(both - same)),
        0,
        0,
        (),
        tuple(sorted(here.keys() - there.keys())),
        tuple(sorted(there.keys() - here.keys())),
    )


def _inside(mine: Side, card: Card, match: BaseMatch, ledger: Ledger) -> BaseMatch:
    """Compare the files that are not the same, field by field."""
    place = ledger.shelf.place(match.release)
    held = place.held if match.edited else Tree()
    agree = differ = 0
    unread = []
    for path in match.edited[:_MOST_FILES]:
        node = mine.tree[f"{PROGRAM}/{path}"]
        try:
            if path not in held or max(node.size, held[path].size) > _LARGEST:
                raise UsageError("its content is not here")
            found = _fields(mine.place, place, path, card)
        except KindredError:
            unread.append(path)
            continue
        agree, differ = agree + found[0], differ + found[1]
    unread += match.edited[_MOST_FILES:]
    return BaseMatch(
        match.release,
        match.same,
        match.edited,
        agree,
        differ,
        tuple(unread),
        match.unknown,
        match.missing,
    )


def _fields(mine: Place, theirs: Place, path: str, card: Card) -> tuple[int, int]:
    """Return how many fields of a file agree, and how many differ."""
    inner = f"{PROGRAM}/{path}"
    here, there = read_bytes(mine, inner), read_bytes(theirs, path)
    reading: Reading = read_as(inner, (here, there), card)
    if reading.is_lines:
        return _lines(here, there)
    documents: list[Document] = [reading.decode(data) for data in (here, there)]
    values = [values_of(document) for document in documents]
    found = differences(values[1], values[0], Keys(reading.keys))
    apart = sum(max(_size(each.before), _size(each.after)) for each in found)
    return max(0, _size(values[1]) - apart), apart


def _lines(here: bytes, there: bytes) -> tuple[int, int]:
    one, other = here.splitlines(), there.splitlines()
    agree = len(set(one) & set(other))
    return agree, max(len(set(one)), len(set(other))) - agree


def _size(value: object) -> int:
    if isinstance(value, dict):
        return sum(map(_size, value.values())) or 1
    return sum(map(_size, value)) or 1 if isinstance(value, list) else 1


def _alike(mine: Side, one: Release, other: Release, card: Card, ledger: Ledger) -> bool:
    """Tell whether two releases hold the same in the files that count."""
    files = [ledger.shelf.files(release) for release in (one, other)]
    paths = [path.removeprefix(f"{PROGRAM}/") for path in mine.tree.leaves]
    return all(files[0].get(path) == files[1].get(path) for path in paths)

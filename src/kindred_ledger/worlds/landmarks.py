"""Landmarks: a few things that must be there, must be gone, or must be new, looked up in a world.

What always holds: a landmark is looked up in the data, and told with where to look in the game: a person sees
whether it is right, and a program only whether it is there.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np
from msgspec import Struct

from ..cards.world_models import LandmarkTable
from ..cards.worlds import chained
from ..errors import UsageError
from ..finding import Finding
from ..suggestions import did_you_mean
from .file_ids import FileIds, positions_of, positions_used
from .opened import OpenedWorld, read_files

__all__ = ["FoundLandmark", "Landmark", "find_landmarks", "landmark_findings", "read_landmark"]

Landmark = LandmarkTable


class FoundLandmark(Struct, frozen=True):
    """A landmark, and what of it is in a world: how many within its reach, the nearest, and in which file.

    `content` is what it is called by the list in force; "" if that has it under no name.

    >>> bell, _ = kl.find_landmarks(kl.open_world(fen_install))
    >>> bell.count, bell.nearest, bell.is_right
    (1, (72, 66), True)
    """

    landmark: Landmark
    content: str
    count: int
    nearest: tuple[int, int] | None
    where: str

    @property
    def is_there(self) -> bool:
        """Whether any of it is there."""
        return self.count > 0

    @property
    def is_right(self) -> bool:
        """Whether it is as expected: there, or gone."""
        return self.is_there != (self.landmark.expect == "gone")


def read_landmark(text: str) -> Landmark:
    """Read a landmark as a person types it: `CONTENT@X,Z`; `~N` is within N tiles, `!` in front is gone.

    >>> found = read_landmark("!reedlight:bell@72,66~2")
    >>> found.content, found.x, found.z, found.within, found.expect
    ('reedlight:bell', 72, 66, 2, 'gone')

    Raises:
        UsageError: it is none.
    """
    gone = text.startswith("!")
    content, at, place = text.removeprefix("!").rpartition("@")
    place, _, within = place.partition("~")
    parts = place.split(",")
    try:
        if not at or not content or len(parts) != 2:
            raise ValueError
        x, z = (int(part) for part in parts)
        reach = int(within or 0)
    except ValueError:
        raise UsageError(
            f"{text!r} is no landmark", remedy="Write it like bog:bell@72,66 or bog:bell@72,66~3."
        ) from None
    return LandmarkTable(
        name=content, content=content, x=x, z=z, within=reach, expect="gone" if gone else "there"
    )


def find_landmarks(
    opened: OpenedWorld, more: Sequence[Landmark] = (), *, became: Mapping[str, str] = {}
) -> list[FoundLandmark]:
    """Look up the landmarks of the card and those that a person names.

    `became` says what content is called by now, beyond the card's aliases.

    Raises:
        UsageError: no list has ever had content of that name.

    >>> [seen.is_right for seen in kl.find_landmarks(kl.open_world(fen_install, "northbog"))]
    [True, True]
    """
    wanted = [*opened.kind.table.landmarks, *more]
    named = [(each, _meant(opened, each, became)) for each in wanted]
    for each, found in named:
        if not found and each in more and each.expect != "gone":
            known = [name for ids in opened.lists.values() for name in ids.numbers]
            raise UsageError(
                f"the list has no {each.content}", remedy=did_you_mean(each.content, known)
            )
    tallies = [_Tally() for _ in named]
    for path, ids in read_files(opened):
        if isinstance(ids, FileIds):
            _look(opened, path, ids, named, tallies)
    return [
        FoundLandmark(each, found[0][1] if found else "", tally.count, tally.nearest, tally.where)
        for (each, found), tally in zip(named, tallies, strict=True)
    ]


class _Tally:
    def __init__(self) -> None:
        self.count = 0
        self.far = float("inf")
        self.nearest: tuple[int, int] | None = None
        self.where = ""


def _meant(opened: OpenedWorld, each: Landmark, became: Mapping[str, str]) -> list[tuple[str, str]]:
    """Return the lists that have the content of a landmark, and what it is called there."""
    out = []
    for of, ids in opened.lists.items():
        name = became.get(each.content, each.content)
        aliases = opened.kind.table.lists[of].aliases
        for now in (name, *chained(aliases, name)):
            if now in ids.numbers:
                out.append((of, now))
                break
    return out


def _look(
    opened: OpenedWorld,
    path: str,
    ids: FileIds,
    named: Sequence[tuple[Landmark, list[tuple[str, str]]]],
    tallies: Sequence[_Tally],
) -> None:
    for cells in ids.cells:
        numbers = [
            [opened.lists[of].numbers[name] for of, name in found if of == cells.field.list]
            for _, found in named
        ]
        every = {number for some in numbers for number in some}
        if not every or not np.isin(cells.numbers, list(every)).any():
            continue
        places, tiles = positions_of(ids, cells), positions_used(ids, cells)
        for (each, _), some, tally in zip(named, numbers, tallies, strict=True):
            if not some:
                continue
            if places is not None:
                there = np.isin(cells.numbers, some)
                x, z = places.x[there], places.z[there]
            elif tiles is not None and cells.used_at is not None:
                there = np.isin(cells.numbers[cells.used_at], some)
                x, z = tiles.x[there], tiles.z[there]
            else:
                continue
            far = np.maximum(abs(x - each.x), abs(z - each.z))
            tally.count += int((far <= each.within).sum())
            if len(far) and far.min() < tally.far:
                best = int(far.argmin())
                tally.far, tally.nearest = float(far[best]), (int(x[best]), int(z[best]))
                tally.where = path


def landmark_findings(
    seen: Iterable[FoundLandmark], *, before: Iterable[FoundLandmark] = ()
) -> list[Finding]:
    """Return what is to be said of landmarks that are not as expected, or were so before already.

    >>> kl.landmark_findings(kl.find_landmarks(kl.open_world(fen_install, "northbog")))
    []
    """
    old = {each.landmark.name: each for each in before}
    out = []
    for each in seen:
        mark = each.landmark
        was = old.get(mark.name)
        if not each.is_right:
            told = "is still there" if mark.expect == "gone" else "is not there"
            near = (
                f"; the nearest is at {each.nearest[0]}, {each.nearest[1]}" if each.nearest else ""
            )
            what = f"{mark.content} {told}, within {mark.within} of {mark.x}, {mark.z}{near}"
            remedy = f"Look in the game: {mark.look}." if mark.look else ""
            out.append(Finding.error("landmark", what, where=mark.name, remedy=remedy))
        elif was is not None and mark.expect == "new" and was.is_there:
            what = f"{mark.content} was there before already: it is not new"
            out.append(Finding.warning("landmark-not-new", what, where=mark.name))
    return out

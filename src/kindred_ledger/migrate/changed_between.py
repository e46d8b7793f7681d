"""What a card says that changed between the builds a runbook was written for and another one."""

from __future__ import annotations

from ..cards import Card
from ..errors import KindredError
from ..versions import Version, VersionRange

__all__ = ["changed_between"]


def changed_between(card: Card, written_for: str, to: Version) -> list[str]:
    """Return in words what a build has that no build of a range had: formats, folders, programs it needs."""
    range = VersionRange.parse(written_for, card.scheme)
    found = []
    for name, format in card.formats.items():
        old = {row.writes for row in format.table.builds if _meets(row.builds, range, card)}
        try:
            new = format.text_of(format.written_by(to))
        except KindredError:
            continue  # the build has no such files
        if old and new not in old:
            found.append(f"{name} is written in format {new}")
    for move in card.file.update.moves:
        since = card.build(move.since)
        if since <= to and since not in range and not _is_before(range, since):
            found.append(f"{move.source} moved to {move.to}")
    for need in card.file.requires:
        wanted = VersionRange.parse(need.builds, card.scheme)
        if to in wanted and not _meets(need.builds, range, card):
            found.append(f"it needs {need.name} {need.versions}")
    return found


def _meets(builds: str, range: VersionRange, card: Card) -> bool:
    """Tell whether two ranges have a bound of one in the other: whether they meet."""
    other = VersionRange.parse(builds, card.scheme)
    ends = [bound for _, bound in (*range.bounds, *other.bounds)]
    return any(end in range and end in other for end in ends)


def _is_before(range: VersionRange, version: Version) -> bool:
    """Tell whether a version lies below all of a range."""
    lows = [bound for sign, bound in range.bounds if sign in (">=", ">", "==", "=")]
    return any(version < low for low in lows)

"""Completeness: groups of fields that came out empty where another program converted a file.

The card says what a file of each format version must hold. A group that is empty although an older backup of
the file, in an older format, has it, was lost in between: the rescue fills it from there. What no backup has
is beyond rescue, and said to be.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from ..cards import Format
from ..convert.rescue import gaps_of, rescue
from ..errors import KindredError
from ..formats import FOLDER, Document
from ..ledger import Ledger
from ..places import read_bytes
from ..planning.modded import Modded
from ..planning.rearranged import Rearranged
from ..versions import Version
from .faults import Fault, mended, warning

__all__ = ["gap_faults"]

_MOST_ENTRIES = 50  # of the ledger that are looked through for one file


def gap_faults(found: Modded, ledger: Ledger | None) -> Iterator[Fault]:
    """Yield which files of an install lack what the card says they must hold."""
    card = found.card
    if card is None:
        return
    for path in found.tree.files:
        format = card.format_of(path)
        if format is None or not format.table.required or format.table.codec == FOLDER:
            continue
        try:
            data = read_bytes(found.place, path)
            document = format.decode(data)
            version = format.version_of(document, path)
        except KindredError:
            continue  # what cannot be read is another finding
        groups = format.table.required.get(version.text, ())
        gaps = [gap.field for gap in gaps_of(document, groups)]
        if gaps:
            yield _fault(path, gaps, format, version, found, ledger)


def _fault(
    path: str, gaps: list[str], format: Format, version: Version, found: Modded,
    ledger: Ledger | None,
) -> Fault:  # fmt: skip
    told = f"it holds nothing under {', '.join(gaps)}, as if another program had converted it"
    source = _source(path, gaps, format, version, found, ledger) if ledger is not None else None
    if source is None:
        if ledger is None:
            return warning("group-empty", told, path, remedy=_LOOK)
        told += "; no backup of it in an older format has that"
        return warning("group-beyond-rescue", told, path, remedy=_LOOK)
    name, older = source
    fault = warning("group-empty", told, path)
    mend = partial(_rescue, path=path, older=older, format=format)
    return mended(fault, f"fill it from entry {name}", mend)


_LOOK = "If it was never there, all is well; else look for an older copy: kindred file rescue"


def _source(
    path: str, gaps: list[str], format: Format, version: Version, found: Modded, ledger: Ledger
) -> tuple[str, bytes] | None:
    """Return the newest backup of a file in an older format that has what is empty now.

    None if a backup in the format of today ever had it: then somebody emptied it since.
    """
    assert found.card is not None
    best: tuple[str, bytes] | None = None
    for entry in list(reversed(ledger.entries()))[:_MOST_ENTRIES]:
        if entry.tag.title != found.card.title:
            continue
        place = ledger.place(entry)
        if path not in place.tree:
            continue
        try:
            data = read_bytes(place, path)
            document = format.decode(data)
            was = format.version_of(document, path)
        except KindredError:
            continue
        if was == version and not _all_empty(document, gaps):
            return None
        if was < version and best is None and not _all_empty(document, gaps):
            best = (entry.id, data)
    return best


def _all_empty(document: Document, groups: list[str]) -> bool:
    return len(gaps_of(document, groups)) == len(groups)


def _rescue(made: Rearranged, *, path: str, older: bytes, format: Format) -> None:
    found = rescue(read_bytes(made, path), older, format, name=path)
    if found.filled:
        made.put(path, found.data, f"filled: {', '.join(group for group, _ in found.filled)}")

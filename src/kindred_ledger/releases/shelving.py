"""Shelving: putting the unmodified files of a build on the ledger's shelf, under the right label."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from ..cards import PROGRAM, Card, Install
from ..errors import DecisionNeeded, UsageError
from ..finding import Finding
from ..formats.kinds import claimed_kind
from ..ledger import Ledger, Release, ReleaseTag, Tag
from ..places import AnyPlace, Place, Tree, as_place, discard, open_place
from ..planning.combining import Combined, combine
from ..progress import Progress
from .release_index import IndexedRelease, parts_with
from .sources import RetryPolicy, Source

__all__ = ["Shelved", "shelve", "shelve_from"]

_MERGED = 1 << 20  # bytes; a larger text is not merged by hand or machine
_PLAIN = ReleaseTag()
_TEXTS = frozenset(("json", "ini", "toml", "yaml", "xml", "csv", "text"))


class Shelved(Struct, frozen=True):
    """A release on the shelf, and what was noticed while it was put there.

    >>> shelved = kl.shelve("downloads/mossferry-1.4.zip", card, ledger=ledger)
    >>> shelved.release.version, shelved.findings
    ('1.4', ())
    """

    release: Release
    findings: tuple[Finding, ...] = ()


def shelve(
    parts: AnyPlace | Sequence[AnyPlace],
    card: Card,
    *,
    ledger: Ledger,
    version: str = "",
    label: ReleaseTag = _PLAIN,
    digests_only: bool = False,
    note: str = "",
    progress: Progress | None = None,
) -> Shelved:
    """Shelve a release that lies in one part (a folder, zip or tar) or in several.

    `version` is what people say it is; nothing is shelved under a version that its own files deny.
    Empty takes what they say; a build of which nothing tells a version needs the label's date.
    With `digests_only` contents are kept of small texts and of what the card describes, for merging.

    Raises:
        UsageError: the label is wrong, or another release has it.
        DecisionNeeded: parts collide, or nothing tells what it is.

    >>> kl.shelve("downloads/mossferry-1.4.zip", card, ledger=ledger).release.version
    '1.4'
    """
    one = isinstance(parts, (str, os.PathLike)) or hasattr(parts, "survey")
    several: Any = [parts] if one else parts
    opened = [as_place(part) for part in several]
    combined = combine(opened, ledger=ledger, card=card, progress=progress)
    if combined.collisions:
        raise DecisionNeeded(
            f"the parts disagree about {len(combined.collisions)} files",
            choices=tuple(f"{c.path}: {' and '.join(c.parts)}" for c in combined.collisions[:20]),
            remedy="They are of different builds, or one is damaged. Shelve each for itself.",
        )
    found = card.open_release(combined.place)
    told = _version(found, version, label)
    tag = Tag(card.title, told, ", ".join(e.source for e in found.evidence if e.version))
    release = ledger.shelf.add(
        combined.place,
        tag,
        label,
        tree=combined.tree,
        contents=_merged(card, combined.tree) if digests_only else None,
        note=note,
        progress=progress,
    )
    return Shelved(release, tuple(_noticed(combined, opened)))


def _version(found: Install, version: str, label: ReleaseTag) -> str:
    """Return the version to shelve it under: what is said, if the files do not deny it."""
    said = found.card.build(version) if version else None
    told = [piece for piece in found.evidence if piece.version]
    wrong = [piece for piece in told if said is not None and piece.version != said]
    if wrong:
        raise UsageError(
            f"this is not {version}: {'; '.join(map(str, wrong))}",
            where=found.place.location,
            remedy="Shelve it as what it is, or look whether it is the right download.",
        )
    if said is not None:
        return said.text
    if not told:
        if label.date:
            return ""
        raise DecisionNeeded(
            "nothing tells which build this is",
            where=found.place.location,
            choices=tuple(map(str, found.evidence)),
            remedy="Say `build=VERSION`, or `date=DATE` for a build that has none.",
        )
    return found.sure_version.text


def _merged(card: Card, tree: Tree) -> Callable[[str], bool]:
    """Return what tells of which files contents are kept beside the digests."""
    telling = {*card.file.program.markers, *(table.file for table in card.file.detect)}
    telling |= {table.file for axis in card.file.axes.values() for table in axis.detect}

    def wanted(path: str) -> bool:
        if path in telling or card.format_of(f"{PROGRAM}/{path}"):
            return True
        return claimed_kind(path) in _TEXTS and tree[path].size <= _MERGED

    return wanted


def _noticed(combined: Combined, parts: Sequence[Place]) -> Iterator[Finding]:
    if len(parts) > 1:
        what = f"{len(parts)} parts, {combined.shared} files in more than one, all alike"
        yield Finding.note("parts-agree", what)
    if combined.extras:
        shown = ", ".join(combined.extras[:5])
        yield Finding.note("left-out", f"beside it lay, and were left out: {shown}")


def shelve_from(
    source: Source,
    release: IndexedRelease,
    card: Card,
    *,
    ledger: Ledger,
    digests_only: bool = False,
    patience: RetryPolicy | None = None,
    progress: Progress | None = None,
) -> Shelved:
    """Fetch a release that an index has, verify it, and shelve it under the label of the index.

    What was fetched waits in the ledger's `work` until it is shelved, so that a run that was cut off
    goes on there.

    Raises:
        PlaceError: nothing comes any more, or what came is not what the index describes.
        UsageError: the files are of another version than the index says.

    >>> source = kl.source_at("downloads/releases.json")
    >>> chosen = kl.choose_release(kl.read_index(source.name, source.read))
    >>> kl.shelve_from(source, chosen.release, card, ledger=ledger).release.version
    '2.0'
    """
    parts = parts_with(release, ())
    room = os.path.join(ledger.folder("work"), f"fetched-{parts[0].digest[:16]}")
    watch = progress or Progress()
    paths = [
        source.fetch(part, room, patience=patience or RetryPolicy(), progress=watch)
        for part in parts
    ]
    label = ReleaseTag(release.channel, release.date, release.platform, release.variant)
    shelved = shelve(
        [open_place(path) for path in paths],
        card,
        ledger=ledger,
        version=release.version,
        label=label,
        digests_only=digests_only,
        note=f"from {source.location}",
        progress=progress,
    )
    discard(room)
    return shelved

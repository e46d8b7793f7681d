"""Shelf: the releases a ledger keeps: the unmodified files of a build, whole or by their digests.

A release is an entry that says more of itself. Of one that is shelved by digests its tree stands in the
entry all the same, so that edits can be told from originals; only contents that were not kept are
not given. What always holds: no policy retires a release, and two releases of one name are told
apart by channel, platform, variant, date or digest, never by which came last.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import cached_property, partial
from typing import Any, Protocol

from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ..errors import DecisionNeeded, UsageError, VersionError
from ..places import FILE, Place, Tree
from ..progress import Progress
from ..versions import Version
from .entries import Entry, ReleaseTag, Tag
from .entry_place import EntryPlace
from .index import Index
from .manifest import files_of

__all__ = ["STABLE", "Release", "ReleasePlace", "Shelf", "tree_digest"]

STABLE = "stable"  # the channel that is taken before all others
_ANY_PLATFORM = ("", "any")


class Release(Struct, frozen=True):
    """A shelved release: the entry it is, and how it is named.

    >>> release = kl.shelve("downloads/mossferry-1.4.zip", card, ledger=ledger).release
    >>> release.title, release.version
    ('mossferry', '1.4')
    """

    entry: Entry

    def __repr__(self) -> str:
        return f"<Release {self.name}>"

    @property
    def title(self) -> str:
        """What it is a release of."""
        return self.entry.tag.title

    @property
    def version(self) -> str:
        """Its version; empty for a build that has none."""
        return self.entry.tag.version

    @property
    def label(self) -> ReleaseTag:
        """What tells it from others of its version."""
        assert self.entry.release is not None
        return self.entry.release

    @property
    def name(self) -> str:
        """What people type for it: title and version, or the date of a build that has none."""
        of = self.version or self.label.date or self.label.digest[:12]
        return f"{self.title}@{of}"

    def __str__(self) -> str:
        label = self.label
        parts = [label.channel if label.channel != STABLE else "", label.platform, label.variant]
        parts += [f"of {label.date}" if label.date and self.version else ""]
        told = ", ".join(filter(None, parts))
        return f"{self.name} ({told})" if told else self.name


class Holder(Protocol):
    """What a shelf asks of the ledger it is in."""

    @property
    def index(self) -> Index: ...

    def all_entries(self) -> list[Entry]: ...

    def drop_release(self, entry: Entry) -> None: ...

    def enter_release(
        self,
        place: Place,
        tag: Tag,
        tree: Tree,
        held: Tree,
        label: ReleaseTag,
        *,
        note: str = "",
        progress: Progress | None = None,
    ) -> Entry: ...

    def release_columns(self, entry: Entry) -> dict[str, Any]: ...

    def release_tree(self, entry: Entry) -> Tree: ...

    def scan(self, place: Place, *, progress: Progress | None = None) -> Tree: ...

    def tree(self, entry: Entry) -> Tree: ...


class ReleasePlace(EntryPlace):
    """A shelved release as a place: its whole tree, and the contents that were kept of it.

    >>> place = ledger.shelf.place(kl.shelve("downloads/mossferry-2.0.zip", card, ledger=ledger).release)
    >>> kl.update(install, place, ledger=ledger).summary
    'update Mossferry from 1.4 to 2.0, over the top'
    """

    def __init__(self, release: Release, ledger: Holder) -> None:
        super().__init__(release.entry, ledger.index, lambda: ledger.release_tree(release.entry))
        self.release = release
        self._read_held: Callable[[], Tree] = partial(ledger.tree, release.entry)

    @property
    def location(self) -> str:
        return f"release:{self.release.name}"

    @cached_property
    def held(self) -> Tree:
        """What of the release has its contents here."""
        return self.tree if self.release.label.whole else self._read_held()

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield contents; see `EntryPlace.read`.

        Raises:
            UsageError: only the digest of a file is shelved.
        """
        wanted = list(paths)
        for path in wanted:
            if path in self.tree and path not in self.held:
                raise UsageError(
                    f"of {path} only the digest is shelved",
                    where=self.location,
                    remedy="Shelve the release whole: kindred shelf add FILE, or kindred shelf fetch.",
                )
        yield from super().read(wanted)


class Shelf:
    """The releases of one ledger."""

    def __init__(self, ledger: Holder) -> None:
        self._ledger = ledger

    def add(
        self,
        place: Place,
        tag: Tag,
        label: ReleaseTag,
        *,
        tree: Tree | None = None,
        contents: Callable[[str], bool] | None = None,
        note: str = "",
        progress: Progress | None = None,
    ) -> Release:
        """Shelve what a place holds; of contents those that are wanted, None all.

        `tree` is what it holds, if that is known. A release that is there already, under the same
        label and with the same files, is returned as it is, unless contents are missing.

        Raises:
            UsageError: another release has the same label.
            PlaceError, PlaceChanged: it cannot be read, or changes meanwhile.
        """
        ledger = self._ledger
        if tree is None:
            tree = ledger.scan(place, progress=progress)
        held = tree if contents is None else tree.select(contents)
        label = replace(label, digest=tree_digest(tree).hex(), whole=contents is None)
        before = self._twin(tag, label)
        if before is not None and (before.label.whole or not label.whole):
            return before
        entry = ledger.enter_release(place, tag, tree, held, label, note=note, progress=progress)
        if before is not None:
            ledger.drop_release(before.entry)
        return Release(entry)

    def _twin(self, tag: Tag, label: ReleaseTag) -> Release | None:
        for release in self.releases(tag.title):
            other = release.label
            if release.version != tag.version or _sort(other) != _sort(label):
                continue
            if other.digest == label.digest:
                return release
            if release.version or other.date == label.date:
                raise UsageError(
                    f"another release is shelved as {release}",
                    remedy="Say what tells the two apart with `channel=NAME`, `platform=NAME`, `variant=NAME`"
                    f" or `date=DATE`, or remove that one: kindred shelf remove {release.entry.id}",
                )
        return None

    def remove(self, release: Release) -> None:
        """Take a release from the shelf; its space comes back with the next retirement."""
        self._ledger.drop_release(release.entry)

    def releases(self, title: str = "") -> list[Release]:
        """Return the releases, of one title or of all, in the order they were shelved."""
        found = (Release(entry) for entry in self._ledger.all_entries() if entry.release)
        return [release for release in found if title in ("", release.title)]

    def tree(self, release: Release) -> Tree:
        """Return the whole tree of a release, whatever contents of it were kept."""
        return self._ledger.release_tree(release.entry)

    def files(self, release: Release) -> dict[str, str]:
        """Return the digest, in hex, of each file of a release: its tree, for those in a hurry."""
        return files_of(self._ledger.release_columns(release.entry))

    def place(self, release: Release) -> ReleasePlace:
        """Return a release as a place to read from."""
        return ReleasePlace(release, self._ledger)

    def find(
        self, text: str, *, channel: str = "", platform: str = "", variant: str = ""
    ) -> Release:
        """Return the release that `title@version`, `title@date`, an id or a digest's beginning names.

        `title@OLDER..NEWER` is a build without a version that came between two, by their dates.

        Of several with one version the stable one is taken before others; one for all platforms fits
        any that is asked for. If more than one is left, that is a question.

        Raises:
            UsageError: there is none.
            DecisionNeeded: several fit.
        """
        text = text.removeprefix("release:")
        title, at, named = text.partition("@")
        older, between, newer = named.partition("..")
        if at and between:
            found = self._between(title, older, newer)
        else:
            found = [
                one for one in self.releases() if _names(one, title, named if at else text, at)
            ]
        if not found:
            names = ", ".join(dict.fromkeys(one.name for one in self.releases()))
            raise UsageError(
                f"no release {text} is shelved",
                remedy=f"The shelf has: {names}."
                if names
                else "The shelf is empty. Put one there with: kindred shelf add PLACE",
            )
        found = [
            one
            for one in found
            if channel in ("", one.label.channel)
            and (platform in ("", one.label.platform) or one.label.platform in _ANY_PLATFORM)
            and variant in ("", one.label.variant)
        ]
        if not channel and any(one.label.channel == STABLE for one in found):
            found = [one for one in found if one.label.channel == STABLE]
        if len(found) != 1:
            raise DecisionNeeded(
                f"{text} could be {len(found)} releases" if found else f"no release {text} is so",
                choices=tuple(f"{one.entry.id}  {one}" for one in found),
                remedy="Say which by its id: release:ID.",
            )
        return found[0]

    def _between(self, title: str, older: str, newer: str) -> list[Release]:
        """Return the builds without a version that are dated between two versions, or dates."""
        dates = []
        for bound in (older, newer):
            named = [one for one in self.releases(title) if _is_version(bound, one.version)]
            dates.append(
                min((one.label.date for one in named if one.label.date), default=bound)[:10]
            )
        return [
            one
            for one in self.releases(title)
            if not one.version and dates[0] <= one.label.date[:10] <= dates[1]
        ]


def tree_digest(tree: Tree) -> bytes:
    """Return the digest of the files of a tree by path and content: what a release is known by.

    It is the BLAKE3 of a line for each file, in the order of paths by UTF-8 bytes: the digest in
    hex, two spaces, the path.
    """
    lines = (
        f"{node.digest.hex()}  {path}\n".encode()
        for path, node in sorted(tree.items(), key=lambda item: item[0].encode())
        if node.kind == FILE and node.digest is not None
    )
    return blake3(b"".join(lines)).digest()


def _sort(label: ReleaseTag) -> tuple[str, ...]:
    """Return what a label says beside date and digest."""
    return label.channel, label.platform, label.variant


def _is_version(named: str, version: str) -> bool:
    if named == version or not version:
        return named == version
    try:
        return Version.parse(named) == Version.parse(version)
    except VersionError:
        return False


def _names(release: Release, title: str, named: str, at: str) -> bool:
    label = release.label
    if at:
        return release.title == title and (
            _is_version(named, release.version) or (named != "" and label.date.startswith(named))
        )
    ids = (release.entry.id, label.digest)
    return any(id.startswith(named) for id in ids) and len(named) > 3

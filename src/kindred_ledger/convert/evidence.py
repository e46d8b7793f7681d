"""Which format version a file is in that does not say so: by releases and entries that hold the same bytes.

A file that the release of the install's own build ships in this very state is not converted: it is as
that build wants it. Else the builds count that had it first; the install's own counts last, as an update
leaves files of the build before.
"""

from __future__ import annotations

from functools import cached_property

from ..cards import PROGRAM, Card, Format
from ..errors import KindredError
from ..formats import Document
from ..ledger import Ledger
from ..places import Node, Place, Tree, read_bytes, roots_of, same_content
from ..versions import Version

__all__ = ["Evidence"]


class Evidence:
    """What is known of the files of a place: `build` is the install's own, `said` what the caller said."""

    def __init__(
        self, ledger: Ledger, card: Card, place: Place, *, build: Version | None, said: str = ""
    ) -> None:
        self._ledger, self._card, self._place = ledger, card, place
        self._build, self._said = build, said

    def version(
        self, format: Format, path: str, node: Node, document: Document | None = None
    ) -> Version | None:
        """Return the format version of a file that does not say it; None if it stays as it was released.

        Of a pack, `path` is the file in it that would say so, and `document` the pack.

        Raises:
            VersionUntold: nothing tells it, or what there is contradicts itself.
        """
        if self._said:
            return format.scheme.parse(self._said)
        shipped = [build for build, tree in self._releases if same_content(tree.get(path), node)]
        if self._build is not None and self._build in shipped:
            return None
        builds = shipped or self._first_kept(path, node)
        if not builds and self._build is not None:
            builds = [self._build]
        if document is None:
            document = format.decode(read_bytes(self._place, path))
        return format.sure_version_of(document, builds, name=path)

    def _first_kept(self, path: str, node: Node) -> list[Version]:
        """Return the build of the oldest entry of the place that holds a file as it is now."""
        for build, tree in self._entries:
            if same_content(tree.get(path), node):
                return [build]
        return []

    @cached_property
    def _releases(self) -> list[tuple[Version, Tree]]:
        found = []
        for release in self._ledger.shelf.releases(self._card.title):
            build = self._read(release.entry.tag.version)
            if build is not None:
                found.append((build, self._ledger.shelf.tree(release).moved_into(PROGRAM)))
        return found

    @cached_property
    def _entries(self) -> list[tuple[Version, Tree]]:
        """The entries of the place, the oldest first."""
        roots = roots_of(self._place)
        found = []
        for entry in sorted(self._ledger.entries(), key=lambda entry: entry.when):
            build = self._read(entry.tag.version) if dict(entry.roots) == roots else None
            if build is not None:
                found.append((build, self._ledger.tree(entry)))
        return found

    def _read(self, text: str) -> Version | None:
        try:
            return self._card.build(text) if text else None
        except KindredError:
            return None

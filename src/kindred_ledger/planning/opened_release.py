"""OpenedRelease: a release, opened and judged, that is to be brought to an install."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

from ..cards import PROGRAM, Card, Install
from ..errors import UsageError
from ..finding import Finding
from ..ledger import Ledger, ReleasePlace
from ..places import DIR, FILE, LINK, AnyPlace, Place, Tree, as_place, check_portable
from ..progress import Progress
from ..versions import Version

__all__ = ["OpenedRelease", "open_release", "opened_release"]

_SHOWN = 5


class OpenedRelease(Struct, frozen=True):
    """A release with its tree, whose paths begin as an install's do.

    `version` is None for a build that has none; `name` says what it is all the same.
    """

    release: Install
    tree: Tree
    version: Version | None
    name: str
    shelved: ReleasePlace | None = None

    @property
    def place(self) -> Place:
        """Where its contents come from."""
        return self.release.place

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What was noticed while it was opened."""
        extras = self.release.extras
        shown = ", ".join(extras[:_SHOWN]) + (" …" if len(extras) > _SHOWN else "")
        what = f"beside the release lay, and stays out: {shown}"
        return (Finding.note("left-out", what),) if extras else ()

    def check_held(self, paths: Iterable[str]) -> None:
        """Raise `UsageError` if the contents of some files are not to be had: only digests are shelved."""
        if self.shelved is None or self.shelved.release.label.whole:
            return
        held = self.shelved.held
        lacking = [path for path in paths if path.removeprefix(f"{PROGRAM}/") not in held]
        if lacking:
            raise UsageError(
                f"of {len(lacking)} files that are needed only digests are shelved, such as {lacking[0]}",
                where=self.shelved.location,
                remedy="Shelve the release whole (kindred shelf add FILE, kindred shelf fetch), or give"
                " its archive instead.",
            )


def open_release(release: Install | AnyPlace, card: Card) -> Install:
    """Open a release of a title; one from the shelf is what the shelf says it is.

    Raises:
        UsageError: it is of another title.
    """
    if isinstance(release, ReleasePlace):
        if release.release.title != card.title:
            raise _other_title(release.release.title, card, release.location)
        return card.open_release(release, version=release.release.version)
    opened = release if isinstance(release, Install) else card.open_release(as_place(release))
    if opened.card.title != card.title:
        raise _other_title(opened.card.name, card, opened.place.location)
    return opened


def opened_release(
    release: Install | AnyPlace, card: Card, *, ledger: Ledger, progress: Progress | None = None
) -> OpenedRelease:
    """Open a release and look at everything in it.

    Raises:
        UsageError: it is of another title, or holds what no release does.
        DecisionNeeded: its version is not certain.
        UnsafeName, UnsafeArchive: it is hostile or damaged.
    """
    opened = open_release(release, card)
    shelved = release if isinstance(release, ReleasePlace) else None
    untitled = shelved.release.name if shelved and not shelved.release.version else ""
    version = None if untitled else opened.sure_version
    tree = ledger.scan(opened.place, progress=progress)
    for path, node in tree.items():
        check_portable(path, where=opened.place.location)
        if node.kind not in (FILE, DIR):
            what = "a link" if node.kind == LINK else "no plain file"
            raise UsageError(
                f"{path} is {what}, which a release must not hold", where=opened.place.location
            )
    return OpenedRelease(opened, tree, version, untitled or opened.sure_version.text, shelved)


def _other_title(name: str, card: Card, where: str) -> UsageError:
    return UsageError(f"this is a release of {name}, the install is of {card.name}", where=where)

"""Recognizing: which release an install was made from, by comparing its tree with shelved ones.

Contents are compared by digest. What the card counts among the user's own (saves, settings, mods) says
nothing about the release, and is left out.
"""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct
from msgspec.structs import replace

from ..cards import PROGRAM, Card, Evidence, Install, as_install
from ..ledger import Ledger, Release
from ..places import FILE
from ..progress import Progress
from ..wording import count

__all__ = ["ReleaseMatch", "known_by_content", "match_releases"]

_ENOUGH = 0.5  # of a release's files must be there unchanged for it to be told by content alone


class ReleaseMatch(Struct, frozen=True):
    """An install held against a release: the paths that are the same, edited, missing or not in it.

    >>> _ = kl.shelve("downloads/mossferry-1.4.zip", card, ledger=ledger)
    >>> match = kl.match_releases(install, ledger)[0]
    >>> match.release.version, match.edited
    ('1.4', ('data/tides.ini',))
    """

    release: Release
    same: int
    edited: tuple[str, ...]
    missing: tuple[str, ...]
    unknown: tuple[str, ...]

    @property
    def share(self) -> float:
        """How much of the release is there unchanged, from 0 to 1."""
        return self.same / max(1, self.same + len(self.edited) + len(self.missing))

    @property
    def is_enough(self) -> bool:
        """Whether the install is of this release rather than of any."""
        return self.same > 0 and self.share >= _ENOUGH

    def __str__(self) -> str:
        """Return it as people say it.

        "mossferry@1.4 with 3 files edited, 2 unknown, 1 missing"
        """
        parts = [
            f"{len(paths)} {word}"
            for paths, word in ((self.unknown, "unknown"), (self.missing, "missing"))
            if paths
        ]
        if self.edited:
            parts.insert(0, f"{count(len(self.edited), 'file')} edited")
        return (
            f"{self.release.name} with {', '.join(parts)}"
            if parts
            else f"{self.release.name}, unedited"
        )


def match_releases(
    install: Install,
    ledger: Ledger,
    releases: Iterable[Release] | None = None,
    *,
    progress: Progress | None = None,
) -> list[ReleaseMatch]:
    """Hold an install against releases; the likest first.

    `releases` None takes all the shelf has of its title. An install that was read before is not
    read again.

    >>> _ = kl.shelve("downloads/mossferry-1.4.zip", card, ledger=ledger)
    >>> kl.match_releases(install, ledger)[0].is_enough
    True
    """
    install = as_install(install)
    tree = ledger.scan(install.place, progress=progress).under(PROGRAM)
    if releases is None:
        releases = ledger.shelf.releases(install.card.title)
    here = {
        path: node.digest.hex()
        for path, node in tree.items()
        if node.kind == FILE and node.digest and not _is_own(install.card, path)
    }
    found = []
    for release in releases:
        files = ledger.shelf.files(release).items()
        there = {path: digest for path, digest in files if not _is_own(install.card, path)}
        found.append(_likeness(here, release, there))
    return sorted(found, key=lambda one: (-one.share, len(one.unknown)))


def known_by_content(
    install: Install, ledger: Ledger, *, progress: Progress | None = None
) -> tuple[Install, ReleaseMatch | None]:
    """Return the release an install was most likely made from, and the install with that as evidence.

    Where something else tells the version, only releases of that version count. None if nothing
    on the shelf is like it.
    """
    releases = ledger.shelf.releases(install.card.title)
    known = install.version
    if known is not None:
        releases = [
            one for one in releases if one.version and install.card.build(one.version) == known
        ]
    found = match_releases(install, ledger, releases, progress=progress) if releases else []
    if not found or (known is None and not found[0].is_enough):
        return install, None
    best = found[0]
    if known is None and best.release.version:
        version = install.card.build(best.release.version)
        piece = Evidence(f"its content ({best})", version)
        install = replace(install, evidence=(*install.evidence, piece))
    return install, best


def _is_own(card: Card, path: str) -> bool:
    return bool(card.file.categories) and bool(card.category_of(f"{PROGRAM}/{path}"))


def _likeness(here: dict[str, str], release: Release, there: dict[str, str]) -> ReleaseMatch:
    same = here.items() & there.items()
    both = here.keys() & there.keys()
    edited = sorted(both - {path for path, _ in same}) if len(same) < len(both) else ()
    return ReleaseMatch(
        release,
        len(same),
        tuple(edited),
        tuple(sorted(there.keys() - both)),
        tuple(sorted(here.keys() - both)),
    )

"""Left-overs: files of older releases that later updates by hand left behind, told from the user's own."""

from __future__ import annotations

from collections.abc import Iterable

from ..ledger import Ledger, Release
from ..places import Tree

__all__ = ["left_over"]


def left_over(
    paths: Iterable[str], tree: Tree, releases: Iterable[Release], *, ledger: Ledger
) -> dict[str, Release]:
    """Return the release that each of some files is left over from; one that nobody shipped is not in it.

    Only what a release had under that very path with that very content counts: what a person put
    there, or changed, is theirs. Paths are relative to the program's folder.
    """
    wanted = set(paths)
    found: dict[str, Release] = {}
    for release in releases if wanted else ():
        shipped = ledger.shelf.files(release)
        found.update(
            (path, release)
            for path in wanted & shipped.keys()
            if (tree[path].digest or b"").hex() == shipped[path]
        )
    return found

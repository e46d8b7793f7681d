"""The books of a change: the plan held against what was scanned before and after."""

from __future__ import annotations

from ..errors import PlaceChanged
from ..finding import Finding
from ..places import Tree, same_content
from ..statement import Statement
from .plan import Plan

__all__ = ["balance"]


def balance(changeset: Plan, after: Tree) -> tuple[tuple[Statement, ...], list[Finding]]:
    """Verify the place against the plan and count both sides of the books.

    Paths that the change does not touch but something else changed meanwhile are noted; they are
    not the change's doing.

    Raises:
        PlaceChanged: what was written is not there.
        BooksUnbalanced: a file has no line, or a line no file.
    """
    before, planned = changeset.before, changeset.after
    touched = {action.path for action in changeset.actions}
    for path in sorted(touched):
        if not same_content(after.get(path), planned.get(path)):
            raise PlaceChanged(
                f"{path} is not what was written there",
                where=changeset.place.location,
                remedy="Something else writes here, or where it came from. Close the game and its launcher,"
                " then run this again.",
            )
    was, out = before.leaves, after.leaves
    meanwhile = {*before.unlike(after), *after.unlike(before)} - touched
    notes = [
        Finding.note("changed-meanwhile", "something else changed it meanwhile", where=path)
        for path in sorted(meanwhile)
    ]
    if meanwhile:
        out = (
            *(path for path in out if path not in meanwhile),
            *(path for path in was if path in meanwhile),
        )
    books = [changeset.preview().balanced(was, out)]
    if changeset.offered is not None and changeset.statements:
        offered = changeset.offered.leaves
        doubtful = changeset.offered.unlike(after)
        away = {p for p in doubtful if not _arrived(p, changeset.offered, before, after)}
        arrived = [path for path in offered if path not in away] if away else offered
        books.append(changeset.statements[0].balanced(offered, arrived))
        return (*books, *changeset.statements[1:]), notes
    return (*books, *changeset.statements), notes


def _arrived(path: str, offered: Tree, before: Tree, after: Tree) -> bool:
    """Tell whether what was offered is there now: as it was, or in a form made from it."""
    here = after.get(path)
    if here is None:
        return False
    return same_content(here, offered[path]) or not same_content(here, before.get(path))

"""The times of folders: what a change makes of them, and which of them come back.

A folder's time is when something in it was last made, moved or removed. A change does that, so the
time it leaves is part of the plan, and of its record; taking the change back brings the earlier time
back, where nothing happened in the folder since. The top folder of a place is in no tree: its time
is not kept. `limits_by_part` tell how exactly times are held where; see `limits_by_part_of`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import TypeGuard

from ..places import DIR, Node, StorageLimits, Tree, limits_at, same_content
from .actions import Action

__all__ = ["dated", "is_of_time", "times_as_before", "times_as_in"]


Holdings = Mapping[str, StorageLimits]


def is_of_time(action: Action) -> bool:
    """Tell whether an action changes nothing but the time of a folder."""
    before, after = action.before, action.after
    return _is_folder(before) and _is_folder(after) and before.mode == after.mode


def dated(before: Tree, actions: Iterable[Action], when: float) -> list[Action]:
    """Return the actions that give a time (seconds since 1970) to folders in which others stir.

    Folders whose time is not known, and those the actions speak of, are left out.
    """
    when_ns = int(when * 10**7) * 100  # what every usual disk can hold
    actions = tuple(actions)
    spoken_of = {action.path for action in actions}
    return [
        Action(folder, node, node._replace(mtime_ns=when_ns), reason="something in it changed")
        for folder in sorted(_folders_of(actions) - spoken_of)
        if _is_dated(node := before.get(folder))
    ]


def times_as_in(
    remembered: Tree,
    change: tuple[Tree, Tree],
    actions: Iterable[Action],
    *,
    limits_by_part: Holdings,
) -> Iterator[Action]:
    """Yield the actions that give folders their times again which will hold what they held.

    `change` is the tree before and after, `actions` what makes the one into the other; folders that
    come into being or go are left out.
    """
    before, after = change
    others = {path.rpartition("/")[0] for path in remembered.keys() ^ after.keys()}
    touched = _folders_of(actions)
    for path, was in remembered.items():
        if was.kind != DIR:
            continue
        here = before.get(path)
        if not (_is_dated(was) and _is_dated(here) and path in after):
            continue
        dated = here._replace(mtime_ns=was.mtime_ns)
        differs = path in touched or limits_at(limits_by_part, path).tells_apart(here, dated)
        if differs and path not in others:  # it will hold what it held
            yield Action(path, here, dated, reason="its time as it was")


def times_as_before(
    was: Tree, became: Tree, now: Tree, *, limits_by_part: Holdings
) -> Iterator[Action]:
    """Yield the actions that give folders, which still are as a change left them, times and modes again."""
    for path, before in was.items():
        left, here = became.get(path), now.get(path)
        if not (_is_folder(before) and _is_folder(left) and _is_folder(here)):
            continue
        limits = limits_at(limits_by_part, path)
        if limits.tells_apart(before, here) and not limits.tells_apart(left, here):
            yield Action(path, here, before, reason="as it was")


def _folders_of(actions: Iterable[Action]) -> set[str]:
    """Return the folders in which actions make, move or remove something."""
    return {
        action.path.rpartition("/")[0]
        for action in actions
        if not same_content(action.before, action.after)
    }


def _is_folder(node: Node | None) -> TypeGuard[Node]:
    return node is not None and node.kind == DIR


def _is_dated(node: Node | None) -> TypeGuard[Node]:
    return _is_folder(node) and node.mtime_ns != 0

"""Worlds after a change: those whose numbers would mean other content, told before it is made."""

from __future__ import annotations

from typing import TypeVar

from msgspec.structs import replace

from ..cards import Card
from ..cards.worlds import IdList, World, read_id_list
from ..changes.plan import Plan
from ..errors import KindredError
from ..finding import Finding
from ..ledger import Ledger
from ..places import read_bytes
from ..wording import count
from .list_in_force import list_in_force

__all__ = ["with_world_findings"]

_P = TypeVar("_P", bound=Plan)


def with_world_findings(change: _P, card: Card, ledger: Ledger) -> _P:
    """Return a change with what is to be known of worlds that it does not bring along.

    Looked at is whether the change brings another id list of the build, and whether the worlds that are there
    carry lists of their own that say something else.
    """
    found = []
    for kind in card.worlds.values():
        for name, table in kind.table.lists.items():
            path = table.build.file.lstrip("/")
            action = next((each for each in change.actions if each.path == path), None)
            if action is None or action.source is None:
                continue
            try:
                data = read_bytes(action.source, action.source_path)
                new = read_id_list(data, table.build, origin=path)
                for world in kind.worlds(change.place, change.before):
                    kept = change.tag.id_lists
                    old = list_in_force(world, name, change.before, kept=kept, ledger=ledger)
                    found.append(_told(world, name, new, old, change))
            except KindredError as odd:
                told = f"whether worlds keep their meaning is not known: {odd.what}"
                found.append(Finding.warning("world-lists-unread", told, where=odd.where))
    some = tuple(each for each in found if each is not None)
    return replace(change, findings=(*change.findings, *some)) if some else change


def _told(world: World, name: str, new: IdList, own: IdList, change: Plan) -> Finding | None:
    if any(action.path == world.list_path(name) for action in change.actions):
        return None
    aliases = world.kind.table.lists[name].aliases
    other = sum(new.numbers.get(each) not in (None, number) for each, number in own.numbers.items())
    gone = sum(each not in new.numbers and each not in aliases for each in own.numbers)
    renamed = sum(each not in new.numbers and each in aliases for each in own.numbers)
    if not (other or gone or renamed):
        return None
    told = f"{count(other + renamed, 'id')} mean something else in this build"
    told += f", and {count(gone, 'name')} of its content are not in it" if gone else ""
    return Finding.warning(
        "world-ids",
        f"{told}: do not open it before it is remapped",
        where=world.folder,
        remedy="See what it would lose: kindred world forecast INSTALL RELEASE",
    )

"""Which id list is in force for a world: what its numbers mean now.

What always holds: a list is taken for granted only if the world carries it, or if nothing known speaks
against it. A world without a list of its own means what the build said that saved it last, which need not be
the one that is installed: where the history has another list, it is asked.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from ..cards import PROGRAM
from ..cards.worlds import IdList, World
from ..errors import DecisionNeeded, IdListError
from ..ledger import Ledger, Record, WorldRemapped, not_undone, relation_of
from ..places import Tree, roots_of

__all__ = ["list_in_force"]

_OURS = ("remap", "reinstate")


def list_in_force(
    world: World, name: str, tree: Tree, *, kept: Mapping[str, bytes], ledger: Ledger | None
) -> IdList:
    """Return what the numbers of a world mean by one list.

    `kept` are the lists that an entry, or an install, keeps with its tag; `ledger` is asked what was there
    before.

    Raises:
        IdListError: no list is there, or it contradicts itself.
        DecisionNeeded: the world carries none, and there were several.
    """
    own = world.own_list(name, tree)
    if own is not None:
        return own
    key = f"{world.kind.name}.{name}"
    installed: IdList | None = None
    if world.kind.table.lists[name].build.file.lstrip("/") in tree:
        installed = world.kind.build_list(name, world.place, tree)
    elif key in kept:
        installed = IdList.unpacked(kept[key])
    if ledger is None:
        return _there(installed, world, name)
    remapped, since = _history(world, ledger)
    if remapped is not None:
        relation = relation_of(remapped.relations, WorldRemapped)
        assert relation is not None
        if since is not None:
            raise _ask(world, name, f"the change {since.id} touched it since it was remapped")
        put_back = _put_back(world, ledger.record(remapped.id), tree, ledger)
        if put_back is None:
            raise _ask(world, name, "files of it were put back from before it was remapped")
        return IdList.unpacked((relation.lists if put_back else relation.after)[name])
    there = _there(installed, world, name)
    for at, packed in _seen(world, key, ledger):
        if not IdList.unpacked(packed).same_as(there):
            raise _ask(world, name, f"{at} had another list than the one that is there now")
    return there


def _put_back(world: World, record: Record, tree: Tree, ledger: Ledger) -> bool | None:
    """Tell whether a world is as it was before a remap, put back by somebody; None if that is not certain.

    A file that is neither as before nor as after was written by the game since, if it is not older than the
    remap.
    """
    start = f"{world.folder}/"
    changed = [path for path in record.paths if path.startswith(start) and path in record.before]
    now = ledger.look(world.place, [path for path in changed if path in tree])
    made = datetime.fromisoformat(record.when).timestamp()
    old = new = 0
    for path in changed:
        node, before, after = now.get(path), record.before.get(path), record.after.get(path)
        if node is None or before is None or after is None or before.digest == after.digest:
            continue
        if node.digest == before.digest:
            old += 1
        elif node.digest == after.digest or node.mtime_ns >= made * 1e9:
            new += 1
        else:
            return None
    return None if old and new else bool(old)


def _there(installed: IdList | None, world: World, name: str) -> IdList:
    if installed is None:
        raise IdListError(
            f"nothing says what the numbers of {world.name} mean: there is no list {name}",
            where=world.place.location,
            remedy="Name the install, release or entry that has the list of the build it was saved with:"
            " `lists_of=RELEASE`.",
        )
    return installed


def _ask(world: World, name: str, why: str) -> DecisionNeeded:
    return DecisionNeeded(
        f"{world.name} carries no list {name}, and {why}",
        where=world.place.location,
        remedy="Say which build saved it last, by the install, release or entry that has its list:"
        " `lists_of=RELEASE`.",
    )


def _records(world: World, ledger: Ledger) -> list[Record]:
    root = roots_of(world.place).get(PROGRAM)
    return [r for r in not_undone(ledger.records()) if dict(r.roots).get(PROGRAM) == root]


def _history(world: World, ledger: Ledger) -> tuple[Record | None, Record | None]:
    """Return the newest remap of a world, and a change that touched it since, other than by us."""
    remapped = since = None
    for record in _records(world, ledger):
        relation = relation_of(record.relations, WorldRemapped)
        if relation is not None and relation.world == world.folder and relation.after:
            remapped, since = record, None
        elif remapped is not None and record.operation not in _OURS:
            start = f"{world.folder}/"
            if any(path.startswith(start) for path in ledger.record(record.id).paths):
                since = record
    return remapped, since


def _seen(world: World, key: str, ledger: Ledger) -> list[tuple[str, bytes]]:
    """Return the lists that entries and changes of the install had, by what had them."""
    root = roots_of(world.place).get(PROGRAM)
    found = [
        (f"the entry {entry.id}", entry.tag.id_lists[key])
        for entry in ledger.entries()
        if key in entry.tag.id_lists and dict(entry.roots).get(PROGRAM) == root
    ]
    found += [
        (f"what the change {record.id} was made on", record.tag.id_lists[key])
        for record in _records(world, ledger)
        if key in record.tag.id_lists
    ]
    return found

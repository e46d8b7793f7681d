"""The core set, and the list of what is switched on: what must be there before anything else works."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

from ..cards.mods import Compatibility, Mod, ModKind, gather, read_mods
from ..errors import FormatError, UsageError
from ..formats import decode, likely_kinds, parse_path
from ..ledger import Entry, Ledger
from ..places import FILE, Place, SubPlace, Tree, look, read_bytes
from ..planning.modded import Modded, released_mod
from ..planning.rearranged import Rearranged
from ..versions import Version
from ..wording import count
from .faults import Fault, error, mended, note, warning

__all__ = ["core_faults", "edit_list", "list_faults", "switch_off"]

_FIRST = "Bring it back before anything else is switched on."


def core_faults(found: Modded, build: Version | None, ledger: Ledger | None) -> Iterator[Fault]:
    """Yield what is missing, not whole or switched off of the mods without which nothing else works."""
    for kind in found.kinds.values():
        there = {mod.id: mod for mod in found.mods if mod.kind == kind.name and mod.id}
        for id in kind.table.core:
            if id not in there:
                yield _missing(found, kind, id, build, ledger)
                continue
            mod = there[id]
            if ledger is not None:
                yield from _not_whole(found, kind, mod, ledger)
            if found.on is not None and id not in found.on:
                told = f"{mod} belongs to the core set, and is switched off"
                yield _listed(
                    found, kind, error("core-off", told, mod.path), "switch it on", add=id
                )


def _missing(
    found: Modded, kind: ModKind, id: str, build: Version | None, ledger: Ledger | None
) -> Fault:
    where = f"{kind.folders[0]}/{id}".lstrip("/")
    told = f"{id} belongs to the core set, and is not there"
    fault = error("core-missing", told, where, remedy=_FIRST)
    if ledger is None or found.card is None:
        return fault
    for release in reversed(ledger.shelf.releases(id)):
        opened = released_mod(kind, ledger.shelf.place(release))
        if opened is not None and _fits(opened[0], id, build):
            return _brought(fault, where, opened[1], opened[2], f"release:{release.name}")
    for entry in reversed(ledger.entries()):
        if entry.tag.title == found.card.title:
            kept = _kept(entry, kind, id, build, ledger)
            if kept is not None:
                path, source, tree = kept
                return _brought(fault, path, source, tree, f"entry {entry.id}")
    return fault


def _fits(mod: Mod, id: str, build: Version | None) -> bool:
    return mod.id == id and (build is None or (mod.builds is not None and build in mod.builds))


def _kept(
    entry: Entry, kind: ModKind, id: str, build: Version | None, ledger: Ledger
) -> tuple[str, Place, Tree] | None:
    """Return where an entry has a mod that fits: its path, a place that holds it, and its tree."""
    tree = ledger.tree(entry)
    place = ledger.place(entry)
    for mod in read_mods(place, gather(kind, place, tree)):
        if _fits(mod, id, build):
            if mod.packed:
                return mod.path, place, Tree({mod.path: tree[mod.path]})
            return mod.path, SubPlace(place, mod.path), tree.under(mod.path)
    return None


def _brought(fault: Fault, path: str, source: Place, tree: Tree, name: str) -> Fault:
    return mended(
        fault,
        f"bring it back from {name}",
        partial(_bring, path=path, source=source, tree=tree, name=name),
    )


def _bring(made: Rearranged, *, path: str, source: Place, tree: Tree, name: str) -> None:
    for inner, node in tree.items():
        target = inner if path in tree else f"{path}/{inner}"
        if made.node(target) is None:
            made.put_from(target, node, source, inner, f"from {name}")


def _not_whole(found: Modded, kind: ModKind, mod: Mod, ledger: Ledger) -> Iterator[Fault]:
    """Yield that files are missing which the release of the same version on the shelf has."""
    for release in reversed(ledger.shelf.releases(mod.id)):
        if release.version != mod.version or mod.packed:
            continue
        opened = released_mod(kind, ledger.shelf.place(release))
        if opened is None:
            continue
        _, source, held = opened
        here = look(found.place, (f"{mod.path}/{path}" for path in held)).under(mod.path)
        files = {path: node for path, node in held.items() if node.kind == FILE}
        lacking = {path: node for path, node in files.items() if path not in here}
        other = [p for p, node in files.items() if p in here and here[p].size != node.size]
        name = f"release:{release.name}"
        if lacking:
            told = (
                f"{mod} belongs to the core set, and {count(len(lacking), 'file')} of its release"
            )
            told += f" are missing, such as {next(iter(lacking))}"
            mend = partial(_bring, path=mod.path, source=source, tree=Tree(lacking), name=name)
            yield mended(error("core-incomplete", told, mod.path), f"take them from {name}", mend)
        elif other:
            told = f"{mod} belongs to the core set, and {count(len(other), 'file')} differ from its"
            told += f" release, such as {other[0]}"
            remedy = f"If you did not edit them, bring them back from {name}."
            yield warning("core-incomplete", told, mod.path, remedy=remedy)
        return


# The list of what is switched on


def list_faults(found: Modded, judged: Compatibility | None) -> Iterator[Fault]:
    """Yield what is wrong with the list: ids of nothing, and an order in which something loads too early."""
    for kind in found.kinds.values():
        listed = found.listed(kind)
        table = kind.table.on
        if listed is None or table is None:
            continue
        ids = {mod.id for mod in found.mods if mod.kind == kind.name}
        path = table.file.strip("/")
        for id in dict.fromkeys(listed):
            if id not in ids and id not in kind.table.core:
                told = f"{id} is switched on, and is not there"
                yield note("on-missing", told, path, field=table.key)
        if judged is not None:
            yield from _order(found, kind, listed, judged)


def _order(
    found: Modded, kind: ModKind, listed: Sequence[str], judged: Compatibility
) -> Iterator[Fault]:
    place = {id: at for at, id in enumerate(judged.order)}
    known = [id for id in listed if id in place]
    wanted = sorted(known, key=place.__getitem__)
    if known == wanted or kind.table.on is None:
        return
    early = next(id for id, right in zip(known, wanted, strict=True) if id != right)
    told = f"{early} loads before what it needs; in order: {', '.join(wanted)}"
    fault = warning("load-order", told, kind.table.on.file.strip("/"), field=kind.table.on.key)
    right = iter(wanted)
    order = [next(right) if id in place else id for id in listed]
    yield _listed(found, kind, fault, "put them in order", order=order)


def switch_off(found: Modded, fault: Fault, mod: Mod) -> Fault:
    """Return a fault with what switches a mod off, where a list says what is on."""
    kind = found.kinds[mod.kind]
    if found.listed(kind) is None or not mod.id or mod.id in kind.table.core:
        return fault
    return _listed(found, kind, fault, "switch it off", drop=mod.id)


def _listed(
    found: Modded, kind: ModKind, fault: Fault, fix: str, *,
    add: str = "", drop: str = "", order: Sequence[str] = (),
) -> Fault:  # fmt: skip
    table = kind.table.on
    if table is None or table.file.strip("/") not in found.tree:
        return fault
    mend = partial(
        edit_list, kind=kind, add=add, drop=drop, order=tuple(order), seen=found.listed(kind)
    )
    return mended(fault, fix, mend)


def edit_list(
    made: Rearranged,
    *,
    kind: ModKind,
    add: str,
    drop: str,
    order: tuple[str, ...],
    seen: tuple[str, ...] | None,
) -> None:
    """Edit the list of what is switched on, and leave all else in its file as it is.

    Raises:
        UsageError: it is not the list any more that an order was made for.
    """
    table = kind.table.on
    assert table is not None
    path = table.file.strip("/")
    data = read_bytes(made, path)
    for codec in [table.codec] if table.codec else likely_kinds(path, data):
        try:
            document = decode(data, codec)
        except FormatError:
            continue
        at = parse_path(table.key)
        while at and at[-1] == "*":
            at = at[:-1]
        value = document.get(at)
        if isinstance(value, dict):
            for id in filter(None, (add, drop)):
                document.set((*at, id), id == add)
        elif order:
            if tuple(map(str, value)) != seen:
                raise UsageError("the list has changed since", where=path)
            for number, id in enumerate(order):
                if value[number] != id:
                    document.set((*at, number), id)
        elif add and add not in value:
            document.set((*at, len(value)), add)
        elif drop in value:
            document.remove((*at, value.index(drop)))
        made.put(path, document.encode(), "what is switched on was put right")
        return

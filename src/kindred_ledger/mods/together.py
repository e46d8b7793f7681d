"""Mods beside one another: ids that clash, files that overwrite each other, copies that hide others."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from ..cards.mods import Mod
from ..places import FILE, folded
from ..planning.modded import Modded
from ..wording import count
from .faults import Fault, error, note, warning

__all__ = ["clashes"]


def clashes(found: Modded) -> Iterator[Fault]:
    """Yield what is wrong between mods, and between them and the title's own content."""
    by_kind: dict[str, list[Mod]] = {}
    for mod in found.mods:
        by_kind.setdefault(mod.kind, []).append(mod)
    for name, mods in by_kind.items():
        yield from _ids(found, name, mods)
        yield from _outputs(found, name)
    yield from _hiding(found)


def _ids(found: Modded, name: str, mods: Sequence[Mod]) -> Iterator[Fault]:
    kind = found.kinds[name]
    alike: dict[str, list[Mod]] = {}
    for mod in mods:
        if mod.id:
            alike.setdefault(folded(mod.id), []).append(mod)
    own = found.originals.get(name, frozenset())
    own_folded = {folded(id): id for id in own}
    for fold, some in alike.items():
        if fold in own_folded:
            told = f"its id {some[0].id} is that of the title's own content"
            if own_folded[fold] != some[0].id:
                told = f"its id {some[0].id} differs from the title's own {own_folded[fold]} by"
                told += " case or Unicode form only"
            yield error("id-of-original", told, some[0].path, remedy="Give it an id of its own.")
        for later in some[1:]:
            first = some[0]
            if first.id != later.id:
                told = f"its id {later.id} differs from {first.id} of {first.path} by case or"
                told += " Unicode form only"
                yield error("ids-alike", told, later.path, remedy="Give one of them another id.")
            elif _folder(first) != _folder(later) and len(kind.folders) > 1:
                told = f"it is hidden by {first.path}, which has the same id {first.id}"
                remedy = "Remove the copy that is not meant."
                yield warning("copy-hides", told, later.path, remedy=remedy)
            else:
                told = f"its id {later.id} is also that of {first.path}"
                remedy = "Remove one of them, or give it another id."
                yield error("id-clash", told, later.path, remedy=remedy)


def _folder(mod: Mod) -> str:
    return mod.path.rpartition("/")[0]


def _outputs(found: Modded, name: str) -> Iterator[Fault]:
    """Yield which mods put files of one name into the folder that all of them go to."""
    kind = found.kinds[name]
    folders = [folder.strip("/") for folder in kind.table.outputs]
    if not folders:
        return
    by_path = {mod.path: mod for mod in found.mods}
    owners: dict[str, list[str]] = {}
    for each in found.gathered:
        mod = by_path[each.path]
        if each.kind is not kind or (found.on is not None and mod.id not in found.on):
            continue
        for path, node in each.files.items():
            if node.kind == FILE and any(path.startswith(f"{folder}/") for folder in folders):
                owners.setdefault(folded(path), []).append(each.path)
    pairs: dict[tuple[str, str], list[str]] = {}
    for path, some in owners.items():
        for later in some[1:]:
            pairs.setdefault((some[0], later), []).append(path)
    for (first, later), paths in pairs.items():
        told = f"{count(len(paths), 'file')} of it and of {first} overwrite each other, such as"
        told += f" {paths[0]}: {_winner(by_path, found.on, first, later)}"
        remedy = "Have the one load last whose files are meant, or take one out."
        yield warning("outputs-overlap", told, later, remedy=remedy)


def _winner(by_path: Mapping[str, Mod], on: tuple[str, ...] | None, first: str, later: str) -> str:
    ids = by_path[first].id, by_path[later].id
    if on is None or not all(ids):
        return "which of them counts is not told"
    last = max(ids, key=on.index)
    return f"those of {last} count, as it loads last"


def _hiding(found: Modded) -> Iterator[Fault]:
    """Yield which files placed by hand hide files of the title."""
    if found.card is None:
        return
    updates = found.card.updates
    if not updates.table.hides:
        return
    for path, node in found.tree.items():
        hidden = updates.hidden_by(path) if node.kind == FILE else ""
        if hidden and hidden in found.tree:
            told = f"it was placed by hand, and hides {hidden} as long as it is there"
            yield note("file-hides", told, path, remedy="Remove it when it is not needed any more.")

"""The shape of mods: whether the title finds the descriptor where it looks, in a folder of the right name."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from itertools import islice
from operator import itemgetter

from ..cards.mods import Gathered, Mod, ModKind, archive_kind, text_at
from ..errors import KindredError
from ..places import (
    DIR,
    FILE,
    LINK,
    Place,
    Tree,
    archive_in,
    check_portable,
    folded,
    read_bytes,
    scan,
    zip_of,
)
from ..planning.rearranged import Rearranged
from ..wording import count
from .faults import Fault, error, mended, renaming, warning

__all__ = ["loose_faults", "shape_faults"]

_KIND = itemgetter(0)  # of a node
_LARGEST_REPACKED = 512 << 20  # bytes in it: what is larger is not packed anew in memory


def shape_faults(each: Gathered, mod: Mod, place: Place, tree: Tree) -> Iterator[Fault]:
    """Yield what is wrong with how a mod lies there; the first is enough to keep it from loading."""
    if each.is_link:
        target = tree[each.path].target
        told = f"it is a link to {target}, and links are not followed here"
        yield warning("mod-is-link", told, each.path, remedy="Put the mod itself there.")
    elif each.packed and (each.fault or each.packed not in each.kind.table.archives):
        yield _wrong_archive(each, place, tree)
    elif not each.files:
        yield warning("mod-empty", "nothing is in it", each.path, remedy="Get the mod again.")
    elif not each.descriptor:
        yield from _undescribed(each, place, tree)
    else:
        yield from _described(each, mod, place, tree)


def loose_faults(kind: ModKind, tree: Tree) -> Iterator[Fault]:
    """Yield that a mod was unpacked right into a folder that mods lie in, where it is not looked for."""
    for folder in kind.folders if not kind.guessed else ():
        start = f"{folder}/" if folder else ""
        for name in dict.fromkeys((*kind.table.descriptor, *kind.descriptors)):
            node = tree.get(start + name)
            if node is not None and node.kind == FILE:
                told = f"a mod was unpacked right into the folder of mods: its {name} lies there"
                remedy = "Make a folder for it, and move all its files in there."
                yield error("mod-loose", told, start + name, remedy=remedy)


def _wrong_archive(each: Gathered, place: Place, tree: Tree) -> Fault:
    read = each.kind.table.archives
    if each.fault:
        told = f"the archive cannot be read: {each.fault}"
        return error("archive-damaged", told, each.path, remedy="Get the mod again.")
    wanted = f"only {' and '.join(read)} archives are read" if read else "only folders are read"
    fault = error("archive-type", f"it is a {each.packed} archive, and {wanted}", each.path)
    size = sum(node.size for node in each.files.values())
    if each.packed not in ("zip", "tar") or size > _LARGEST_REPACKED:
        remedy = "Unpack it with a program that reads it, and put what is in it there."
        return error("archive-type", fault.finding.what, each.path, remedy=remedy)
    start = each.path[: -len(each.name)]
    stem = _stem(each.name)
    if not read and f"{start}{stem}" not in tree:
        mend = partial(_unpack, path=each.path, to=f"{start}{stem}")
        return mended(fault, f"unpack it into the folder {stem}", mend)
    target = f"{start}{stem}.zip"
    if "zip" in read and (target not in tree or target == each.path):
        mend = partial(_repack, path=each.path, to=target, strip="", add="")
        return mended(fault, f"pack it anew as {stem}.zip", mend)
    return error("archive-type", fault.finding.what, each.path, remedy=f"{stem} is there already.")


def _undescribed(each: Gathered, place: Place, tree: Tree) -> Iterator[Fault]:
    names = " or ".join(each.kind.table.descriptor)
    found = each.descriptors
    if not found:
        told = f"it has no {names}, so nothing says what it is"
        fault = warning if each.kind.guessed else error
        yield fault("descriptor-missing", told, each.path, remedy=_GET_AGAIN)
        return
    nearest = [path for path in found if path.count("/") == found[0].count("/")]
    folders = [path.rpartition("/")[0] for path in nearest]
    if len(folders) > 1 and len(set(folders)) > 1:
        yield _several(each, folders, tree)
    elif not folders[0] and each.packed and each.kind.table.wrapped:
        told = f"{names} lies at the top of the archive, and is looked for in a folder"
        stem = _stem(each.name)
        mend = partial(_repack, path=each.path, to=each.path, strip="", add=f"{stem}/")
        yield mended(
            error("zipped-flat", told, each.path), f"pack it anew, in a folder {stem}", mend
        )
    elif not folders[0]:
        yield _misnamed(each, nearest)
    else:
        yield _too_deep(each, folders[0])


_GET_AGAIN = "Unpack or get the mod again; a part of it may be missing."


def _misnamed(each: Gathered, found: list[str]) -> Fault:
    right = each.kind.table.descriptor[0]
    told = f"its descriptor is called {found[0]}, and {right} is looked for"
    fault = error("descriptor-named", told, each.path)
    if len(found) > 1 or each.packed:
        return error("descriptor-named", told, each.path, remedy=f"Name it {right}.")
    old, new = each.at(found[0]), each.at(right)
    return mended(fault, f"name it {right}", renaming(old, new, f"was called {found[0]}"))


def _too_deep(each: Gathered, folder: str) -> Fault:
    """Return the fault of a mod that lies a folder too deep."""
    beside = [p for p, n in each.files.items() if n.kind != DIR and not p.startswith(f"{folder}/")]
    names = " or ".join(each.kind.table.descriptor)
    if each.packed:
        start = f"{folder}/"
        told = f"{names} lies in {start} in the archive, and is looked for at its top"
        if not beside:
            mend = partial(_repack, path=each.path, to=each.path, strip=start, add="")
            return mended(
                error("zipped-too-deep", told, each.path), f"pack it anew without {start}", mend
            )
        told += f"; {count(len(beside), 'file')} lie beside that folder, such as {beside[0]}"
        return error("zipped-too-deep", told, each.path, remedy="Pack only what is in that folder.")
    told = f"all of it lies in a folder of its own, {folder}, and {names} is looked for above"
    if beside:
        told = f"{names} lies in {folder}, and is looked for above"
        told += f"; {count(len(beside), 'file')} lie beside that folder, such as {beside[0]}"
        return error("folder-in-folder", told, each.path, remedy=f"Move what is in {folder} up.")
    mend = partial(_move_up, path=each.path, folder=folder)
    return mended(error("folder-in-folder", told, each.path), "move it up", mend)


def _several(each: Gathered, folders: list[str], tree: Tree) -> Fault:
    shown = ", ".join(folders)
    told = f"{count(len(folders), 'mod')} lie in it, and each must lie by itself: {shown}"
    fault = error("several-mods", told, each.path, remedy="Move each of them up.")
    beside = [
        path
        for path, node in each.files.items()
        if node.kind != DIR and not any(path.startswith(f"{folder}/") for folder in folders)
    ]
    start = each.path[: -len(each.name)]
    targets = [start + folder.rpartition("/")[2] for folder in folders]
    taken = any(target in tree and target != each.path for target in targets)
    if each.packed or beside or taken or len({*map(folded, targets)}) < len(targets):
        return fault
    mend = partial(_move_apart, path=each.path, folders=tuple(folders), targets=tuple(targets))
    return mended(fault, "move each of them up", mend)


def _described(each: Gathered, mod: Mod, place: Place, tree: Tree) -> Iterator[Fault]:
    """Yield what is wrong with a mod whose descriptor is where it should be."""
    if mod.fault and mod.values is None:
        told = f"its descriptor cannot be read: {mod.fault}"
        where = f"{mod.descriptor}: {mod.where_fault}".removesuffix(": ")
        yield error("descriptor-broken", told, each.path, field=where, remedy=_WRITE_RIGHT)
    elif mod.fault:
        told = f"for which builds it is made is not understood: {mod.fault}"
        yield warning("range-unread", told, each.path, field=mod.where_fault, remedy=_ASK)
    top = each.wrapper
    others = [path for path in each.descriptors if path != each.descriptor]
    for other in others:
        if other.rpartition("/")[0] == top.rstrip("/"):
            yield _second_descriptor(each, other, place)
        else:
            folder = other.rpartition("/")[0]
            told = f"another mod lies in it, in {folder}, which is not read there"
            yield warning("mod-in-mod", told, each.path, remedy="Move it up, or take it out.")
    few = list(islice((path for path, node in each.files.items() if node.kind == FILE), 3))
    inner = [path for path in few if archive_kind(path)] if len(few) <= 2 else []
    if len(inner) == 1:
        told = f"nearly all of it is an archive inside, {inner[0]}, which is not read there"
        yield warning("archive-in-archive", told, each.path, remedy="Unpack that one.")
    has_links = LINK in set(map(_KIND, each.files.values()))
    links = [p for p, node in each.files.items() if node.kind == LINK] if has_links else []
    if links:
        told = f"{count(len(links), 'link')} in it are not followed, such as {links[0]}"
        yield warning("links-inside", told, each.path, remedy="Put the files themselves there.")
    yield from _named_otherwise(each, mod, tree)


_WRITE_RIGHT = "Put it right in an editor, or get the mod again."
_ASK = "Write it like >=1.4,<2.0 or 1.4 - 2.0; ask the maker what is meant."


def _second_descriptor(each: Gathered, other: str, place: Place) -> Fault:
    told = f"it has two descriptors, {each.descriptor} and {other}; {each.descriptor} is read"
    fault = warning("descriptor-twice", told, each.path, remedy="Remove the one that is not meant.")
    if each.packed or each.files[other].size != each.files[each.descriptor].size:
        return fault
    if read_bytes(place, each.at(other)) != read_bytes(place, each.at(each.descriptor)):
        return fault
    mend = partial(_remove, path=each.at(other))
    return mended(fault, f"remove {other}, which says the same", mend)


def _named_otherwise(each: Gathered, mod: Mod, tree: Tree) -> Iterator[Fault]:
    key = each.kind.table.folder_name
    wanted = text_at(mod.values, key) if key and mod.values is not None else ""
    name = _stem(each.name) if each.packed else each.name
    if not wanted or wanted == name:
        return
    told = f"it is called {name}, and calls itself {wanted} ({key})"
    fault = error("name-differs", told, each.path, remedy=f"Name it {wanted}.")
    target = each.path[: -len(each.name)] + wanted + each.name[len(name) :]
    try:
        check_portable(wanted)
    except KindredError as odd:
        told = f"it calls itself {wanted!r}, which is no name of a folder: {odd.what}"
        yield error("name-differs", told, each.path)
        return
    if "/" in wanted or any(folded(path) == folded(target) for path in tree if path != each.path):
        yield fault
        return
    yield mended(fault, f"name it {wanted}", renaming(each.path, target, f"was called {each.name}"))


def _stem(name: str) -> str:
    low = name.lower()
    ends = (".tar.gz", ".tar.xz", ".tar.bz2")
    return next((name[: -len(end)] for end in ends if low.endswith(end)), name.rpartition(".")[0])


# What mends


def _remove(made: Rearranged, *, path: str) -> None:
    made.remove(path, "another one says the same")


def _move_up(made: Rearranged, *, path: str, folder: str) -> None:
    aside = f"{path}.moving"  # the folder inside may have the name of one of its own
    while aside in made.tree:
        aside += "-"
    made.move(f"{path}/{folder}", aside, "lay a folder too deep")
    made.remove(path, "what lay in it moved up")
    made.move(aside, path, "lay a folder too deep")


def _move_apart(
    made: Rearranged, *, path: str, folders: tuple[str, ...], targets: tuple[str, ...]
) -> None:
    for folder, target in zip(folders, targets, strict=True):
        made.move(f"{path}/{folder}", f"{target}.moving", f"lay in {path}")
    made.remove(path, "what lay in it moved up")
    for target in targets:
        made.move(f"{target}.moving", target, f"lay in {path}")


def _unpack(made: Rearranged, *, path: str, to: str) -> None:
    opened = archive_in(made, path)
    for inner, node in scan(opened).items():
        made.put_from(f"{to}/{inner}", node, opened, inner, f"was in {path.rpartition('/')[2]}")
    made.remove(path, "unpacked, as only folders are read")


def _repack(made: Rearranged, *, path: str, to: str, strip: str, add: str) -> None:
    opened = archive_in(made, path)
    nodes = {
        add + inner[len(strip) :]: inner
        for inner in opened.survey()
        if inner.startswith(strip) and inner != strip.rstrip("/")
    }
    held = opened.survey()
    contents = {inner: b"".join(blocks) for inner, blocks in opened.read(held.files)}
    tree = Tree({name: held[inner] for name, inner in nodes.items()})
    data = zip_of(tree, lambda name: [contents[nodes[name]]])
    if to != path:
        made.remove(path, "packed anew")
    made.put(to, data, "packed anew, as it is looked for")

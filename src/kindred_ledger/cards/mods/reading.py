"""Mod: one mod, pack or project, as its own descriptor describes it; and finding all there are.

What always holds: only what the title would read is believed: the descriptor of the right name right in
the mod's folder, or at the top of its archive. What else lies in it is for a check to look at.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from decimal import Decimal
from typing import Any

from msgspec import Struct

from ...errors import FormatError, KindredError, VersionError
from ...formats import decode, likely_kinds, parse_path, values_at
from ...places import DIR, FILE, LINK, Node, Place, TarPlace, Tree, archive_in, read_bytes
from ..models import LinkKey
from .kinds import ModKind
from .links import Link, read_links
from .ranges import Builds, read_builds

__all__ = [
    "Gathered",
    "Mod",
    "archive_kind",
    "gather",
    "mod_alone",
    "read_mods",
    "read_values",
    "text_at",
]

_ARCHIVE_NAMES = {
    ".zip": "zip", ".tar": "tar", ".tgz": "tar", ".tar.gz": "tar", ".tar.xz": "tar",
    ".tar.bz2": "tar", ".7z": "7z", ".rar": "rar",
}  # fmt: skip


class Mod(Struct, frozen=True):
    """A mod: where it lies, and what its descriptor says.

    `path` is its folder or archive in the place. `builds` are those it says it is for: None if it does not
    say, or `fault` says why it is not understood. `values` is all that the descriptor holds, as plain values.

    >>> mod = kl.mods_in(install)[0]
    >>> mod.path, mod.name, mod.version
    ('program/mods/reedlight', 'Reedlight', '1.3')
    """

    kind: str
    path: str
    id: str = ""
    name: str = ""
    version: str = ""
    builds: Builds | None = None
    needs: tuple[Link, ...] = ()
    conflicts: tuple[Link, ...] = ()
    after: tuple[Link, ...] = ()
    packed: bool = False
    descriptor: str = ""
    values: Any = None
    fault: str = ""
    where_fault: str = ""

    def __str__(self) -> str:
        """Return it as players see it, with the names that files use."""
        folder = self.path.rpartition("/")[2]
        inner = ", ".join(dict.fromkeys(each for each in (self.id, folder) if each != self.name))
        shown = self.name or self.id or folder
        return f"{shown} ({inner})" if inner and inner != shown else shown


class Gathered(Struct, frozen=True):
    """What lies where mods lie: a folder or an archive, with the files in it by their paths there.

    `packed` is the kind of an archive: zip, tar, or one that is not read. `fault` says why it cannot be read.
    """

    kind: ModKind
    path: str
    files: Mapping[str, Node]
    packed: str = ""
    fault: str = ""
    is_link: bool = False

    @property
    def name(self) -> str:
        """Its name in the folder that mods lie in."""
        return self.path.rpartition("/")[2]

    def at(self, inner: str) -> str:
        """Return where a file of it stands in the place, if it is a folder."""
        return f"{self.path}/{inner}" if self.path else inner

    @property
    def descriptors(self) -> list[str]:
        """The files in it that are called like a descriptor, large or small, the nearest to its top first."""
        names = self.kind.descriptors
        together = "\n".join(self.files).casefold()
        if self.descriptor and sum(together.count(name) for name in names) == 1:
            return [self.descriptor]
        found = [
            path
            for path, node in self.files.items()
            if path.rpartition("/")[2].casefold() in names and node.kind == FILE
        ]
        return sorted(found, key=lambda path: (path.count("/"), path))

    @property
    def descriptor(self) -> str:
        """The descriptor that the title reads; "" if it would find none."""
        start = self.wrapper
        if self.packed and self.kind.table.wrapped and not start:
            return ""
        fold = self.kind.any_case
        for name in self.kind.table.descriptor:
            wanted = f"{start}{name}"
            if wanted in self.files:
                return wanted
            alike = [path for path in self.files if fold and path.casefold() == wanted.casefold()]
            if alike:
                return alike[0]
        return ""

    @property
    def wrapper(self) -> str:
        """The folder in an archive that holds all of it, with a slash, if the title wants it so; else ""."""
        if not (self.packed and self.kind.table.wrapped):
            return ""
        tops = {path.partition("/")[0] for path in self.files}
        return f"{tops.pop()}/" if len(tops) == 1 else ""


def gather(kind: ModKind, place: Place, tree: Tree) -> list[Gathered]:
    """Return the folders and archives in which mods of a kind lie, in the order of their folders."""
    starts = [(folder, f"{folder}/" if folder else "") for folder in kind.folders]
    inside: dict[str, dict[str, dict[str, Node]]] = {}
    alone: dict[str, dict[str, Node]] = {}
    for folder, start in starts:
        within: dict[str, dict[str, Node]] = {}
        single: dict[str, Node] = {}
        skip = len(start)
        last, files = "", {}
        for path, node in tree.items():
            if not path.startswith(start):
                continue
            name, slash, inner = path[skip:].partition("/")
            if not slash:
                single[name] = node
                continue
            if name != last:
                last, files = name, within.setdefault(name, {})
            files[inner] = node
        inside[folder], alone[folder] = within, single
    found = []
    for folder, start in starts:
        for name, node in alone[folder].items():
            path = start + name
            if node.kind == DIR:
                found.append(Gathered(kind, path, inside[folder].get(name, {})))
            elif node.kind == LINK:
                found.append(Gathered(kind, path, {}, is_link=True))
            elif packed := archive_kind(name):
                found.append(_packed(kind, place, path, packed))
    return found


def archive_kind(name: str) -> str:
    """Return the kind of archive that a file is by its name; "" if it is none."""
    low = name.lower()
    return next((kind for end, kind in _ARCHIVE_NAMES.items() if low.endswith(end)), "")


def _packed(kind: ModKind, place: Place, path: str, packed: str) -> Gathered:
    if packed not in ("zip", "tar"):
        return Gathered(kind, path, {}, packed)
    try:
        opened = archive_in(place, path)
        packed = "tar" if isinstance(opened, TarPlace) else "zip"
        return Gathered(kind, path, opened.survey(), packed)
    except KindredError as error:
        return Gathered(kind, path, {}, packed, fault=error.what)


def read_mods(place: Place, gathered: Iterable[Gathered]) -> list[Mod]:
    """Read the descriptors of mods, where there are any; one that cannot be read has a `fault`."""
    some = list(gathered)
    loose = [each.at(each.descriptor) for each in some if each.descriptor and not each.packed]
    contents = {path: b"".join(blocks) for path, blocks in place.read(loose)} if loose else {}
    return [_mod(each, _content(place, each, contents)) for each in some]


def _content(place: Place, each: Gathered, contents: Mapping[str, bytes]) -> bytes | KindredError:
    name = each.descriptor
    if not name:
        return b""
    if not each.packed:
        return contents[each.at(name)]
    try:
        return read_bytes(archive_in(place, each.path), name)
    except KindredError as error:
        return error


def mod_alone(kind: ModKind, place: Place, tree: Tree) -> Mod | None:
    """Read what is one mod by itself, such as a release of it: at the top, or in the only folder there is.

    None if no descriptor is where it should be, or several are.
    """
    whole = Gathered(kind, "", tree)
    found = whole.descriptors
    if not found:
        return None
    folder = found[0].rpartition("/")[0]
    if sum(path.count("/") == found[0].count("/") for path in found) > 1:
        return None
    inner = tree.under(folder) if folder else tree
    return read_mods(place, [Gathered(kind, folder, inner)])[0]


def read_values(data: bytes, name: str, codec: str = "") -> Any:
    """Return what a file of settings or the like holds as plain values, by its codec or by what is in it.

    Raises:
        FormatError: it is damaged, or of no kind that is known.
    """
    for kind in [codec] if codec else likely_kinds(name, data):
        if kind == "json" and (plain := _plain_json(data)) is not None:
            return plain
        try:
            return decode(data, kind).get(())
        except FormatError:
            if codec or kind != "ini":
                raise
        except KindredError as error:
            raise FormatError(error.what, where=error.where) from error
    raise FormatError("what is in it is not known", where=name)


def _plain_json(data: bytes) -> Any:
    """Return what plain JSON holds, as its document would give it; None if it needs more care than that."""
    try:
        return json.loads(data, parse_float=Decimal, object_pairs_hook=_once, parse_constant=_none)
    except (ValueError, RecursionError):
        return None


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) < len(pairs):
        raise ValueError("a key is there twice")
    return found


def _none(text: str) -> Any:
    raise ValueError(text)


def text_at(values: Any, path: str) -> str:
    """Return the first value at a path of plain values as text; "" if there is none."""
    found = values_at(values, parse_path(path)) if path else []
    value = next(iter(found), "")
    return str(value).strip() if isinstance(value, (str, int, Decimal)) else ""


def _mod(each: Gathered, data: bytes | KindredError) -> Mod:
    table, name = each.kind.table, each.descriptor
    if not name:
        return Mod(each.kind.name, each.path, packed=bool(each.packed), fault=each.fault)
    try:
        if isinstance(data, KindredError):
            raise data
        values = read_values(data, name, table.codec)
    except KindredError as error:
        return Mod(
            each.kind.name, each.path, packed=bool(each.packed), descriptor=name,
            fault=error.what, where_fault=error.where,
        )  # fmt: skip
    builds, fault = _builds(each.kind, values)
    return Mod(
        kind=each.kind.name,
        path=each.path,
        id=text_at(values, table.id),
        name=text_at(values, table.name),
        version=text_at(values, table.version),
        builds=builds,
        needs=_links(values, table.needs),
        conflicts=_links(values, table.conflicts),
        after=_links(values, table.after),
        packed=bool(each.packed),
        descriptor=name,
        values=values,
        fault=fault,
        where_fault=table.builds.key or table.builds.since if fault and table.builds else "",
    )


def _links(values: Any, key: LinkKey | None) -> tuple[Link, ...]:
    if key is None:
        return ()
    return tuple(
        link for value in values_at(values, parse_path(key.key)) for link in read_links(value, key)
    )


def _builds(kind: ModKind, values: Any) -> tuple[Builds | None, str]:
    """Return the builds that a mod is for, and what is not understood about them."""
    key = kind.table.builds
    if key is None:
        return None, ""
    try:
        if key.key:
            found = list(values_at(values, parse_path(key.key)))
            return (read_builds(_one(found), kind.parse, key.plain), "") if found else (None, "")
        low, high = text_at(values, key.since), text_at(values, key.until)
        if not (low or high):
            return None, ""
        told = " ".join(filter(None, (f">={low}" if low else "", f"<={high}" if high else "")))
        return read_builds(told, kind.parse), ""
    except VersionError as error:
        return None, error.what


def _one(found: list[Any]) -> Any:
    return found[0] if len(found) == 1 else found

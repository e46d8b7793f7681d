"""Modded: the mods of an install, or of a folder that mods lie in, and whether they fit a build.

The kinds of mods are those of the card; without one, what most of them have in common tells which file
describes each.
"""

from __future__ import annotations

import contextlib
import os
from collections import Counter
from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..cards import Card, Install
from ..cards.models import LinkKey, ModsTable
from ..cards.mods import (
    ARCHIVES,
    Compatibility,
    FitReleases,
    Gathered,
    Mod,
    ModKind,
    archive_kind,
    gather,
    judge,
    mod_alone,
    read_mods,
    read_values,
)
from ..errors import KindredError, UsageError
from ..finding import Finding
from ..formats import parse_path, values_at
from ..formats.kinds import claimed_kind
from ..ledger import Ledger, ReleasePlace
from ..places import (
    DIR,
    FILE,
    AnyPlace,
    FilePlace,
    FolderPlace,
    ItemPlace,
    Place,
    SubPlace,
    Tree,
    archive_in,
    as_place,
    open_place,
    outline,
    read_bytes,
)
from ..versions import NUMBER, Version

__all__ = [
    "Modded",
    "compatible_mods",
    "kind_in",
    "modded",
    "mods_in",
    "released_mod",
    "releases_on_shelf",
]

# The keys that descriptors without a card are looked through for, the likeliest first.
_IDS = ("id", "identifier", "uid", "name")
_NEEDS = ("needs", "requires", "dependencies", "depends")
_CONFLICTS = ("conflicts", "incompatible")
_SAMPLES = 5  # descriptors that are looked into
_DESCRIBING = ("json", "toml", "yaml", "xml", "ini")


class Modded(Struct, frozen=True, dict=True):
    """The mods in a place: what lies there, by kind, and what each says of itself."""

    place: Place
    tree: Tree
    kinds: Mapping[str, ModKind]
    card: Card | None = None
    alone: bool = False  # one mod by itself; others are not looked at

    @cached_property
    def gathered(self) -> tuple[Gathered, ...]:
        """The folders and archives that mods lie in."""
        found = [
            each for kind in self.kinds.values() for each in gather(kind, self.place, self.tree)
        ]
        return tuple(found)

    @cached_property
    def mods(self) -> tuple[Mod, ...]:
        """The mods, in the order of `gathered`."""
        return tuple(read_mods(self.place, self.gathered))

    @cached_property
    def on(self) -> tuple[str, ...] | None:
        """The ids that are switched on, in the order of loading; None if nothing says."""
        found: list[str] | None = None
        for kind in self.kinds.values():
            listed = self.listed(kind)
            if listed is not None:
                found = [*(found or ()), *listed]
        return tuple(found) if found is not None else None

    def listed(self, kind: ModKind) -> tuple[str, ...] | None:
        """Return the ids of one kind that are switched on; None if no file says, or it is damaged."""
        table = kind.table.on
        found = self._lists.get((kind.name, table.file)) if table is not None else None
        if found is None or isinstance(found, Finding):
            return None
        if len(found) == 1 and isinstance(found[0], list):
            found = found[0]
        if len(found) == 1 and isinstance(found[0], dict):
            return tuple(id for id, is_on in found[0].items() if is_on in (True, 1, "1", "true"))
        return tuple(str(each) for each in found if isinstance(each, (str, int)))

    @cached_property
    def originals(self) -> Mapping[str, frozenset[str]]:
        """The ids of the title's own content, by kind of mods."""
        out = {}
        for name, kind in self.kinds.items():
            table = kind.table.original
            found = self._lists.get((name, table.file)) if table is not None else None
            if found is not None and not isinstance(found, Finding):
                out[name] = frozenset(str(each) for each in found if isinstance(each, (str, int)))
        return out

    @property
    def damaged(self) -> tuple[Finding, ...]:
        """The lists that cannot be read: of what is switched on, and of the title's own content."""
        return tuple(found for found in self._lists.values() if isinstance(found, Finding))

    @cached_property
    def _lists(self) -> dict[tuple[str, str], list[Any] | Finding]:
        """What each list holds that the card names, by kind and file; a finding for a damaged one."""
        out: dict[tuple[str, str], list[Any] | Finding] = {}
        for name, kind in self.kinds.items():
            for table in (kind.table.on, kind.table.original):
                path = table.file.strip("/") if table is not None else ""
                if table is None or path not in self.tree:
                    continue
                try:
                    values = read_values(read_bytes(self.place, path), path, table.codec)
                    found = list(values_at(values, parse_path(table.key)))
                    if found or table.key.endswith("[*]"):
                        out[name, table.file] = found
                except KindredError as odd:
                    told = f"the list cannot be read: {odd.what}"
                    out[name, table.file] = Finding.error(
                        "list-damaged", told, where=path, field=odd.where, remedy="Put it right."
                    )
        return out

    def build(self, text: str | Version) -> Version:
        """Read a build of the title, as its card does; a `Version` stays itself."""
        if self.card is not None:
            return self.card.build(text)
        return text if isinstance(text, Version) else Version.parse(text)

    def judged(
        self, build: Version | None, *, releases: FitReleases = lambda mod: ()
    ) -> Compatibility:
        """Judge the mods against a build."""
        return judge(self.mods, self.kinds, build, on=self.on, alone=self.alone, releases=releases)


def modded(
    subject: Install | AnyPlace, card: Card | None = None, *, core: Sequence[str] = ()
) -> Modded:
    """Return the mods of an install; or of a folder of mods, or one mod by itself, of the title of `card`.

    `core` are ids that belong to the core set beside those that the card names; of several kinds of mods they
    are of the first.

    Raises:
        UsageError: the card describes no mods, or there are none.
    """
    if isinstance(subject, Install):
        if not subject.card.mods:
            raise UsageError(
                f"the card of {subject.card.name} describes no mods",
                where=subject.place.location,
                remedy="Add a table [mods.NAME] to it; see docs/cards.md.",
            )
        kinds = _with_core(subject.card.mods, core)
        return Modded(subject.place, outline(subject.place), kinds, subject.card)
    place, tree, alone = kinds_alone(subject, card)
    by_itself = isinstance(place, (FilePlace, ItemPlace))
    return Modded(place, tree, _with_core(alone, core), card, by_itself)


def _with_core(kinds: Mapping[str, ModKind], core: Sequence[str]) -> Mapping[str, ModKind]:
    if not core:
        return kinds
    first, *others = kinds.values()
    more = [id for id in core if id not in first.table.core]
    table = replace(first.table, core=[*first.table.core, *more])
    return {first.name: first.with_table(table), **{each.name: each for each in others}}


def mods_in(subject: Install | AnyPlace, card: Card | None = None) -> tuple[Mod, ...]:
    """Return the mods of an install; or of a folder of mods, or one mod by itself; see `modded`.

    >>> [str(mod) for mod in kl.mods_in(install)]
    ['Reedlight (reedlight)']
    """
    return modded(subject, card).mods


def compatible_mods(
    subject: Install | AnyPlace,
    build: str | Version = "",
    *,
    card: Card | None = None,
    ledger: Ledger | None = None,
) -> Compatibility:
    """Judge mods against a build: which stay, which the shelf has a fitting release of, which do not fit.

    `build` is that of the install if it is not given; with a `ledger` its shelf is asked for releases of
    mods, which stand there under the mods' ids.

    Raises:
        UsageError: no build is given, and there is no install.

    >>> kl.compatible_mods(install, "1.4").totals()["keep"]
    1
    """
    found = modded(subject, card)
    if build:
        wanted = found.build(build)
    elif isinstance(subject, Install):
        wanted = subject.sure_version
    else:
        raise UsageError("for which build? No install says so", remedy="Give `build=VERSION`.")
    releases = releases_on_shelf(ledger, found.kinds) if ledger is not None else lambda mod: ()
    return found.judged(wanted, releases=releases)


def released_mod(kind: ModKind, release: ReleasePlace) -> tuple[Mod, Place, Tree] | None:
    """Return the mod that a release on the shelf holds, the folder that is all of it, and its tree.

    None if it holds none, or several.
    """
    mod = mod_alone(kind, release, release.held)
    if mod is None:
        return None
    if not mod.path:
        return mod, release, release.held
    return mod, SubPlace(release, mod.path), release.held.under(mod.path)


def releases_on_shelf(ledger: Ledger, kinds: Mapping[str, ModKind]) -> FitReleases:
    """Return what finds the releases of a mod on the shelf, the newest first."""

    def releases(mod: Mod) -> Sequence[tuple[str, Mod]]:
        out = []
        for release in reversed(ledger.shelf.releases(mod.id)):
            place = ledger.shelf.place(release)
            found = mod_alone(kinds[mod.kind], place, place.held)
            if found is not None and found.id == mod.id:
                out.append((f"release:{release.name}", found))
        return out

    return releases


def kinds_alone(subject: AnyPlace, card: Card | None) -> tuple[Place, Tree, dict[str, ModKind]]:
    """Return a folder of mods, or what one mod is an item of, as a place, with its tree and kinds of mods.

    Of the tree only the kinds of things are sure to be told.

    Raises:
        UsageError: there is nothing of the name.
    """
    place = _opened(subject)
    tree = outline(place)
    kind = kind_in(place, tree, card)
    if any(path.casefold() in kind.descriptors for path in tree if "/" not in path):
        inner = _as_item(place)
        return inner, inner.survey() if inner is not place else tree, {kind.name: _moved(kind)}
    return place, tree, {kind.name: _moved(kind)}


def kind_in(place: Place, tree: Tree, card: Card | None) -> ModKind:
    """Return the kind of the mods in a folder, or of one mod, by descriptors; the first if none tells."""
    kinds = list(card.mods.values()) if card is not None else [_guessed(place, tree)]
    if len(kinds) > 1:
        names = {path.rpartition("/")[2].casefold() for path in tree}
        kinds = [kind for kind in kinds if kind.descriptors & names] or kinds
    return kinds[0]


def _opened(subject: AnyPlace) -> Place:
    if isinstance(subject, (str, os.PathLike)):
        place = open_place(subject)
        return place if isinstance(place, FolderPlace) else FilePlace(place.location)
    return as_place(subject)


def _as_item(place: Place) -> Place:
    return ItemPlace(place.root) if type(place) is FolderPlace else place


def _moved(kind: ModKind) -> ModKind:
    """Return a kind whose mods lie at the top of a place."""
    table = replace(kind.table, folders=["/"], on=None, original=None)
    return kind.with_table(table)


def _guessed(place: Place, tree: Tree) -> ModKind:
    """Return what mods without a card seem to have in common: a file of one name, in most of them.

    Raises:
        UsageError: there is none.
    """
    tops: dict[str, set[str]] = {}
    for path, node in tree.items():
        parts = path.split("/")
        if node.kind == FILE and len(parts) <= 2 and claimed_kind(parts[-1]) in _DESCRIBING:
            tops.setdefault(parts[0] if len(parts) == 2 else "", set()).add(parts[-1])
    inside = Counter(name for top, names in tops.items() if top for name in names)
    folders = [path for path, node in tree.items() if "/" not in path and node.kind == DIR]
    most = inside.most_common(1)
    samples = [(place, path) for path in tree.files]
    if most and most[0][1] * 2 > len(folders) and (most[0][1] > 1 or not tops.get("")):
        name = most[0][0]
    else:
        name = _telling(place, sorted(tops.get("", ()))) or (most[0][0] if most else "")
    if not name:
        samples = _in_archives(place, tree)
        found = Counter(
            path.rpartition("/")[2] for _, path in samples if claimed_kind(path) in _DESCRIBING
        )
        name = found.most_common(1)[0][0] if found else ""
    if not name:
        raise UsageError(
            "nothing here tells which file describes a mod",
            where=place.location,
            remedy="Give the card of the title, or the folder that mods lie in.",
        )
    some = [(at, path) for at, path in samples if path.rpartition("/")[2] == name][:_SAMPLES]
    keys = set().union(*(_common_keys(at, [path]) for at, path in some))
    table = ModsTable(
        folders=["/"],
        descriptor=[name],
        id=_first(_IDS, keys),
        needs=LinkKey(key=_first(_NEEDS, keys)),
        conflicts=LinkKey(key=_first(_CONFLICTS, keys)),
        archives=["zip"],
    )
    return ModKind("mods", table, NUMBER.parse, NUMBER, guessed=True)


def _in_archives(place: Place, tree: Tree) -> list[tuple[Place, str]]:
    """Return the files in the first archives of a folder, each with its archive."""
    found: list[tuple[Place, str]] = []
    for path in [path for path in tree.files if archive_kind(path) in ARCHIVES][:_SAMPLES]:
        with contextlib.suppress(KindredError):
            opened = archive_in(place, path)
            found += [(opened, inner) for inner in opened.survey().files]
    return found


def _telling(place: Place, names: Sequence[str]) -> str:
    """Return the file at the top that looks most like a descriptor: with an id, a name, a version; or ""."""
    wanted = {*_IDS, "version", *_NEEDS, *_CONFLICTS}
    told = {name: len(_common_keys(place, [name]) & wanted) for name in names}
    best = max(told, key=lambda name: told[name], default="")
    return best if best and told[best] > 1 else ""


def _common_keys(place: Place, paths: Sequence[str]) -> set[str]:
    """Return the keys that some descriptors have in common, as far as they can be read."""
    found: list[set[str]] = []
    for path in paths:
        with contextlib.suppress(KindredError):
            values = read_values(read_bytes(place, path), path)
            found.append(set(values) if isinstance(values, dict) else set())
    return set.union(*found) if found else set()


def _first(names: Sequence[str], known: set[str]) -> str:
    return next((name for name in names if name in known), names[0])


def fitting_card(subject: AnyPlace, cards: Sequence[Card]) -> Card | None:
    """Return the only card whose descriptors lie in a folder of mods; None if there is none, or several."""
    names = {path.rpartition("/")[2].casefold() for path in outline(_opened(subject))}
    fitting = [
        card for card in cards if any(kind.descriptors & names for kind in card.mods.values())
    ]
    return fitting[0] if len(fitting) == 1 else None

"""Card: what is known about one title. Install: one install of it, found and told apart."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Mapping
from functools import cached_property
from typing import Any

from msgspec import Struct

from ..errors import (
    CardError,
    DecisionNeeded,
    KindredError,
    UsageError,
    VersionError,
)
from ..finding import Finding
from ..ledger import EntryPlace, Tag
from ..places import (
    FolderPlace,
    JoinedPlace,
    Patterns,
    Place,
    SubPlace,
    Tree,
    join_folders,
    open_place,
    roots_of,
    tells_names_apart,
)
from ..versions import Scheme, Version, VersionRange, scheme
from .detect import Evidence, detect
from .format import Format
from .locate import Surroundings, locate
from .models import PROGRAM, CardFile, CategoryTable, ProgramTable
from .reader import read_card
from .roots import Root, find_root
from .selecting import select_categories
from .updates import Updates

TYPE_CHECKING = False
if TYPE_CHECKING:
    from .mods import ModKind
    from .worlds import WorldKind

__all__ = ["PROGRAM", "Card", "Format", "Install"]

_ARCHIVE = re.compile(r"(\.tar)?\.(zip|tar|tgz|tbz2|txz|gz|bz2|xz|zst)$", re.I)  # what names end in


class Card:
    """A card that was read and checked.

    >>> card.name, sorted(card.categories)
    ('Mossferry', ['mods', 'saves', 'settings'])
    >>> card.open("mossferry")
    <Install mossferry 1.4, ...mossferry>
    """

    def __init__(
        self, file: CardFile, path: str, *, build: Version | None = None, any_case: bool = False
    ) -> None:
        self.file = file
        self.path = path
        self.bound_to = build
        self.any_case = any_case
        self.title = file.title
        self.name = file.name or file.title

    def __repr__(self) -> str:
        return f"<Card {self.title}>"

    @staticmethod
    def load(path: str | os.PathLike[str]) -> Card:
        """Read a card file; raise `CardError` with every fault it has."""
        return Card(read_card(path), os.fspath(path))

    @cached_property
    def scheme(self) -> Scheme:
        """How the title's builds are ordered."""
        return scheme(self.file.versions.scheme, self.file.versions.order)

    def bound(self, build: Version | None, *, any_case: bool) -> Card:
        """Return the card as it is for one install: of a build, None if that is not known, in a place.

        `any_case`: the place takes large and small letters in names for the same, and so do the patterns.
        A card that is not bound takes the files of all builds into its categories.
        """
        if (build, any_case) == (self.bound_to, self.any_case):
            return self
        return Card(self.file, self.path, build=build, any_case=any_case)

    @staticmethod
    def plain(title: str) -> Card:
        """Return a card that knows no more than a title: for installs that none describes."""
        return Card(CardFile(card=1, title=title, program=ProgramTable(markers=[])), "")

    def build(self, text: str | Version) -> Version:
        """Read a build: its version, or a name that players call it by; a `Version` stays itself.

        Raises:
            VersionError: it is no version of this title.
        """
        if isinstance(text, Version):
            return text
        names = self.file.versions.names
        named = {name.casefold(): version for name, version in names.items()}
        try:
            return self.scheme.parse(named.get(text.strip().casefold(), text))
        except VersionError as error:
            if names:
                known = ", ".join(f"{name} ({version})" for name, version in names.items())
                error.remedy = f"{error.remedy}\nNames of builds: {known}.".strip()
            raise

    @cached_property
    def updates(self) -> Updates:
        """The rules about moving from build to build."""
        return Updates(self.file, self.scheme, any_case=self.any_case)

    @cached_property
    def categories(self) -> dict[str, Patterns]:
        """The paths that belong to each category."""
        return {name: self._category(table) for name, table in self.file.categories.items()}

    def _category(self, table: CategoryTable) -> Patterns:
        if self.bound_to is None:
            include = (*table.include, *(each for row in table.by_build for each in row.include))
            excluded = set(table.exclude).intersection(*(row.exclude for row in table.by_build))
            return Patterns(include, tuple(sorted(excluded)), self.any_case)
        for row in table.by_build:
            if self.bound_to in VersionRange.parse(row.builds, self.scheme):
                return Patterns(tuple(row.include), tuple(row.exclude), self.any_case)
        return Patterns(tuple(table.include), tuple(table.exclude), self.any_case)

    @cached_property
    def tables(self) -> dict[str, dict[str, Any]]:
        """The tables steps look things up in; a list is one by number, from 0."""
        return {
            name: table if isinstance(table, dict) else {str(n): v for n, v in enumerate(table)}
            for name, table in self.file.tables.items()
        }

    @cached_property
    def formats(self) -> dict[str, Format]:
        """The kinds of files, by name."""
        return {
            name: Format(
                name, table, self.scheme, os.path.dirname(self.path), self.tables, self.any_case
            )
            for name, table in self.file.formats.items()
        }

    @cached_property
    def mods(self) -> dict[str, ModKind]:
        """The kinds of mods, packs and projects, by name."""
        from .mods import ModKind  # most cards that are read have no use for it

        return {
            name: ModKind(name, table, self.build, self.scheme, any_case=self.any_case)
            for name, table in self.file.mods.items()
        }

    @cached_property
    def worlds(self) -> dict[str, WorldKind]:
        """The kinds of worlds, by name."""
        from .worlds import WorldKind  # most cards that are read have no use for it

        return {
            name: WorldKind(name, table, any_case=self.any_case)
            for name, table in self.file.worlds.items()
        }

    def reads_of(self, other: Card) -> dict[str, tuple[Version, ...]] | None:
        """Return which versions of another title's formats this one reads; None if it is no variant of it.

        Raises:
            CardError: the card names formats that the other has not.
        """
        variant = self.file.variant
        if variant is None or variant.of != other.title:
            return None
        strange = [name for name in variant.reads if name not in other.formats]
        if strange:
            raise CardError(
                f"{other.name} has no format {strange[0]!r}",
                where=f"{self.path}: variant.reads",
                findings=(
                    Finding.error("unknown-format", f"Its card has {', '.join(other.formats)}."),
                ),
            )
        return {
            name: tuple(map(other.formats[name].scheme.parse, versions))
            for name, versions in variant.reads.items()
        }

    def protected_by(self, path: str) -> str:
        """Return the category because of which an update leaves a path alone; empty if none."""
        return next(
            (
                name
                for name, patterns in self.categories.items()
                if self.file.categories[name].protect and patterns(path)
            ),
            "",
        )

    @cached_property
    def disposable(self) -> tuple[str, ...]:
        """The categories whose files the title makes again, such as logs and caches."""
        return tuple(name for name, table in self.file.categories.items() if table.disposable)

    def category_of(self, path: str) -> str:
        """Return the first category a path belongs to; empty if none."""
        return next((name for name, patterns in self.categories.items() if patterns(path)), "")

    def format_of(self, path: str) -> Format | None:
        """Return the kind of file that a path of an install is; None if the card does not say."""
        return next((f for f in self.formats.values() if not f.is_folder and f.files(path)), None)

    def is_install(self, folder: str) -> bool:
        """Tell whether a folder is the program folder of an install of this title."""
        return all(
            os.path.exists(os.path.join(folder, marker)) for marker in self.file.program.markers
        )

    def open(
        self,
        program: str | os.PathLike[str],
        *,
        version: str = "",
        folders: Mapping[str, str] | None = None,
        around: Surroundings | None = None,
    ) -> Install:
        """Find what belongs to the install whose program lies in the folder `program`.

        `version` overrules the evidence; `folders` gives the folder of a location by name.

        Raises:
            UsageError: the folder is no install of this title.
            DecisionNeeded: a location is ambiguous.
        """
        root = os.path.abspath(os.path.expanduser(os.fspath(program)))
        if not self.is_install(root):
            raise UsageError(
                f"this is no install of {self.name}",
                where=root,
                remedy=f"The card looks for {', '.join(self.file.program.markers)} there.",
            )
        around = around or Surroundings.here()
        alone = join_folders({PROGRAM: root})
        tree = alone.survey()
        markers = {f"{PROGRAM}/{marker}" for marker in self.file.program.markers}
        few = tree.select(markers.__contains__)  # of many files it would take long
        card = self.bound(None, any_case=not tells_names_apart(alone, few))
        evidence = card._evidence_in(alone, tree)
        chosen = self.build(version) if version else None
        build = Install(card, alone, evidence, chosen).told_version
        roots = {PROGRAM: root}
        for name, table in self.file.locations.items():
            if build is not None and build not in VersionRange.parse(table.builds, self.scheme):
                continue  # another build's, whatever is there
            found = (folders or {}).get(name) or locate(name, table, root, around=around)
            if found and os.path.isdir(found):
                roots[name] = found
        place = join_folders(roots)
        return Install(card.bound(build, any_case=card.any_case), place, evidence, chosen)

    def _evidence_in(self, place: JoinedPlace, tree: Tree) -> tuple[Evidence, ...]:
        return detect(
            place,
            tree,
            self.file.detect,
            self.build,
            folder=os.path.basename(place.parts[PROGRAM].location),
            prefix=f"{PROGRAM}/",
            any_case=self.any_case,
        )

    def open_release(self, where: str | os.PathLike[str] | Place, *, version: str = "") -> Install:
        """Open the unmodified files of a build: a folder or an archive, wrapped in folders or not.

        `version` overrules the evidence. What lies beside the title's own folder is in `extras`.

        Raises:
            UsageError: it is not of this title.
            DecisionNeeded: two folders in it could be meant.
        """
        place = open_place(where) if isinstance(where, (str, os.PathLike)) else where
        tree = place.survey()
        folder = _ARCHIVE.sub("", os.path.basename(place.location))
        root = self._root_of(place, tree)
        if root is None:
            raise UsageError(
                f"this is no release of {self.name}",
                where=place.location,
                remedy=f"The card looks for {', '.join(self.file.program.markers)} in it.",
            )
        if root.folder:
            folder = root.folder.rpartition("/")[2]
            place, tree = SubPlace(place, root.folder), tree.under(root.folder)
        evidence = detect(place, tree, self.file.detect, self.build, folder=folder, prefix="")
        chosen = self.build(version) if version else None
        joined = JoinedPlace({PROGRAM: place})
        build = Install(self, joined, evidence, chosen).told_version
        card = self.bound(build, any_case=self.any_case)
        return Install(card, joined, evidence, chosen, extras=root.extras)

    def _root_of(self, place: Place, tree: Tree) -> Root | None:
        if self.file.program.markers:
            return find_root(tree, self.file.program.markers, where=place.location)
        tops = {path.partition("/")[0] for path in tree}
        wrapped = len(tops) == 1 and not isinstance(place, (FolderPlace, EntryPlace))
        return (
            Root(tops.pop()) if wrapped and tree.leaves and not tops & {*tree.leaves} else Root("")
        )


class Install(Struct, frozen=True, dict=True):
    """An install or a release: its place, the evidence of its version, and how sure that is.

    >>> install.card.name, str(install.version), install.agreed
    ('Mossferry', '1.4', True)
    """

    card: Card
    place: Place
    evidence: tuple[Evidence, ...]
    chosen: Version | None = None
    extras: tuple[str, ...] = ()

    def __repr__(self) -> str:
        return f"<Install {self.card.title} {self.version or '(version unknown)'}, {self.place.location}>"

    @cached_property
    def axes(self) -> dict[str, tuple[Evidence, ...]]:
        """The evidence of the versions it has beside the program's, by axis."""
        tree = self.place.survey() if self.card.file.axes else Tree()
        return {
            name: detect(
                self.place,
                tree,
                axis.detect,
                scheme(axis.scheme, axis.order).parse,
                folder="",
                prefix=f"{PROGRAM}/",
            )
            for name, axis in self.card.file.axes.items()
        }

    def again(self) -> Install:
        """Return the install as it is now, whatever was said of it before."""
        assert isinstance(self.place, JoinedPlace)
        evidence = self.card._evidence_in(self.place, self.place.survey())
        build = Install(self.card, self.place, evidence).told_version
        card = self.card.bound(build, any_case=self.card.any_case)
        return Install(card, self.place, evidence)

    @property
    def agreed(self) -> bool:
        """Whether all evidence that says anything says the same."""
        return len({piece.version for piece in self.evidence if piece.version}) <= 1

    @property
    def version(self) -> Version | None:
        """The build: what the caller said, else the first evidence in the card's order."""
        if self.chosen:
            return self.chosen
        return next((piece.version for piece in self.evidence if piece.version), None)

    @property
    def told_version(self) -> Version | None:
        """The build, if it was said, or all evidence says the same; else None."""
        return self.version if self.chosen or self.agreed else None

    def check_version(self) -> None:
        """Raise `DecisionNeeded` if the version is in doubt, unless the card has no way to tell it."""
        if self.version is not None or self.card.file.detect:
            _ = self.sure_version

    @property
    def sure_version(self) -> Version:
        """The build, if it is certain.

        Raises:
            DecisionNeeded: nothing tells the version, or the evidence disagrees.
        """
        version = self.version
        if version is None or not (self.chosen or self.agreed):
            what = (
                "the evidence disagrees about the version"
                if version
                else "nothing tells the version"
            )
            raise DecisionNeeded(
                f"{what} of this {self.card.name}",
                where=self.place.location,
                choices=tuple(map(str, self.evidence)),
                remedy="Say which it is with `build=VERSION`.",
            )
        return version

    @property
    def tag(self) -> Tag:
        """What a backup of this is tagged with."""
        version = self.version
        said_so = [piece.source for piece in self.evidence if piece.version == version]
        return Tag(
            self.card.title,
            version.text if version else "",
            "given by the caller" if self.chosen else ", ".join(said_so),
            self.card.categories,
            self.card.disposable,
            self.id_lists,
        )

    @cached_property
    def id_lists(self) -> dict[str, bytes]:
        """The id lists of the build, packed, by `WORLDS.LIST`; without those that cannot be read.

        They go into every entry, so that its worlds can be read when the program is gone.
        """
        if not self.card.file.worlds:
            return {}
        from .worlds.kept import lists_of_build  # most titles have no worlds

        return lists_of_build(self.card.worlds, self.place)

    def names_of(self, file: str | os.PathLike[str]) -> list[str]:
        """Return what a file on disk is called in this install, `user/saves/a.voyage`; the shortest first."""
        full = os.path.abspath(os.path.expanduser(os.fspath(file)))
        try:
            roots = roots_of(self.place)
        except KindredError:
            return []
        inside = [
            f"{name}/{os.path.relpath(full, root)}".lstrip("/").replace(os.sep, "/")
            for name, root in roots.items()
            if full.startswith(os.path.abspath(root) + os.sep)
        ]
        return sorted(inside, key=len)

    def select(self, categories: str | Iterable[str]) -> Callable[[str], bool]:
        """Return what tells whether a path is in a category, or in one of several.

        Raises:
            UsageError: there is no such category.
        """
        return select_categories(self.card.categories, categories)


def as_install(value: Install) -> Install:
    """Return an install as it is; anything else is refused with how to open one.

    Raises:
        UsageError: it is no install.
    """
    if isinstance(value, Install):
        return value
    raise UsageError(
        f"an install is needed here, not {type(value).__name__}",
        remedy="Open it with its card: Card.load(FILE).open(FOLDER).",
    )

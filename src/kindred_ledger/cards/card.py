"""Card: what is known about one title. Install: one install of it, found and told apart."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Mapping
from fnmatch import fnmatchcase as fnmatch
from functools import cached_property
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..errors import (
    CardError,
    DecisionNeeded,
    FormatError,
    KindredError,
    UsageError,
    VersionError,
    VersionUntold,
)
from ..finding import Finding
from ..formats import (
    FOLDER,
    Document,
    Path,
    decode,
    decode_folder,
    format_path,
    load_layout,
    parse_path,
)
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
)
from ..versions import Scheme, Version, VersionRange, scheme
from .detect import Evidence, detect
from .locate import Surroundings, locate
from .models import PROGRAM, BuildFormat, CardFile, FormatTable, ProgramTable, VersionSign
from .reader import read_card
from .roots import Root, find_root
from .selecting import select_categories
from .updates import Updates

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ..formats import Layout

__all__ = ["PROGRAM", "Card", "Format", "Install"]

_ARCHIVE = re.compile(r"(\.tar)?\.(zip|tar|tgz|tbz2|txz|gz|bz2|xz|zst)$", re.I)  # what names end in


class Format(Struct, frozen=True, dict=True):
    """A kind of file of a title: which files, which versions of it which builds read and write.

    >>> card.formats["voyage"].name, sorted(map(str, card.formats["voyage"].versions))
    ('voyage', ['3', '4', '5', '6'])
    """

    name: str
    table: FormatTable
    builds: Scheme
    folder: str = ""  # of the card, where its layouts are
    tables: dict[str, dict[str, Any]] = {}  # of the card, by name: for steps and expressions

    def __repr__(self) -> str:
        return f"<Format {self.name}>"

    @cached_property
    def record_keys(self) -> dict[Path, str]:
        """Which field names the records of a list, by patterns of paths."""
        return {parse_path(at): field for at, field in self.table.keys.items()}

    @cached_property
    def layout(self) -> Layout | None:
        """What describes files of this format, if they are binary."""
        return load_layout(self.layout_path) if self.table.layout else None

    @property
    def layout_path(self) -> str:
        """Where its layout is, beside the card."""
        return os.path.join(self.folder, self.table.layout)

    @cached_property
    def files(self) -> Patterns:
        """Which paths of an install are of this format."""
        return Patterns(tuple(self.table.files))

    @cached_property
    def scheme(self) -> Scheme:
        """How the format's versions are ordered."""
        return scheme(self.table.scheme)

    def written_by(self, build: Version) -> Version:
        """Return the format version a build writes.

        Raises:
            UsageError: the card says nothing about that build.
        """
        return self.scheme.parse(self._row(build).writes)

    @property
    def is_folder(self) -> bool:
        """Whether one thing of this format is a folder of files."""
        return self.table.codec == FOLDER

    def is_pack(self, names: Iterable[str]) -> bool:
        """Tell whether a folder with files of these names is of this format: one tells the version."""
        return self.is_folder and str(self.version_path[0]) in names

    def folders(self, tree: Tree) -> dict[str, list[str]]:
        """Return the folders of a tree that are of this format, each with the paths of its files."""
        patterns = [pattern.strip("/").split("/") for pattern in self.table.files]
        found: dict[str, list[str]] = {}
        for path in tree.files:
            parts = path.split("/")
            for wanted in patterns:
                head = parts[: len(wanted)]
                if len(head) < len(parts) and all(map(fnmatch, head, wanted)):
                    found.setdefault("/".join(head), []).append(path)
                    break
        return found

    def decode(self, data: bytes | Mapping[str, bytes]) -> Document:
        """Read a file of this format, or the files of a folder.

        Raises:
            FormatError: it is none.
        """
        if not isinstance(data, bytes):
            return decode_folder(data)
        return decode(data, self.table.codec, layout=self.layout)

    @cached_property
    def version_path(self) -> Path:
        """Where a file says which version it is in; () if files of this format do not."""
        return parse_path(self.version_key) if self.version_key else ()

    @property
    def version_key(self) -> str:
        """The path of that as text: the card's, or that of the layout."""
        own = self.layout.version_path if self.layout is not None else None
        return self.table.version.key or (format_path(own) if own else "")

    @cached_property
    def versions(self) -> frozenset[Version]:
        """The versions the card knows: those that builds write or read, its layout's, its steps'."""
        known = {v for row in self.table.builds for v in (row.writes, *row.reads)}
        if self.layout is not None:
            known |= {str(v) for v in range(self.layout.low, self.layout.high + 1)}
        known |= {v for step in self.table.steps for v in (step.source, step.to)}
        return frozenset(map(self.scheme.parse, known))

    def version_of(self, document: Document) -> Version:
        """Return the version a document says it is in.

        Raises:
            FormatError: its number is missing, or none the card knows.
        """
        told = self._said(document)
        if told is None and self.table.version.default:
            return self.scheme.parse(self.table.version.default)
        if told is None:
            key = self.version_key
            missing = f": there is no {key}" if key else ""
            raise VersionUntold(
                f"it does not say which format it is in{missing}",
                remedy=f"This may be no {self.name} file, or a damaged one.",
            )
        return told

    def sure_version_of(self, document: Document, builds: Iterable[Version] = ()) -> Version:
        """Return the format version a file is in, by what it says, or by the builds that may have written it.

        The card's `default` counts only where such a build writes it: many formats have no version key
        in any version.

        Raises:
            VersionUntold: nothing tells it, or what there is contradicts itself.
        """
        told = self._said(document)
        if told is not None:
            return told
        written = {self.written_by(build) for build in builds}
        default = self.table.version.default
        if len(written) == 1 and (not default or written == {self.scheme.parse(default)}):
            return written.pop()
        names = " or ".join(v.text for v in sorted(written))
        because = f"; the build would have written {names}" if written else ""
        if default:
            because += f"; the card takes such files for {default}"
        raise VersionUntold(
            f"it does not say which format version it is in{because}",
            remedy="Say it with `source=N`.",
        )

    def _said(self, document: Document) -> Version | None:
        """Return the version that a file says, or shows by what is in it; None if it does neither."""
        key = self.table.version
        if not self.version_path or not document.find(self.version_path):
            signs = [version for version, sign in key.signs.items() if self._fits(sign, document)]
            if len(signs) > 1:
                raise VersionUntold(
                    f"by the card's signs it is in format {' and '.join(signs)} at once",
                    remedy="Put the signs of the card right, or say it with `source=N`.",
                )
            return self.scheme.parse(signs[0]) if signs else None
        text = str(document.get(self.version_path)).strip()
        try:
            version = self.scheme.parse(text)
        except KindredError as error:
            raise FormatError(
                f"{self.version_key} is {text!r}, which is no format version"
            ) from error
        if version not in self.versions:
            told = ", ".join(sorted(each.text for each in self.versions))
            raise FormatError(
                f"{self.version_key} is {text}, a format version the card does not know",
                remedy=f"It knows {told}. The file may be damaged, or of a newer build.",
            )
        return version

    def _fits(self, sign: VersionSign, document: Document) -> bool:
        """Tell whether a document is as a sign says; of what an expression cannot tell, it is not."""
        if sign.has and not document.find(parse_path(sign.has)):
            return False
        if sign.lacks and document.find(parse_path(sign.lacks)):
            return False
        if not sign.holds:
            return True
        from ..formats.expressions import Expression, scope_of

        try:
            return Expression.parse(sign.holds, self.tables)(scope_of(document)) is True
        except FormatError:
            return False

    def fits_name(self, name: str) -> bool:
        """Tell whether a file's name is as the last part of the format's patterns."""
        last = name.replace("\\", "/").rpartition("/")[2]
        return not self.is_folder and any(
            fnmatch(last, pattern.rpartition("/")[2]) for pattern in self.table.files
        )

    def read_by(self, build: Version) -> tuple[Version, ...]:
        """Return the format versions a build reads."""
        return tuple(self.scheme.parse(text) for text in self._row(build).reads)

    def _row(self, build: Version) -> BuildFormat:
        for row in self.table.builds:
            if build in VersionRange.parse(row.builds, self.builds):
                return row
        known = ", ".join(row.builds for row in self.table.builds)
        raise UsageError(
            f"the card says nothing about {self.name} files of build {build}",
            remedy=f"It knows the builds {known}.",
        )


class Card:
    """A card that was read and checked.

    >>> card.name, sorted(card.categories)
    ('Mossferry', ['mods', 'saves', 'settings'])
    >>> card.open("mossferry")
    <Install mossferry 1.4, ...mossferry>
    """

    def __init__(self, file: CardFile, path: str) -> None:
        self.file = file
        self.path = path
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
        return Updates(self.file, self.scheme)

    @cached_property
    def categories(self) -> dict[str, Patterns]:
        """The paths that belong to each category."""
        return {
            name: Patterns(tuple(table.include), tuple(table.exclude))
            for name, table in self.file.categories.items()
        }

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
            name: Format(name, table, self.scheme, os.path.dirname(self.path), self.tables)
            for name, table in self.file.formats.items()
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
        roots = {PROGRAM: root}
        for name, table in self.file.locations.items():
            found = (folders or {}).get(name) or locate(name, table, root, around=around)
            if found and os.path.isdir(found):
                roots[name] = found
        place = join_folders(roots)
        install = Install(self, place, self._evidence_in(place))
        return replace(install, chosen=self.build(version)) if version else install

    def _evidence_in(self, place: JoinedPlace) -> tuple[Evidence, ...]:
        return detect(
            place,
            place.survey(),
            self.file.detect,
            self.build,
            folder=os.path.basename(place.parts[PROGRAM].location),
            prefix=f"{PROGRAM}/",
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
        release = Install(self, JoinedPlace({PROGRAM: place}), evidence, extras=root.extras)
        return replace(release, chosen=self.build(version)) if version else release

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
        return Install(self.card, self.place, self.card._evidence_in(self.place))

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
        )

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

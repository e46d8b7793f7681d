"""ModKind: one kind of mods, packs or projects of a card, ready to be asked, and its faults."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import cached_property

from ...errors import KindredError
from ...formats import codec_names, parse_path
from ...places import Patterns
from ...suggestions import hint
from ...versions import Scheme, Version, VersionRange
from ..models import CardFile, ModsTable, NumberTable
from .ranges import PLAIN

__all__ = ["ARCHIVES", "ModKind", "mods_faults", "projects_faults"]

ARCHIVES = ("zip", "tar")
_WANTS = ("", "built", "sources")
# Files of the making that no pack needs, whatever the title: left by editors and systems.
_WORK_ENDS = (".bak", ".tmp", ".orig", ".old", "~")
_WORK_NAMES = (".ds_store", "thumbs.db", "desktop.ini")
_KEY = tuple[str | int, ...]


class ModKind:
    """The rules of one kind of mods; `parse` reads a build of the title.

    >>> kind = card.mods["mods"]
    >>> kind.table.descriptor, kind.folders
    (['mod.json'], ('program/mods',))
    """

    def __init__(
        self,
        name: str,
        table: ModsTable,
        parse: Callable[[str], Version],
        builds: Scheme,
        *,
        guessed: bool = False,
        any_case: bool = False,
    ) -> None:
        self.name, self.table, self.parse, self.builds = name, table, parse, builds
        self.guessed = guessed  # from what the mods are like, as no card describes them
        self.any_case = any_case
        self.folders = tuple(folder.strip("/") for folder in table.folders)
        self.descriptors = {name.casefold() for name in table.descriptor}

    def with_table(self, table: ModsTable) -> ModKind:
        """Return the kind with other rules."""
        return ModKind(
            self.name, table, self.parse, self.builds, guessed=self.guessed, any_case=self.any_case
        )

    def _patterns(self, patterns: list[str]) -> Patterns | None:
        return Patterns(tuple(patterns), any_case=self.any_case) if patterns else None

    @cached_property
    def built(self) -> Patterns | None:
        """The files that building makes."""
        return self._patterns(self.table.built)

    @cached_property
    def sources(self) -> Patterns | None:
        """The files that are built from."""
        return self._patterns(self.table.sources)

    def is_work(self, path: str) -> bool:
        """Tell whether a file is one of the making, which no pack needs."""
        name = path.rpartition("/")[2].lower()
        return (
            name.endswith(_WORK_ENDS)
            or name in _WORK_NAMES
            or bool(self._work and self._work(path))
        )

    @cached_property
    def _work(self) -> Patterns | None:
        return Patterns(tuple(self.table.work), any_case=True) if self.table.work else None

    def values_of(self, number: NumberTable, build: Version) -> list[int] | None:
        """Return the values of a number that a build takes; None if the card does not say."""
        for row in number.builds:
            if build in VersionRange.parse(row.builds, self.builds):
                return row.values
        return None


def mods_faults(card: CardFile, builds: Scheme | None) -> Iterator[tuple[_KEY, str]]:
    """Yield what contradicts itself in the tables about mods; a key and the fault each."""
    for name, table in card.mods.items():
        for key, fault in _faults(table, builds):
            yield ("mods", name, *key), fault


def projects_faults(card: CardFile) -> Iterator[tuple[_KEY, str]]:
    """Yield what contradicts itself in the tables about projects; a key and the fault each."""
    for name, table in card.projects.items():
        lists = [table.libraries.list, *(each.list for each in table.elements)]
        for path in (*lists, *([table.notes] if table.notes else ())):
            try:
                parse_path(path)
            except KindredError as error:
                yield ("projects", name), error.what
        for path in lists:
            if not path.endswith("[*]"):
                yield ("projects", name), f"{path!r} is not all of a list: write {path}[*]"
        if not table.elements:
            yield ("projects", name, "elements"), "expected at least one list of elements"
        for codec in filter(None, (table.codec, table.library.codec)):
            if codec not in codec_names():
                yield (
                    ("projects", name, "codec"),
                    f"there is no codec {codec!r}{hint(codec, codec_names())}",
                )
        try:
            Patterns(tuple(table.files)).check()
        except KindredError as error:
            yield ("projects", name, "files"), error.what


def _faults(table: ModsTable, builds: Scheme | None) -> Iterator[tuple[_KEY, str]]:
    if not table.folders:
        yield ("folders",), "expected at least one folder that mods lie in"
    if not table.descriptor:
        yield ("descriptor",), "expected the name of the file that describes a mod"
    for file in table.descriptor:
        if not file.strip("/") or "*" in file or "/" in file:
            yield ("descriptor",), f"{file!r} is not the name of a file"
    if table.codec and table.codec not in codec_names():
        yield (
            ("codec",),
            f"there is no codec {table.codec!r}{hint(table.codec, codec_names())}",
        )
    if table.wants not in _WANTS:
        yield ("wants",), f"expected built or sources, found {table.wants!r}"
    for kind in table.archives:
        if kind not in ARCHIVES:
            yield ("archives",), f"{kind!r} is none of {', '.join(ARCHIVES)}"
    for pattern in (*table.built, *table.sources, *table.work):
        try:
            Patterns((pattern,)).check()
        except KindredError as error:
            yield (), error.what
    if table.builds is not None:
        if bool(table.builds.key) == bool(table.builds.since or table.builds.until):
            yield ("builds",), "expected either `key`, or `since` and `until`"
        if table.builds.plain not in PLAIN:
            yield (
                ("builds", "plain"),
                f"expected one of {', '.join(PLAIN)}{hint(table.builds.plain, PLAIN)}",
            )
    if table.picture is not None and bool(table.picture.file) == bool(table.picture.key):
        yield ("picture",), "expected either `file` or `key`"
    for path in _paths(table):
        try:
            parse_path(path)
        except KindredError as error:
            yield (), error.what
    for at, number in enumerate(table.numbers):
        for row in number.builds:
            try:
                VersionRange.parse(row.builds, builds)
            except KindredError as error:
                yield ("numbers", at), error.what
            if not row.values:
                yield ("numbers", at), "expected the values that these builds take"


def _paths(table: ModsTable) -> Iterator[str]:
    """Yield every path into a file that a table names."""
    yield from filter(None, (table.id, table.name, table.version, table.folder_name))
    yield from table.parts
    for link in (table.needs, table.conflicts, table.after):
        if link is not None:
            yield link.key
    for number in table.numbers:
        yield number.key
    if table.builds is not None:
        yield from filter(None, (table.builds.key, table.builds.since, table.builds.until))
    if table.picture is not None and table.picture.key:
        yield table.picture.key
    for pair in (table.original, table.on):
        if pair is not None:
            yield pair.key

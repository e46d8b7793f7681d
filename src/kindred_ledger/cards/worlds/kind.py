"""WorldKind: one kind of worlds of a card, ready to be asked; its faults; and the worlds that are there."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property

from msgspec import Struct

from ...errors import IdListError, KindredError, UsageError
from ...formats import Path, codec_names, parse_path
from ...places import Patterns, Place, Tree, read_bytes
from ...suggestions import did_you_mean, hint
from ..models import CardFile
from ..world_models import IdFieldTable, IdListTable, IdSourceTable, WorldTable
from .id_list import IdList
from .id_sources import compile_line, read_id_list

__all__ = ["Field", "World", "WorldKind", "chained", "worlds_faults"]

_KEY = tuple[str | int, ...]
_EXPECTED = ("there", "gone", "new")
_REMOVE = ("", "row", "empty", "refused")
_BITS = (8, 16, 24, 32)
_TOLERANCE = re.compile(r"\d+(\.\d+)?%?")


class Field(Struct, frozen=True):
    """Where ids stand: a row of `fields`, with the name of its list and its path read."""

    table: IdFieldTable
    list: str
    at: Path
    files: Patterns


class WorldKind:
    """The rules of one kind of worlds.

    >>> kind = fens.worlds["fen"]
    >>> sorted(kind.table.lists), [field.table.kind for field in kind.fields][:2]
    (['things'], ['tiles', 'things'])
    """

    def __init__(self, name: str, table: WorldTable, *, any_case: bool = False) -> None:
        self.name, self.table, self.any_case = name, table, any_case

    @cached_property
    def fields(self) -> tuple[Field, ...]:
        """Where ids stand."""
        only = next(iter(self.table.lists))
        return tuple(
            Field(
                each,
                each.of or only,
                parse_path(each.at) if each.at else (),
                Patterns(tuple(each.files), any_case=self.any_case),
            )
            for each in self.table.fields
        )

    def worlds(self, place: Place, tree: Tree) -> list[World]:
        """Return the worlds of this kind in a place, by their folders."""
        patterns = [pattern.strip("/").split("/") for pattern in self.table.folders]
        fits = [Patterns((f"/{'/'.join(parts)}/",), any_case=self.any_case) for parts in patterns]
        found: dict[str, None] = {}
        for path in tree.files:
            parts = path.split("/")
            for wanted, fit in zip(patterns, fits, strict=True):
                if len(parts) > len(wanted) and fit(path):
                    found.setdefault("/".join(parts[: len(wanted)]))
                    break
        return [World(self, place, folder) for folder in sorted(found)]

    def build_lists(self, place: Place, tree: Tree) -> dict[str, IdList]:
        """Return the id lists of a build, out of its install or release, by name.

        Raises:
            IdListError: there is none, or one contradicts itself.
            FormatError: one cannot be read.
        """
        return {name: self.build_list(name, place, tree) for name in self.table.lists}

    def build_list(self, name: str, place: Place, tree: Tree) -> IdList:
        """Return one id list of a build; see `build_lists`."""
        source = self.table.lists[name].build
        path = source.file.lstrip("/")
        if path not in tree:
            raise IdListError(
                f"there is no id list {path}",
                where=place.location,
                remedy="Check `build` of the list in the card, or name the install or release that has it.",
            )
        return read_id_list(read_bytes(place, path), source, origin=path)


class World(Struct, frozen=True):
    """One world: a folder of a place.

    >>> world = fens.worlds["fen"].worlds(fen_install.place, kl.scan(fen_install.place))[0]
    >>> world.name, world.folder
    ('northbog', 'user/worlds/northbog')
    """

    kind: WorldKind
    place: Place
    folder: str

    @property
    def name(self) -> str:
        """What it is called: the name of its folder."""
        return self.folder.rpartition("/")[2]

    def inner(self, path: str) -> str:
        """Return the path of a file of it from its folder; "" for other files."""
        start = f"{self.folder}/"
        return path[len(start) :] if path.startswith(start) else ""

    def files(self, tree: Tree) -> list[str]:
        """Return the paths of its files, from its folder."""
        return [inner for path in tree.files if (inner := self.inner(path))]

    def list_path(self, name: str) -> str:
        """Return where the world has a list of its own; "" if the card says it has none."""
        source = self.kind.table.lists[name].world
        return f"{self.folder}/{source.file}" if source is not None else ""

    def own_list(self, name: str, tree: Tree) -> IdList | None:
        """Return the list that the world carries; None if it carries none.

        Raises:
            IdListError: it contradicts itself.
            FormatError: it cannot be read.
        """
        source, path = self.kind.table.lists[name].world, self.list_path(name)
        if source is None or path not in tree:
            return None
        return read_id_list(read_bytes(self.place, path), source, origin=path)


def chained(aliases: dict[str, str | list[str]], name: str) -> tuple[str, ...]:
    """Return what a name is by now, through aliases of aliases; several if it was split.

    >>> chained({"a": "b", "b": ["c", "d"]}, "a"), chained({}, "a")
    (('c', 'd'), ('a',))

    Raises:
        UsageError: the aliases go round in a circle.
    """
    seen = [name]
    while name in aliases:
        told = aliases[name]
        if isinstance(told, list):
            return tuple(told)
        if told in seen:
            raise UsageError(f"the aliases go round in a circle: {' = '.join([*seen, told])}")
        seen.append(told)
        name = told
    return (name,)


# ---- faults ----------------------------------------------------------------------------------


def worlds_faults(card: CardFile) -> Iterator[tuple[_KEY, str]]:
    """Yield what contradicts itself in the tables about worlds; a key and the fault each."""
    lists: dict[str, str] = {}
    for name, table in card.worlds.items():
        for each in table.lists:
            if lists.setdefault(each, name) != name:
                yield ("worlds", name, "lists", each), f"{lists[each]} has a list of that name, too"
        for key, fault in _faults(table, card):
            yield ("worlds", name, *key), fault


def _faults(table: WorldTable, card: CardFile) -> Iterator[tuple[_KEY, str]]:
    if not table.folders:
        yield ("folders",), "expected at least one folder"
    if not table.lists:
        yield ("lists",), "expected at least one id list"
    if not table.fields:
        yield ("fields",), "expected at least one field that holds ids"
    for name, each in table.lists.items():
        for key, fault in _list_faults(each):
            yield ("lists", name, *key), fault
    for at, field in enumerate(table.fields):
        for key, fault in _field_faults(field, table, card):
            yield ("fields", at, *key), fault
    if table.regions is not None:
        if bool(table.regions.x and table.regions.z) == bool(table.regions.name):
            yield ("regions",), "expected either `x` and `z`, or `name`"
        if table.regions.name and not {"{x}", "{z}"} <= set(
            re.findall(r"\{\w+\}", table.regions.name)
        ):
            yield ("regions", "name"), "expected {x} and {z} in it"
        if min(table.regions.width, table.regions.height) < 1:
            yield ("regions",), "`width` and `height` are at least 1"
    for at, own in enumerate(table.own):
        yield from _at_format(("own", at), own.format, (own.x, own.z, own.owner), card)
    for at, row in enumerate(table.census):
        yield from _at_format(("census", at), row.format, (row.sum, row.by), card)
        if bool(row.sum) == bool(row.by):
            yield ("census", at), "expected either `sum` or `by`"
        if not _TOLERANCE.fullmatch(row.tolerance):
            yield ("census", at, "tolerance"), 'expected a number, or percent such as "2%"'
    for kind, text in table.tolerance.items():
        if not _TOLERANCE.fullmatch(text):
            yield ("tolerance", kind), 'expected a number, or percent such as "2%"'
    for name, value in table.worth.items():
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            yield ("worth", name), "expected a number"
    seen: dict[tuple[str, str], str] = {}
    for at, field in enumerate(table.fields):
        of = field.of or next(iter(table.lists), "")
        if seen.setdefault((of, field.kind), field.remove) != field.remove:
            yield (
                ("fields", at, "remove"),
                f"all {field.kind} are removed alike: say the same for each",
            )
    for at, landmark in enumerate(table.landmarks):
        if landmark.expect not in _EXPECTED:
            known = ", ".join(_EXPECTED)
            yield (
                ("landmarks", at, "expect"),
                f"expected one of {known}{hint(landmark.expect, _EXPECTED)}",
            )


def _list_faults(table: IdListTable) -> Iterator[tuple[_KEY, str]]:
    for key, source in (("build", table.build), ("world", table.world)):
        if source is not None:
            for fault in _source_faults(source, in_world=key == "world"):
                yield (key,), fault
    if table.bits not in _BITS:
        yield ("bits",), f"expected one of {', '.join(map(str, _BITS))}"
    for name, told in table.aliases.items():
        parts = told if isinstance(told, list) else [told]
        if not parts or not all(isinstance(part, str) and part for part in parts):
            yield ("aliases", name), "expected a name, or a list of names"
            return
    for name in table.aliases:
        try:
            chained(table.aliases, name)
        except UsageError as error:
            yield ("aliases", name), error.what


def _source_faults(source: IdSourceTable, *, in_world: bool) -> Iterator[str]:
    if source.file.startswith("/") == in_world:
        what = "does not begin with a slash" if in_world else "begins with a slash: /program/…"
        yield f"the file of this list {what}"
    if sum(map(bool, (source.names, source.records, source.pattern))) != 1:
        yield "expected one of `names`, `records` or `pattern`"
        return
    if source.pattern:
        if "{number}" not in source.pattern or "{name}" not in source.pattern:
            yield "the pattern of a list has {number} and {name} in it"
        try:
            compile_line(source.pattern)
        except KindredError as error:
            yield error.what
    elif source.codec not in codec_names():
        yield f"expected a `codec`, one of {', '.join(codec_names())}{hint(source.codec, codec_names())}"
    else:
        try:
            parse_path(source.names or source.records)
        except KindredError as error:
            yield error.what


def _field_faults(
    field: IdFieldTable, table: WorldTable, card: CardFile
) -> Iterator[tuple[_KEY, str]]:
    if bool(field.pattern) == bool(field.at):
        yield (), "expected either `at` with a `format`, or `pattern`"
        return
    try:
        Patterns(tuple(field.files)).check()
    except KindredError as error:
        yield ("files",), error.what
    if field.of and field.of not in table.lists:
        yield ("list",), f"there is no list {field.of!r}. {did_you_mean(field.of, table.lists)}"
    if not field.of and len(table.lists) > 1:
        yield ("list",), f"say which list it is of: {', '.join(table.lists)}"
    if field.remove not in _REMOVE:
        yield ("remove",), f"expected one of {', '.join(filter(None, _REMOVE))}"
    of = table.lists.get(field.of or next(iter(table.lists), ""))
    if field.remove == "empty" and of is not None and not of.empty:
        yield ("remove",), "its list says nothing about `empty`"
    if field.remove == "row" and (field.used_by or not field.at):
        yield ("remove",), "an entry of a palette, or a line of text, cannot go alone"
    if field.pattern:
        try:
            compile_line(field.pattern)
        except KindredError as error:
            yield ("pattern",), error.what
        if "{number}" in field.pattern and "{name}" in field.pattern:
            yield ("pattern",), "expected either {number} or {name}"
        return
    paths = (field.at, field.used_by, *(p for p in (field.amount, field.owner, field.x, field.z)))
    yield from _at_format((), field.format, paths, card)


def _at_format(
    key: _KEY, format: str, paths: tuple[str, ...], card: CardFile
) -> Iterator[tuple[_KEY, str]]:
    if format not in card.formats:
        yield (
            (*key, "format"),
            f"there is no format {format!r} in this card{hint(format, card.formats)}",
        )
    for path in filter(None, paths):
        try:
            parse_path(path)
        except KindredError as error:
            yield key, error.what

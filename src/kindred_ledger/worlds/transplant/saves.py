"""Saves: which rules of a card are for two installs, and the two saves that are meant."""

from __future__ import annotations

from typing import Any

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ...cards import Format, Install
from ...cards.transplant_models import TransplantTable
from ...convert.converter import Converted, Converter
from ...errors import FormatError, UsageError
from ...formats import Document
from ...places import Tree, read_bytes
from ...suggestions import did_you_mean
from ...versions import Version, VersionRange

__all__ = [
    "OpenedSave", "converted", "find_save", "format_of", "has_saves", "is_called", "opened", "rules_for",
    "rules_named",
]  # fmt: skip


class OpenedSave(Struct, frozen=True):
    """A save of an install: its path there, what is in it, and the version of its format."""

    path: str
    data: bytes
    version: Version

    @property
    def name(self) -> str:
        """The name of its file."""
        return self.path.rpartition("/")[2]


def rules_for(source: Install, target: Install) -> tuple[str, TransplantTable]:
    """Return the rules of the target's card that are for these two, with their name.

    Raises:
        UsageError: there are none, or none for these builds and this direction.
        DecisionNeeded: the build of one of them is not certain.
    """
    every = target.card.file.transplants
    if not every:
        raise UsageError(
            f"the card of {target.card.name} has no rules for transplants",
            where=target.card.path,
            remedy="Add a table [transplants.NAME] to it; see docs/cards.md.",
        )
    old, new = source.sure_version, target.sure_version
    for name, table in every.items():
        if (table.of or target.card.title) != source.card.title:
            continue
        for way in table.ways:
            reads = VersionRange.parse(way.source, source.card.scheme)
            if old in reads and new in VersionRange.parse(way.to, target.card.scheme):
                return name, _whole(name, table, source)
    known = "; ".join(
        f"from {table.of or target.card.title} {way.source} to {way.to} ({name})"
        for name, table in every.items()
        for way in table.ways
    )
    taken = {table.of or target.card.title for table in every.values()}
    hint = " Rules for other builds may be wrong for these: look what changed, then widen `ways`."
    raise UsageError(
        f"no rules are for a transplant from {source.card.name} {old} to {target.card.name} {new}",
        where=target.card.path,
        remedy=f"The card has rules {known}.{hint if source.card.title in taken else ''}",
    )


def _whole(name: str, table: TransplantTable, source: Install) -> TransplantTable:
    """Return rules with what they leave to the other title's rules of that name."""
    if table.things:
        return table
    others = source.card.file.transplants.get(name)
    if others is None or not others.things:
        raise UsageError(
            f"the card of {source.card.name} has no rules {name!r} for transplants",
            where=source.card.path,
            remedy="The variant's card says that its rules are those.",
        )
    own = {
        part: value
        for part in ("format", "fresh", "carry", "conditions", "baked", "totals", "terrain",
                     "first_start", "landmarks", "look")
        if (value := getattr(table, part))
    }  # fmt: skip
    return replace(others, ways=table.ways, of=table.of, **own)


def rules_named(install: Install, name: str, made_by: Any) -> TransplantTable:
    """Return the rules of a name: those of the card, or, of a variant that has no own, those of then.

    `made_by` are the rules as plain values that things were set in by.
    """
    table = install.card.file.transplants.get(name)
    if table is not None and table.things:
        return table
    return msgspec.convert(made_by, TransplantTable)


def format_of(install: Install, rules: TransplantTable) -> Format:
    """Return the format of saves in the card of an install.

    Raises:
        UsageError: the card has none of that name.
    """
    found = install.card.formats.get(rules.format)
    if found is None:
        raise UsageError(
            f"the card of {install.card.name} has no format {rules.format!r}",
            where=install.card.path,
        )
    return found


def find_save(install: Install, tree: Tree, rules: TransplantTable, name: str) -> OpenedSave:
    """Open a save by its name, with or without the ending; it may be left out where there is only one.

    Raises:
        UsageError: there is none, or there are several.
        FormatError: it cannot be read, or nothing tells its version.
    """
    format = format_of(install, rules)
    paths = [path for path in tree.files if format.files(path)]
    named = [path for path in paths if is_called(path, name)]
    if len(named) != 1:
        names = [path.rpartition("/")[2] for path in named or paths]
        if not paths:
            what, remedy = "there is no save here", f"The card looks for {rules.format} files."
        elif named:
            what, remedy = "say which save is meant", f"There are: {', '.join(names)}."
        else:
            what, remedy = f"there is no save {name!r}", did_you_mean(name, names)
        raise UsageError(what, where=install.place.location, remedy=remedy)
    data = read_bytes(install.place, named[0])
    build = install.version
    try:
        document = format.decode(data)
        version = format.sure_version_of(
            document, (build,) if build is not None else (), name=named[0]
        )
    except FormatError as error:
        raise error.inside(named[0]) from None
    return OpenedSave(named[0], data, version)


def has_saves(install: Install, tree: Tree, rules: TransplantTable) -> bool:
    """Tell whether an install, or a release, has any save."""
    return any(map(format_of(install, rules).files, tree.files))


def is_called(path: str, name: str) -> bool:
    """Tell whether a save is meant by a name: its path, that of its file with or without ending; "": any."""
    last = path.rpartition("/")[2]
    return name in ("", path, last, last.rpartition(".")[0])


def converted(
    source: Install, save: OpenedSave, rules: TransplantTable, version: Version
) -> Converted:
    """Convert a save of the old game to the format version of the new one.

    Raises:
        NoRoute: no steps of the card lead there.
        PreconditionUnmet: a step needs what the save does not have.
        BooksUnbalanced: the conversion is not what the card says.
    """
    format = format_of(source, rules)
    return Converter(format)(save.data, version, name=save.path, source=save.version)


def opened(install: Install, rules: TransplantTable, data: bytes, version: Any) -> Document:
    """Decode a save in a version of its format, as the card of an install has it."""
    return format_of(install, rules).decode(data, version)

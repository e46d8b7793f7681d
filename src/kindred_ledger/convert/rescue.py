"""Rescue: what came out empty of another program's conversion, filled from the older file.

The card says which groups of fields a version must have. Those that are missing or empty in the newer
file are looked for in the older one, brought into the newer format first where a route leads there,
under the same name or one that is given. What is in neither is beyond rescue, and told before
anything is written.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from typing import Any

from msgspec import Struct

from ..cards import Format
from ..changes import Action, Changeset, fitted
from ..errors import KindredError, NoRoute, UsageError
from ..finding import Finding
from ..formats import Document, Path, parse_path
from ..ledger import Ledger, Tag
from ..places import FilePlace, MemoryPlace, read_bytes
from ..progress import Progress
from ..statement import Statement
from ..versions import Version
from ..wording import count
from .bookkeeper import Bookkeeper
from .converter import Converter

__all__ = ["Rescue", "gaps_of", "rescue", "rescue_file"]


class Rescue(Struct, frozen=True):
    """What a rescue gives: the file, its books, what was filled and from where, and what is beyond rescue."""

    data: bytes
    statement: Statement
    filled: tuple[tuple[str, str], ...]
    findings: tuple[Finding, ...]


def gaps_of(document: Document, groups: Iterable[str]) -> tuple[Finding, ...]:
    """Return which of some groups of fields a document does not have, or has empty, by `field`."""
    out = []
    for group in groups:
        found = document.find(parse_path(group))
        if not found:
            out.append(Finding.error("field-missing", "is missing", field=group))
        elif all(_is_empty(document.get(path)) for path in found):
            out.append(Finding.error("field-empty", "is empty", field=group))
    return tuple(out)


def rescue_file(
    newer: str | os.PathLike[str],
    older: bytes,
    format: Format,
    *,
    ledger: Ledger,
    title: str = "",
    groups: Iterable[str] = (),
    names: Mapping[str, str] | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that fills the gaps of a file on disk from an older one; see `rescue`.

    `title` says what the file is kept as. What is beyond rescue is an error among the findings.

    Raises:
        FormatError: one of the files is damaged.
        UsageError: there is no such file, or nobody says which groups there should be.
    """
    place = FilePlace(newer)
    name = place.name
    now = ledger.scan(place, progress=progress)
    if not now.files:
        raise UsageError("there is no such file", where=place.location, remedy="Check the path.")
    data = read_bytes(place, name)
    found = rescue(data, older, format, name=name, groups=groups, names=names)
    filled = [group for group, _ in found.filled]
    source = MemoryPlace({name: found.data})
    node = source.survey()[name]._replace(mode=now[name].mode)
    action = Action(name, now[name], node, source, name, f"filled: {', '.join(filled)}")
    return fitted(
        Changeset(
            place=place,
            operation="rescue",
            summary=f"fill {count(len(filled), 'group')} of {name}",
            before=now,
            actions=(action,) if filled else (),
            tag=Tag(title=title),
            statements=(found.statement,) if filled else (),
            findings=(
                *found.findings,
                *(
                    Finding.note("filled", f"filled {reason}", where=name, field=group)
                    for group, reason in found.filled
                ),
            ),
        )
    )


def rescue(
    newer: bytes,
    older: bytes,
    format: Format,
    *,
    name: str,
    groups: Iterable[str] = (),
    names: Mapping[str, str] | None = None,
) -> Rescue:
    """Fill the gaps of a newer file from an older one.

    `groups` are those to look at, instead of what the card requires of the newer file's version;
    `names` maps groups of the newer file to those of the older.

    Raises:
        FormatError: one of the files is damaged.
        UsageError: neither the card nor the caller says which groups there should be.
    """
    document = format.decode(newer)
    version = format.version_of(document, name)
    wanted = tuple(groups) or tuple(format.table.required.get(version.text, ()))
    if not wanted:
        raise UsageError(
            f"the card does not say what {format.name} files of format {version} must have",
            where=name,
            remedy="Name the groups, or give the card `required`.",
        )
    source, told = _as_new(older, format, version, name)
    books = Bookkeeper(keys=format.record_keys)
    filled, beyond = [], []
    for gap in gaps_of(document, wanted):
        group = gap.field
        other = (names or {}).get(group, group)
        found = _found(source, parse_path(other))
        if found is None:
            what = f"{gap.what}, and {other} {told} holds nothing either"
            beyond.append(Finding.error("beyond-rescue", what, where=name, field=group))
            continue
        path = parse_path(group)
        there = told.removeprefix("of ") if other == group else f"{other} {told}"
        reason = f"from {there}"
        for leaf in list(document.leaves(path)) if document.find(path) else []:
            if leaf.origin is not None and isinstance(found, (dict, list)):
                books.drop(document, leaf.path, f"was empty; filled {reason}", loss=False)
        books.explain(document, path, f"was empty; filled {reason}")
        document.set(path, found, note=reason)
        filled.append((group, reason))
    data = document.encode()
    statement = books.statement(name, format.decode(newer), document, format.decode(data))
    return Rescue(data, statement, tuple(filled), tuple(beyond))


def _as_new(older: bytes, format: Format, version: Version, name: str) -> tuple[Document, str]:
    """Return the older file in the newer version where a route leads there, and how it is called."""
    document = format.decode(older)
    was = format.version_of(document)
    if was == version:
        return document, f"of the other file, format {was}"
    try:
        made = Converter(format)(older, version, name=f"the older file for {name}", source=was)
    except NoRoute:
        return document, f"of the older file, format {was}, as it is"
    except KindredError as error:
        where = f"{error.where}: " if error.where else ""
        told = f"of the older file, format {was}, as it is ({where}{error.what})"
        return document, told
    return format.decode(made.data), f"of the older file, format {was} brought to {version}"


def _found(source: Document, path: Path) -> Any:
    """Return what a source holds under a path; None if there is nothing, or nothing in it."""
    try:
        value = source.get(path) if source.find(path) else None
    except UsageError:
        value = None
    return None if _is_empty(value) else value


def _is_empty(value: Any) -> bool:
    """Tell whether a value holds nothing: none, no text, or containers of such alone."""
    if isinstance(value, dict):
        return all(_is_empty(inner) for inner in value.values())
    if isinstance(value, list):
        return all(_is_empty(inner) for inner in value)
    return value is None or value == ""

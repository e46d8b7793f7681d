"""What the card says projects refer to: libraries by name and version, elements by their ids."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import Struct

from ..cards import Card
from ..cards.models import LibraryTable, ProjectsTable
from ..errors import KindredError, UsageError
from ..finding import Finding
from ..formats import Document, decode, format_path, parse_path
from ..places import FilePlace, FolderPlace, Patterns, Place, Tree, read_bytes
from ..suggestions import path_meant
from .libraries import Library

__all__ = ["Declared", "Wanted", "open_project"]


def open_project(project: str | os.PathLike[str]) -> Place:
    """Open a project: a folder, or one file.

    Raises:
        UsageError: there is no such file or folder.
    """
    path = os.path.abspath(os.path.expanduser(os.fspath(project)))
    if not os.path.lexists(path):
        above = os.path.dirname(path)
        names = os.listdir(above) if os.path.isdir(above) else []
        raise UsageError(
            "no such file or folder",
            where=os.fspath(project),
            remedy=path_meant(os.path.basename(path), names),
        )
    return FolderPlace(path) if os.path.isdir(path) else FilePlace(path)


class Wanted(Struct, frozen=True):
    """A library that a project wants: its name and version, as its list says them."""

    name: str
    version: str
    table: LibraryTable

    def held_by(self, path: str) -> str:
        """Return what a file is: "right", "other" if it holds something else, "" if it is no library."""
        try:
            found = Library.load(path, self.table)
        except KindredError:
            return ""
        return "right" if (found.name, found.version) == (self.name, self.version) else "other"

    def __str__(self) -> str:
        return f"{self.name} {self.version}"


class Declared:
    """What the projects in a place declare, by the rules of a card; nothing without one."""

    def __init__(self, place: Place, tree: Tree, card: Card | None) -> None:
        self.wanted: dict[
            tuple[str, str], Wanted
        ] = {}  # by file and field of the path of a library
        self.findings: list[Finding] = []
        for table in card.file.projects.values() if card is not None else ():
            fits = Patterns(tuple(table.files))
            for file in tree.files:
                if fits(file):
                    self._look_at(file, place, table)

    def _look_at(self, file: str, place: Place, table: ProjectsTable) -> None:
        try:
            document = decode(read_bytes(place, file), table.codec)
        except KindredError as odd:
            told = f"the project cannot be read: {odd.what}"
            self.findings.append(Finding.error("damaged", told, where=file, field=odd.where))
            return
        listed = set()
        keys = table.libraries
        for at, record in _records(document, keys.list):
            listed.add(str(record.get(keys.id, "")))
            if keys.file in record:
                field = format_path((*at, *parse_path(keys.file)))
                name, version = str(record.get(keys.name, "")), str(record.get(keys.version, ""))
                self.wanted[file, field] = Wanted(name, version, table.library)
        self.findings += _unknown_ids(file, document, table, listed)


def _unknown_ids(
    file: str, document: Document, table: ProjectsTable, listed: set[str]
) -> Iterator[Finding]:
    """Yield the elements that are of no library of the list, and the links that lead to no element."""
    elements = [
        (each, at, record)
        for each in table.elements
        for at, record in _records(document, each.list)
    ]
    ids = {str(record.get(each.id, "")) for each, _, record in elements}
    for each, at, record in elements:
        library = str(record.get(each.library, ""))
        if library not in listed:
            told = f"{record.get(each.id)} is of {library}, which the project does not list"
            yield Finding.warning("id-unknown", told, where=file, field=format_path(at))
        links = record.get(each.links) if each.links else None
        for link in links if isinstance(links, list) else [links] if links else []:
            if str(link) not in ids:
                told = f"{record.get(each.id)} leads to {link}, which is not there"
                yield Finding.warning("id-unknown", told, where=file, field=format_path(at))


def _records(document: Document, pattern: str) -> Iterator[tuple[Any, Mapping[str, Any]]]:
    for at in document.find(parse_path(pattern)):
        record = document.get(at)
        if isinstance(record, dict):
            yield at, record

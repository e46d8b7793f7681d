"""Swapping: what a project has of one version of a library becomes that of another version.

Parts are found by their names, or by the old names that the new library lists. Parameters keep their values;
those that are not there any more go into a note in the project, from which swapping back takes them again. A
part without a successor is held, and so is what depends on it; then both libraries stay in the project.
What always holds: everything else of an element stays, and swapped there and back a project is what it was.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from graphlib import CycleError, TopologicalSorter
from typing import Any

from ..cards import Card
from ..cards.models import ElementsTable, ProjectsTable
from ..changes import Changeset, fitted
from ..errors import FormatError, UsageError
from ..finding import Finding
from ..formats import Document, Path, decode, format_path, parse_path
from ..ledger import Ledger, Tag
from ..places import Patterns, read_bytes
from ..planning.rearranged import Rearranged
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from ..suggestions import did_you_mean
from ..wording import count
from .declared import open_project
from .libraries import Library, Part, old_names

__all__ = ["swap_library"]


def swap_library(
    project: str | os.PathLike[str],
    old: str,
    new: str | os.PathLike[str],
    *,
    card: Card,
    ledger: Ledger,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change by which projects use another version of a library.

    `project` is a project file, or a folder of such; `old` what the projects call the library they use now,
    `new` the file of the other version. The old library itself stays: other projects may use it.

    Raises:
        UsageError: the card describes no projects, no project uses `old`, or `new` is another library.
        FormatError: a project, or a library, is damaged.

    >>> quaywright = kl.Card.load("modding/quaywright.card.toml")
    >>> new = "modding/quaywright/libraries/piers-2.0/piers.parts"
    >>> project = "modding/quaywright/projects/mill"
    >>> change = kl.swap_library(project, "piers-1.2", new, card=quaywright, ledger=ledger)
    >>> print(change.statements[0])
    mill.route: 2 changed (elements, 2 before, 2 after: the books balance)
    """
    if not card.file.projects:
        raise UsageError(
            f"the card of {card.name} describes no projects",
            where=card.path,
            remedy="Add a table [projects.NAME] to it; see docs/cards.md.",
        )
    where = os.path.abspath(os.path.expanduser(os.fspath(project)))
    place = open_project(project)
    before = ledger.scan(place, progress=progress)
    made = Rearranged(place, before)
    statements: list[Statement] = []
    findings: list[Finding] = []
    known: dict[str, None] = {}
    made_of: dict[str, None] = {}
    for table in card.file.projects.values():
        wanted = Patterns(tuple(table.files))
        library = Library.load(os.path.abspath(os.path.expanduser(os.fspath(new))), table.library)
        for path in before.files:
            if not wanted(path):
                continue
            full = os.path.join(where, *path.split("/")) if os.path.isdir(where) else where
            swapped = _Swapped(path, read_bytes(place, path), table, os.path.dirname(full))
            known.update(dict.fromkeys(swapped.libraries))
            if old not in swapped.libraries:
                continue
            swapped.swap(old, library)
            statements.append(swapped.books())
            findings += swapped.findings
            made_of[f"{library.name} {library.version}"] = None
            made.put(
                path,
                swapped.document.encode(),
                f"{old} swapped for {library.name} {library.version}",
            )
    if not statements:
        raise UsageError(
            f"no project here uses {old!r}", where=where, remedy=did_you_mean(old, known)
        )
    return fitted(
        Changeset(
            place=place,
            operation="swap library",
            summary=f"swap {old} for {', '.join(made_of)} in {count(len(statements), 'project')}",
            before=before,
            actions=made.actions(),
            tag=Tag(title=card.title),
            statements=tuple(statements),
            findings=tuple(findings),
        )
    )


class _Swapped:
    """One project, as it becomes."""

    def __init__(self, file: str, data: bytes, table: ProjectsTable, folder: str) -> None:
        self.file, self._table, self._folder = file, table, folder
        try:
            self.document: Document = decode(data, table.codec)
        except FormatError as error:
            raise error.inside(file) from None
        self._before = decode(data, table.codec)
        self.libraries = self._listed()
        self.findings: list[Finding] = []
        self._other: Library | None = None
        self._made_list = False  # whether an earlier swap made the list of notes
        self._lines: dict[str, Line] = {}

    def _listed(self) -> dict[str, Path]:
        """Return where each library stands in the project's list, by what elements call it."""
        table = self._table.libraries
        found = {}
        for at in self.document.find(parse_path(table.list)):
            record = self.document.get(at)
            if isinstance(record, dict) and table.id in record:
                found[str(record[table.id])] = at
        return found

    def _elements(self) -> Iterator[tuple[ElementsTable, Path, dict[str, Any]]]:
        for table in self._table.elements:
            for at in self.document.find(parse_path(table.list)):
                record = self.document.get(at)
                if isinstance(record, dict):
                    yield table, at, record

    def swap(self, old: str, library: Library) -> None:
        """Swap what is of a library, as far as it goes."""
        listed = self.document.get(self.libraries[old])
        table = self._table.libraries
        if str(listed.get(table.name, library.name)) != library.name:
            raise UsageError(
                f"{old} is {listed[table.name]}, and this is another library: {library.name}",
                where=library.file,
            )
        new = _renamed(old, str(listed.get(table.version, "")), library)
        if new == old:
            raise UsageError(
                f"{self.file} uses {library.name} {library.version} already", where=library.file
            )
        ids = {
            id: found
            for id, found in self._by_id().items()
            if found[2].get(found[0].library) == old
        }
        self._other = self._opened(listed)
        held = self._held(ids, library)
        for id in self._in_order(ids):
            if id in held:
                element, at, record = ids[id]
                part = str(record.get(element.part, ""))
                self._line(id, part, old, Outcome.UNCHANGED, f"held: {held[id]}")
                told = f"{id} stays with {old}: {held[id]}"
                self.findings.append(
                    Finding.warning(
                        "element-held", told, where=self.file, field=format_path(at), remedy=_HELD
                    )
                )
            else:
                self._one(id, *ids[id], old, new, library)
        self._list_library(old, new, library, keep=bool(held))
        at = parse_path(self._table.notes) if self._table.notes else ()
        if self._made_list and at and self.document.find(at):
            for number, note in enumerate(self.document.get(at)):
                if isinstance(note, dict) and "swapped" in note:
                    self.document.set((*at, number, "made_list"), True)
                    break

    def _opened(self, listed: Mapping[str, Any]) -> Library | None:
        """Return the library that is swapped, if it is where the project says; else it will do without."""
        file = str(listed.get(self._table.libraries.file, ""))
        path = os.path.normpath(os.path.join(self._folder, *file.replace("\\", "/").split("/")))
        try:
            return Library.load(path, self._table.library) if file else None
        except (UsageError, FormatError):
            return None

    def _by_id(self) -> dict[str, tuple[ElementsTable, Path, dict[str, Any]]]:
        out: dict[str, tuple[ElementsTable, Path, dict[str, Any]]] = {}
        for table, at, record in self._elements():
            id = str(record.get(table.id, format_path(at)))
            if id in out:
                raise FormatError(
                    f"{id!r} is the id of two elements", where=f"{self.file}: {format_path(at)}"
                )
            out[id] = (table, at, record)
        return out

    def _held(
        self, ids: Mapping[str, tuple[ElementsTable, Path, dict[str, Any]]], library: Library
    ) -> dict[str, str]:
        """Return what cannot be swapped, and why: no successor, several, or it depends on such."""
        held: dict[str, str] = {}
        for id, (table, _, record) in ids.items():
            part = str(record.get(table.part, ""))
            found = library.successors(part, self._other)
            if not found:
                held[id] = f"{library.name} {library.version} has nothing for {part}"
            elif len(found) > 1:
                names = ", ".join(each.name for each in found)
                held[id] = f"{part} may be one of several in {library.version}: {names}"
        changed = True
        while changed:
            changed = False
            for id, (table, _, record) in ids.items():
                waits = (
                    [link for link in _links(table, record) if link in held]
                    if table.ordered
                    else []
                )
                if waits and id not in held:
                    held[id] = f"it depends on {waits[0]}, which is held"
                    changed = True
        return held

    def _in_order(self, ids: Mapping[str, tuple[ElementsTable, Path, dict[str, Any]]]) -> list[str]:
        """Return the elements so that each that depends on others comes behind them."""
        before = {
            id: {link for link in _links(table, record) if link in ids} if table.ordered else set()
            for id, (table, _, record) in ids.items()
        }
        try:
            return list(TopologicalSorter(before).static_order())
        except CycleError as error:
            told = " → ".join(error.args[1][::-1])
            raise FormatError(
                f"generators wait for one another: {told}", where=self.file
            ) from error

    def _one(
        self, id: str, table: ElementsTable, at: Path, record: dict[str, Any],
        old: str, new: str, library: Library,
    ) -> None:  # fmt: skip
        """Swap one element: its library, its part, its parameters."""
        part = str(record.get(table.part, ""))
        successor = library.successors(part, self._other)[0]
        other = self._other.parts.get(part) if self._other is not None else None
        self.document.set((*at, *parse_path(table.library)), new)
        told = []
        if successor.name != part:
            self.document.set((*at, *parse_path(table.part)), successor.name)
            told.append(f"{part} is {successor.name} now")
        inner = (*at, *parse_path(table.parameters))
        told += self._restore(id, inner, new, successor)
        told += self._parameters(id, inner, old, new, successor, other)
        self._line(id, part, old, Outcome.CHANGED, "; ".join(told), successor.name, new)

    def _parameters(
        self, id: str, inner: Path, old: str, new: str, part: Part, other: Part | None
    ) -> list[str]:
        """Bring the parameters of an element to those that its part has now."""
        values = self.document.get(inner) if self.document.find(inner) else {}
        told: list[str] = []
        lost: dict[str, Any] = {}
        places: dict[str, int] = {}
        backward = {now: name for name, now in other.were.items()} if other is not None else {}
        for number, (name, value) in enumerate(values.items()):
            if name in part.parameters:
                self._check_type(id, part, name, value)
                continue
            now = part.were.get(name) or backward.get(name, "")
            if now in part.parameters and now not in values:
                self.document.move((*inner, name), (*inner, now))
                told.append(f"{name} is {now} now")
                self._check_type(id, part, now, value)
            else:
                lost[name], places[name] = value, number
        for name, value in lost.items():
            self.document.remove((*inner, name))
            told.append(f"{part.name} has no {name}: {_shown(value)} is noted")
        if lost:
            self._note(id, old, new, lost, places)
        if other is not None:
            known = {*other.parameters, *other.were}
            fresh = [
                n for n in part.parameters if n not in known and not {*old_names(part, n)} & known
            ]
            told += [f"{name} is at its default, {_shown(part.parameters[name])}" for name in fresh]
        return told

    def _check_type(self, id: str, part: Part, name: str, value: Any) -> None:
        """Warn of a value of another kind than the part takes."""
        default = part.parameters[name]
        if default is None or _kind(default) == _kind(value):
            return
        told = f"{name} is {_shown(value)}, and {part.name} takes {_kind(default)} now"
        self.findings.append(Finding.warning("parameter-kind", told, where=self.file, field=id))

    # The notes: what a swap could not keep, for the person and for swapping back

    def _note(
        self, id: str, old: str, new: str, lost: Mapping[str, Any], places: Mapping[str, int]
    ) -> None:
        names = ", ".join(f"{name} ({_shown(value)})" for name, value in lost.items())
        at = parse_path(self._table.notes) if self._table.notes else ()
        if not at:
            told = f"{names} would be lost, as the card names no place for notes"
            self.findings.append(Finding.loss("parameter-lost", told, where=self.file, field=id))
            return
        note: dict[str, Any] = {
            "swapped": id,
            "from": old,
            "to": new,
            "lost": dict(lost),
            "places": dict(places),
        }
        if not self.document.find(at):
            self.document.set(at, [], note="for what a swap cannot keep")
            note["made_list"] = True
        self.document.set(
            (*at, len(self.document.get(at))), note, note="what the swap could not keep"
        )
        told = f"{new} has nothing for {names}: noted in the project"
        self.findings.append(Finding.warning("parameter-noted", told, where=self.file, field=id))

    def _restore(self, id: str, inner: Path, new: str, part: Part) -> list[str]:
        """Take back what a swap the other way noted; return what is told of it."""
        at = parse_path(self._table.notes) if self._table.notes else ()
        notes = self.document.get(at) if at and self.document.find(at) else []
        told: list[str] = []
        for number in range(len(notes) - 1, -1, -1):
            note = notes[number]
            if not isinstance(note, dict) or (note.get("swapped"), note.get("from")) != (id, new):
                continue
            lost, places = note.get("lost") or {}, note.get("places") or {}
            back = [key for key in lost if key in part.parameters]
            for key in sorted(back, key=lambda key: int(places.get(key, 0))):
                self._insert(inner, key, lost[key], int(places.get(key, 0)))
                told.append(f"{key} is {_shown(lost[key])} again, as noted")
            if len(back) < len(lost):
                continue
            made_list = self._made_list or bool(note.get("made_list"))
            if len(notes) > 1:
                self.document.remove((*at, number))
                self._made_list = made_list
            elif made_list:
                self.document.remove(at)
            else:
                self.document.set(at, [])  # as it was, without a line of its own
            notes = notes[:number] + notes[number + 1 :]
        return told

    def _insert(self, inner: Path, key: str, value: Any, place: int) -> None:
        """Put a parameter where it stood."""
        self.document.set((*inner, key), value, note="as noted")
        names = list(self.document.get(inner))
        last = len(names) - 1
        if place < last:
            order = [*range(place), last, *range(place, last)]
            self.document.reorder(inner, order)

    # The list of libraries, and the books

    def _list_library(self, old: str, new: str, library: Library, *, keep: bool) -> None:
        """Have the project list the new library, and the old one only if something is still of it."""
        table = self._table.libraries
        at = self.libraries[old]
        record = self.document.get(at)
        told = {table.id: new, table.name: library.name, table.version: library.version}
        if table.file in record:
            told[table.file] = _as_written(str(record[table.file]), library.file, self._folder)
        target = at
        if new in self.libraries:
            if not keep:
                self.document.remove(at)
            return
        if keep:
            parent = at[:-1]
            target = (*parent, len(self.document.get(parent)))
            self.document.set(target, {**record, **told}, note="the library swapped to")
            return
        for key, value in told.items():
            if key in record and str(record[key]) != str(value):
                self.document.set((*target, key), value)

    def _line(
        self, id: str, part: str, library: str, outcome: Outcome, why: str,
        now: str = "", new: str = "",
    ) -> None:  # fmt: skip
        became = _item(id, now, new) if outcome is Outcome.CHANGED else ""
        self._lines[id] = Line(outcome, _item(id, part, library), why, became)

    def books(self) -> Statement:
        """Return the account of the elements, counted in the project as it was and as it is read anew."""
        again = decode(self.document.encode(), self._table.codec)
        before, after = (_items(one, self._table) for one in (self._before, again))
        lines = [self._lines.get(id) or Line(Outcome.UNCHANGED, item) for id, item in before]
        name = os.path.basename(self.file)
        return Statement(name, "elements", tuple(lines)).balanced(
            [item for _, item in before], [item for _, item in after]
        )


_HELD = "Give it another part, or leave it with the old library."


def _item(id: str, part: str, library: str) -> str:
    return f"{id} ({part} of {library})"


def _items(document: Document, table: ProjectsTable) -> list[tuple[str, str]]:
    """Return every element of a project: its id, and what it is called in the books."""
    out = []
    for each in table.elements:
        for at in document.find(parse_path(each.list)):
            record = document.get(at)
            if isinstance(record, dict):
                id = str(record.get(each.id, format_path(at)))
                part, library = str(record.get(each.part, "")), str(record.get(each.library, ""))
                out.append((id, _item(id, part, library)))
    return out


def _kind(value: Any) -> str:
    """Return the kind of a value, in words."""
    if isinstance(value, bool):
        return "true or false"
    if isinstance(value, (int, float, Decimal)):
        return "a number"
    if isinstance(value, str):
        return "a text"
    return "a list" if isinstance(value, list) else "a record"


def _shown(value: Any) -> str:
    """Return a value as files of settings write it."""
    if isinstance(value, bool):
        return str(value).lower()
    return repr(value) if isinstance(value, str) else str(value)


def _links(table: ElementsTable, record: Mapping[str, Any]) -> Sequence[str]:
    found = record.get(table.links) if table.links else None
    return (
        [str(each) for each in found] if isinstance(found, list) else [str(found)] if found else []
    )


def _renamed(old: str, version: str, library: Library) -> str:
    """Return what a project calls the new library, as it called the old one."""
    if version and version in old:
        return old.replace(version, library.version)
    return f"{library.name}-{library.version}"


def _as_written(text: str, path: str, folder: str) -> str:
    """Return the path of a library the way that of another one is written: relative, or not."""
    absolute = text.startswith("/") or text[1:2] == ":"
    found = path if absolute else os.path.relpath(path, folder)
    sign = "\\" if "\\" in text and "/" not in text else "/"
    return found.replace(os.sep, sign)

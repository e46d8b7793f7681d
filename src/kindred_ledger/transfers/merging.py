"""Merging settings key by key: my values into the other install's file.

A key both have gets my value; a key only the target has keeps its own; one that only I have is added:
files often leave out what stands at its default. Lists of records, and repeated elements, are merged by
the field that names their records; a list without one, or a key that is a mapping on one side only, is
refused: nothing of the target's goes without being told. What the target's file is otherwise made of
(order, comments, number text) stays.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ..cards import Format
from ..errors import BooksUnbalanced, FormatError
from ..formats import Document, Path, format_path, same_value
from ..statement import Line, Outcome, Statement

__all__ = ["Merged", "merge_settings"]

_LIKELY = (
    "id",
    "key",
    "name",
)  # of several fields that name the records of a list, these come first
_Moves = list[tuple[Path, Path]]


class Merged(Struct, frozen=True):
    """The target's file with my values, its books, and how many values of each kind there were."""

    data: bytes
    statement: Statement
    mine: int
    new: int
    named_by: tuple[tuple[str, str], ...] = ()  # of lists: where, and the field that names records

    def __str__(self) -> str:
        told = f"merged key by key: {self.mine} of your values"
        if self.new == 1:
            told += ", 1 value of its own stays"
        elif self.new:
            told += f", {self.new} values of its own stay"
        names = "; ".join(f"{where} by {field}" for where, field in self.named_by)
        return told + (f" (records of {names})" if names else "")


def merge_settings(format: Format, mine: bytes, theirs: bytes, *, name: str) -> Merged:
    """Put the values of `mine` into `theirs`; both are files of one format and version.

    The version a file says it has is the target's own.

    Raises:
        FormatError: one of them cannot be read, is no text of keys and values, or holds a list whose
            records nothing names.
    """
    wanted, made = format.decode(mine), format.decode(theirs)
    own_version = tuple(format.version_path)
    merge = _Merge(made, own_version)
    values = wanted.get(())
    if not isinstance(values, dict):
        raise FormatError(
            "it is a list or a single value, which has no keys to merge by", where=name
        )
    merge.into((), values, made.get(()))
    known = {leaf.path for leaf in made.leaves()}
    for path, value in merge.changes:
        made.set(path, value, note="your value")
    data = made.encode()
    again = {leaf.path: leaf for leaf in format.decode(data).leaves()}
    lines = []
    arrived: set[Path] = set()
    before = list(wanted.leaves())
    for leaf in before:
        path = merge.where(leaf.path)
        if own_version and path[: len(own_version)] == own_version:
            there = path in again
            arrived |= {path} if there else set()
            reason = "the target's version" if there else "the target's file has no version"
            lines.append(Line(Outcome.KEPT if there else Outcome.DROPPED, leaf.name, reason))
            continue
        found = again.get(path)
        if found is None or not _same(found.value, leaf.value):
            if leaf.value in ({}, []) and any(p[: len(path)] == path for p in again):
                lines.append(Line(Outcome.DROPPED, leaf.name, "it is not empty in the target"))
                continue
            where = format_path(leaf.path)
            raise BooksUnbalanced(f"{where} does not read back as it was merged", where=name)
        arrived.add(path)
        reason = "your value" if path in known else "your value; the target had none"
        became = format_path(path) if path != leaf.path else ""
        lines.append(Line(Outcome.KEPT, leaf.name, reason, became))
    lost = [path for path in known if path not in again and not _filled(path, again)]
    if lost:
        raise BooksUnbalanced(f"{format_path(lost[0])} of the target is gone", where=name)
    lines += [
        Line(Outcome.ADDED, leaf.name, "the target's own; its default stays")
        for path, leaf in again.items()
        if path not in arrived
    ]
    books = Statement(name, "fields", tuple(lines)).balanced(
        [leaf.name for leaf in before], [leaf.name for leaf in again.values()]
    )
    counts = books.totals()
    return Merged(data, books, counts["kept"], counts["added"], tuple(merge.named_by.items()))


class _Merge:
    """Compares plain values, and notes which of the target's change to what."""

    def __init__(self, target: Document, own_version: Path) -> None:
        self._target = target
        self._own_version = own_version
        self.changes: list[tuple[Path, Any]] = []
        self.moves: _Moves = []  # records of mine that have another number in the target
        self.named_by: dict[str, str] = {}

    def where(self, path: Path) -> Path:
        """Return where in the target a path of mine is."""
        for mine, theirs in self.moves:
            if path[: len(mine)] == mine:
                path = (*theirs, *path[len(mine) :])
        return path

    def into(self, path: Path, mine: Any, theirs: Any) -> None:
        """Note what of `mine` changes at a path of the target."""
        if path and path == self._own_version:
            return
        if isinstance(mine, dict) and isinstance(theirs, dict):
            for key, value in mine.items():
                if key in theirs:
                    self.into((*path, key), value, theirs[key])
                elif (*path, key) != self._own_version:
                    self._add((*path, key), value)
        elif isinstance(mine, list) and isinstance(theirs, list):
            self._lists(path, mine, theirs)
        elif isinstance(mine, (dict, list)) or isinstance(theirs, (dict, list)):
            raise FormatError(
                "it is a single value on one side and holds others on the other side",
                where=format_path(path),
            )
        elif not same_value(mine, theirs):
            self.changes.append((path, mine))

    def _add(self, path: Path, value: Any) -> None:
        """Note a value that only I have; elements of a name come one by one."""
        if isinstance(value, list) and type(self._target).__name__ == "XmlDocument":
            for at, each in enumerate(value):
                self.changes.append(((*path, at), each))
        elif isinstance(value, dict) and value:
            for key, inner in value.items():
                self._add((*path, key), inner)
        else:
            self.changes.append((path, value))

    def _lists(self, path: Path, mine: list[Any], theirs: list[Any]) -> None:
        if _same(mine, theirs):
            return
        if len(mine) == len(theirs) == 1 and all(isinstance(x[0], dict) for x in (mine, theirs)):
            self.into((*path, 0), mine[0], theirs[0])
            return
        if len(mine) == len(theirs) == 1 and not isinstance(mine[0], (dict, list)):
            self.into((*path, 0), mine[0], theirs[0])
            return
        field = _naming_field(mine, theirs)
        if not field:
            raise FormatError(
                "the lists differ, and no field names their records: one would lose what the other has",
                where=format_path(path),
            )
        self.named_by[format_path(path)] = field
        there = {_plain(record[field]): at for at, record in enumerate(theirs)}
        behind = len(theirs)
        moves: _Moves = []
        for at, record in enumerate(mine):
            to = there.get(_plain(record[field]))
            if to is None:
                to, behind = behind, behind + 1
                self.changes.append(((*path, to), record))
            else:
                self.into((*path, to), record, theirs[to])
            if to != at:
                # Behind what is noted inside: there paths are those of the target already.
                moves.append((((*path, at)), (*path, to)))
        self.moves += _at_once(moves)


def _at_once(moves: _Moves) -> _Moves:
    """Return moves that may be followed one after the other, as places change with each other."""
    aside = [(mine, (*mine[:-1], f"\0{mine[-1]}")) for mine, _ in moves]
    return aside + [(kept, to) for (_, kept), (_, to) in zip(aside, moves, strict=True)]


def _naming_field(mine: list[Any], theirs: list[Any]) -> str:
    """Return the field that every record of both lists has, in each list with another value; "" if none."""
    if not all(isinstance(record, dict) for record in (*mine, *theirs)) or not (mine and theirs):
        return ""
    names = [name for name in mine[0] if all(name in record for record in (*mine, *theirs))]
    fitting = []
    for name in names:
        values = [[_plain(record[name]) for record in side] for side in (mine, theirs)]
        unique = all(None not in side and len(set(side)) == len(side) for side in values)
        shared = len(set(values[0]) & set(values[1]))
        if unique and shared:
            likely = name.lstrip("@").lower() in _LIKELY
            fitting.append((likely, shared, -names.index(name), name))
    return max(fitting)[-1] if fitting else ""


def _plain(value: Any) -> Any:
    """Return a single value as one that can be compared and looked up; None for others."""
    if isinstance(value, list) and len(value) == 1:  # an element that stands once
        value = value[0]
    return None if isinstance(value, (dict, list)) or value is None else f"{type(value)} {value}"


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, dict) and isinstance(other, dict):
        return one.keys() == other.keys() and all(_same(one[key], other[key]) for key in one)
    if isinstance(one, list) and isinstance(other, list):
        return len(one) == len(other) and all(map(_same, one, other))
    return same_value(one, other)


def _filled(path: Path, leaves: Any) -> bool:
    """Tell whether a container that was empty holds something now."""
    return any(other[: len(path)] == path for other in leaves)

"""Merging settings key by key: my values into the other install's file.

A key both have gets my value; a key only the target has keeps its default; one that only I have is added:
files often leave out what stands at its default. Keys that are retired went before, by the steps of the
card, and stand in the statement of that conversion. What the target's file is otherwise made of (order,
comments, number text) stays.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import Struct

from ..cards import Format
from ..errors import BooksUnbalanced, FormatError
from ..formats import Document, Path, format_path
from ..statement import Line, Outcome, Statement

__all__ = ["Merged", "merge_settings"]


class Merged(Struct, frozen=True):
    """The target's file with my values, its books, and how many keys of each kind there were."""

    data: bytes
    statement: Statement
    mine: int
    new: int

    def __str__(self) -> str:
        told = f"merged key by key: {self.mine} of your values"
        return told + (f", {self.new} keys of its own keep their default" if self.new else "")


def merge_settings(format: Format, mine: bytes, theirs: bytes, *, name: str) -> Merged:
    """Put the values of `mine` into `theirs`; both are files of one format and version.

    Lists are values: mine replaces the other's. The version a file says it has is the target's own.

    Raises:
        FormatError: one of them cannot be read, or is no text of keys and values.
    """
    wanted = format.decode(mine)
    made = format.decode(theirs)
    own_version = tuple(format.version_path)
    for path, value in _values(wanted):
        if path != own_version:
            made.set(path, value, note="your value")
    data = made.encode()
    again = format.decode(data)
    _check(wanted, again, own_version, name)
    before = {leaf.name: leaf for leaf in wanted.leaves()}
    after = {leaf.name for leaf in again.leaves()}
    known = {leaf.name for leaf in format.decode(theirs).leaves()}
    lines = [
        Line(Outcome.KEPT, key, "your value" if key in known else "your value; the target had none")
        for key in before
    ]
    lines += [
        Line(Outcome.ADDED, key, "the target's own; its default stays")
        for key in sorted(after - before.keys())
    ]
    books = Statement(name, "fields", tuple(lines)).balanced([*before], after)
    counts = books.totals()
    return Merged(data, books, counts["kept"], counts["added"])


def _values(document: Document) -> Iterator[tuple[Path, Any]]:
    """Yield the values of a document with their paths; a list, or what is in one, is one value."""
    seen: set[Path] = set()
    for leaf in document.leaves():
        at = next((n for n, part in enumerate(leaf.path) if isinstance(part, int)), None)
        path = leaf.path if at is None else leaf.path[:at]
        if path not in seen:
            seen.add(path)
            yield path, leaf.value if at is None else document.get(path)


def _check(wanted: Document, made: Document, own_version: Path, name: str) -> None:
    """Raise unless what was written, read again, has my value under every key it has."""
    for path, value in _values(wanted):
        if path and path != own_version and made.get(path) != value:
            raise BooksUnbalanced(
                f"{format_path(path)} does not read back as it was merged", where=name
            )
    if () in {path for path, _ in _values(wanted)}:
        raise FormatError(
            "it is a list or a single value, which has no keys to merge by", where=name
        )

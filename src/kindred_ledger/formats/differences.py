"""Differences between two documents, field by field."""

from __future__ import annotations

from msgspec import Struct

from .document import Document, Path, format_path

__all__ = ["FieldDifference", "field_differences"]


class FieldDifference(Struct, frozen=True):
    """One field: its name, its text before and after; None where it is not there.

    `is_version` says that it tells the version of the format, so that its number is no amount.
    """

    name: str
    before: str | None
    after: str | None
    is_version: bool = False


def field_differences(before: Document, after: Document) -> list[FieldDifference]:
    """Return the fields that differ, in the order of `before`, then those only `after` has.

    Texts are compared, so 1.10 and 1.1 differ. Of a key that stands twice, each stands for itself.

    >>> from .codecs import decode
    >>> old, new = decode(b'{"coins": 3, "log": []}', "json"), decode(b'{"coins": 4}', "json")
    >>> [(d.name, d.before, d.after) for d in field_differences(old, new)]
    [('coins', '3', '4'), ('log', '[]', None)]
    """
    old, new = _texts(before), _texts(after)
    found = [
        FieldDifference(format_path(path), text, new.get((path, at)))
        for (path, at), text in old.items()
        if new.get((path, at)) != text
    ]
    return found + [
        FieldDifference(format_path(path), None, text)
        for (path, at), text in new.items()
        if (path, at) not in old
    ]


def _texts(document: Document) -> dict[tuple[Path, int], str]:
    """Return the text of every leaf by its path and how many of that path came before."""
    seen: dict[Path, int] = {}
    out = {}
    for leaf in document.leaves():
        at = seen[leaf.path] = seen.get(leaf.path, -1) + 1
        out[leaf.path, at] = leaf.text
    return out

"""What an edited document was written as, read again and held against what it says it holds.

Values are compared one by one, tables by columns or rows, and what nobody touched by its bytes. Who hands out
the bytes of an edited document has called one of these before.
"""

from __future__ import annotations

from typing import Any

from ..errors import FormatError
from .document import Document, Path, format_path
from .tree import SCALAR, Node, TreeDocument

__all__ = ["check_tree", "differs", "encode_unread", "unreadable"]


def encode_unread(document: Document) -> Any:
    """Return the bytes of a document without reading them again, for who does that at once."""
    for kind in type(document).__mro__:  # a codec that writes otherwise has an `encode` of its own
        if "encode_unread" in vars(kind):
            return document.encode_unread()  # type: ignore[attr-defined]
        if "encode" in vars(kind):
            break
    return document.encode()


def unreadable(what: str, where: str, remedy: str = "Change it by hand.") -> FormatError:
    """Return the error for a change that would be read back as something else."""
    return FormatError(
        f"the change cannot be written so that it reads back: {what}", where=where, remedy=remedy
    )


def differs(path: Path) -> FormatError:
    """Return the error for a value that would be read back as another."""
    return unreadable("it reads back as something else", format_path(path) or "the document")


def check_tree(
    meant: TreeDocument[Any],
    found: TreeDocument[Any],
    *,
    at: tuple[Path, Node, Node] | None = None,
) -> None:
    """Raise `FormatError` at the first value that was read back as another than was meant.

    `at` is a path, and the two nodes there, to begin with instead of the roots.
    """
    waiting: list[tuple[Path, Node, Node]] = [at or ((), meant._root, found._root)]
    while waiting:
        path, one, other = waiting.pop()
        same = one.kind == other.kind
        whole = meant._same_whole(one, found, other, path) if same else None
        if whole is None and same and one.kind != SCALAR:
            inner, there = meant._members(one), found._members(other)
            if not meant.keeps_order and {m.key for m in inner} == {m.key for m in there}:
                by_key = {member.key: member for member in there}
                there = there if None in by_key else [by_key[member.key] for member in inner]
            same = [member.key for member in inner] == [member.key for member in there]
            for number, pair in enumerate(zip(inner, there, strict=True) if same else ()):
                waiting.append(((*path, number if pair[0].key is None else pair[0].key), *pair))
        elif whole is None and same:
            same = meant._text(one) == found._text(other)
        if not same or whole is False:
            raise differs(path)

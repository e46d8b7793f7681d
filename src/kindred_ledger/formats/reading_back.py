"""What an edited document was written as, read again and held against what it says it holds.

Values are compared one by one, tables by columns, and what nobody touched by its bytes. Who hands out
the bytes of an edited document has called one of these before.
"""

from __future__ import annotations

from typing import Any

from ..errors import FormatError
from .columns import as_tabular
from .document import Document, Path, format_path
from .tables import column_tables, same_column
from .tree import SCALAR, Node, TreeDocument

__all__ = ["check_fields", "check_tree", "differs", "encode_unread", "unreadable"]


def encode_unread(document: Document) -> Any:
    """Return the bytes of a document without reading them again, for who does that at once."""
    return getattr(document, "encode_unread", document.encode)()


def unreadable(what: str, where: str, remedy: str = "Change it by hand.") -> FormatError:
    """Return the error for a change that would be read back as something else."""
    return FormatError(
        f"the change cannot be written so that it reads back: {what}", where=where, remedy=remedy
    )


def differs(path: Path) -> FormatError:
    """Return the error for a value that would be read back as another."""
    return unreadable("it reads back as something else", format_path(path) or "the document")


def check_tree(meant: TreeDocument[Any], found: TreeDocument[Any]) -> None:
    """Raise `FormatError` at the first value that was read back as another than was meant."""
    waiting: list[tuple[Path, Node, Node]] = [((), meant._root, found._root)]
    while waiting:
        path, one, other = waiting.pop()
        same = one.kind == other.kind
        whole = meant._same_whole(one, found, other, path) if same else None
        if whole is None and same and one.kind != SCALAR:
            inner, there = meant._members(one), found._members(other)
            same = [member.key for member in inner] == [member.key for member in there]
            for at, pair in enumerate(zip(inner, there, strict=True) if same else ()):
                waiting.append(((*path, at if pair[0].key is None else pair[0].key), *pair))
        elif whole is None and same:
            same = meant._text(one) == found._text(other)
        if not same or whole is False:
            raise differs(path)


def check_fields(meant: Any, found: Any) -> None:
    """Raise `FormatError` at the first leaf, or column of a table, that was read back as another."""
    tabular, there = as_tabular(meant), as_tabular(found)
    tables = column_tables(meant, 1)
    for path in tables:
        wanted = tabular.open_columns(path) if tabular is not None else None
        read = there.open_columns(path) if there is not None else None
        if wanted is None or read is None or {*wanted.cells} != {*read.cells}:
            raise differs(path)
        for name in wanted.cells:
            if not same_column(wanted, read, name):
                raise differs((*path, "*", name))
    some: Any = (meant, found)
    texts, others = (
        {leaf.path: leaf.text for leaf in each.leaves(without=set(tables))} for each in some
    )
    for path in {**texts, **others}:
        if texts.get(path) != others.get(path):
            raise differs(path)

"""What is to be made must not be there already."""

from __future__ import annotations

from collections.abc import Iterable

from ...errors import FormatError
from ...formats import Path, format_path
from .kind import Editing

__all__ = ["refuse_taken"]


def refuse_taken(fields: Editing, paths: Iterable[Path]) -> None:
    """Raise `FormatError` if something is there: what was to come would not, and what it is made of goes."""
    for path in paths:
        if fields.is_there(path):
            raise FormatError(
                "something is there already",
                where=format_path(path),
                remedy="Drop or move that first, by a step before this one.",
            )

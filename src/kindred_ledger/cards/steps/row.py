"""Reading the keys of a step's row: each of the kind it must be, or an error that says what was expected.

Every function raises `UsageError` where the row has something else.
"""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from ...errors import UsageError
from ...formats import Path, parse_path
from ...formats.expressions import Expression
from ...suggestions import hint
from .kind import Row, Tables
from .values import exact, number_of

__all__ = ["condition", "decimal", "flag", "path", "pattern", "table", "text", "texts", "value"]


def text(row: Row, key: str, default: str = "") -> str:
    """Return a text; raise `UsageError` if it is none."""
    found = row.get(key, default)
    if not isinstance(found, str):
        raise UsageError(f"{key!r} is {found!r}, and text is expected", remedy="Put it in quotes.")
    return found


def texts(row: Row, key: str) -> tuple[str, ...]:
    """Return a list of texts; raise `UsageError` if it is none."""
    found = row.get(key, [])
    if not isinstance(found, list) or not all(isinstance(each, str) for each in found):
        raise UsageError(
            f"{key!r} is {found!r}, and a list of texts is expected",
            remedy='Write it like ["a", "b"].',
        )
    return tuple(found)


def flag(row: Row, key: str) -> bool:
    """Return true or false, false if it is not there; raise `UsageError` if it is neither."""
    found = row.get(key, False)
    if not isinstance(found, bool):
        raise UsageError(
            f"{key!r} is {found!r}, and true or false is expected",
            remedy="Write it without quotes.",
        )
    return found


def decimal(row: Row, key: str, default: int = 0) -> Decimal:
    """Return a number; raise `UsageError` if it is none."""
    found = number_of(row.get(key, default))
    if found is None:
        raise UsageError(f"`{key}` is {row[key]!r}, which is no number")
    return found


def path(row: Row, key: str) -> Path:
    """Return a path in a document."""
    return parse_path(text(row, key))


def pattern(row: Row, key: str) -> str:
    """Return a pattern of paths of a pack; raise `UsageError` if it is none."""
    if not isinstance(row[key], str) or not row[key]:
        raise UsageError(f"{key} needs a pattern of paths", remedy="Write it like textures/**.")
    return str(row[key])


def value(row: Row, tables: Tables) -> Any:
    """Return what `value` says, or the expression of `by`; raise `UsageError` unless it is one of the two."""
    if ("value" in row) == ("by" in row):
        raise UsageError(
            "either 'value', or 'by', an expression, is needed", remedy="Give one of the two."
        )
    if "by" in row:
        return Expression.parse(text(row, "by"), tables)
    return exact(row["value"])


def condition(row: Row, tables: Tables, key: str = "where") -> Expression | None:
    """Return a condition; None if there is none."""
    return Expression.parse(text(row, key), tables) if key in row else None


def table(given: Any, tables: Tables) -> Mapping[str, Any]:
    """Return a table that stands in the row, or one of the card by its name; a list counts from 0.

    Raises:
        UsageError: it is no table, or the card has none of the name.
    """
    if isinstance(given, str):
        if given not in tables:
            raise UsageError(
                f"the card has no table {given!r}{hint(given, tables)}",
                remedy=f"It has {', '.join(tables) or 'none'}.",
            )
        return tables[given]
    if isinstance(given, list):
        return {str(number): name for number, name in enumerate(given)}
    if not isinstance(given, dict):
        raise UsageError(
            "a table of old = new is needed, or the name of one of the card",
            remedy='Write it like { fog = "haar" }.',
        )
    return given

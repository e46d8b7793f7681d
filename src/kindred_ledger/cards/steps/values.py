"""Values of cards and documents, compared as steps compare them."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from ...formats import same_value

__all__ = ["as_key", "as_word", "exact", "is_equal", "number_of", "quoted", "shown", "spelled"]


def as_key(value: Any) -> str:
    """Return a value as the text under which a TOML table has it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)


def as_word(value: Any) -> str:
    """Return a value as text in small letters, as `retype` compares it."""
    return as_key(value).strip().lower()


def exact(value: Any) -> Any:
    """Return a value of a card as documents hold it: no floats."""
    return Decimal(repr(value)) if isinstance(value, float) else value


def is_equal(value: Any, wanted: Any) -> bool:
    """Tell whether a value of a document is that of a card."""
    return same_value(value, exact(wanted)) or (isinstance(value, str) and value == as_key(wanted))


def number_of(value: Any) -> Decimal | None:
    """Return a value as a number, None if it is none."""
    try:
        number = Decimal(as_word(value))
    except ArithmeticError:
        return None
    return number if number.is_finite() else None


def shown(value: Any) -> str:
    """Return a value for a message: text in quotes."""
    return repr(value) if isinstance(value, str) else as_key(value)


def spelled(value: Any) -> str:
    """Return a value for a description: as the card has it."""
    return as_key(value) if isinstance(value, bool) else str(value)


def quoted(text: str) -> str:
    """Return text as it stands in an expression."""
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'

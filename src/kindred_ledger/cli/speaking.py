"""Speaking: what the library says of its arguments, in the options of the command line.

A message of the library names arguments as Python has them, in backticks: `only=PATTERN`. Here that is
`--only PATTERN`.
"""

from __future__ import annotations

import re
from typing import Any

from .meanings import MEANINGS

__all__ = ["as_options", "speaking"]

_ARGUMENT = re.compile(r"`([a-z_]+)=([^`]*)`")  # a name alone may be a key of a card
_OTHER_NAMES = {  # in Python they mean more
    "place": "into",
    "source": "from-format",
    "renames": "new-name",
    "substitutes": "substitute",
    "remove": "remove-content",
    "placed_by_hand": "placed",
}
_TOLD = ("what", "remedy", "told")  # keys of JSON that hold sentences


def as_options(text: str) -> str:
    """Return a message with the options of the command line in the place of arguments.

    >>> as_options("Allow it with `allow_loss=True`, or keep it with `keep=PATTERN`.")
    'Allow it with --allow-loss, or keep it with --keep PATTERN.'
    """
    return _ARGUMENT.sub(_option, text) if "`" in text else text


def speaking(values: Any) -> Any:
    """Return values that will be JSON, with the sentences in them as the command line says them."""
    if isinstance(values, dict):
        return {
            key: as_options(value)
            if key in _TOLD and isinstance(value, str)
            else speaking(value)
            if isinstance(value, (dict, list))
            else value
            for key, value in values.items()
        }
    if isinstance(values, list) and values and isinstance(values[0], (dict, list)):
        return [speaking(each) for each in values]
    return values


def _option(found: re.Match[str]) -> str:
    option = "--" + _OTHER_NAMES.get(found[1], found[1]).replace("_", "-")
    if option not in MEANINGS:
        return found[0]
    value = found[2] if MEANINGS[option][0] else ""
    return f"{option} {value}".rstrip() if value else option

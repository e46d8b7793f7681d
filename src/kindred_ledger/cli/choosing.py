"""The options that say what becomes of content, which commands about worlds share."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from .meanings import many, value

__all__ = ["choosing"]

Command = Callable[..., Any]


def choosing(command: Command) -> Command:
    """Give a command the options that say what becomes of content, as `Remap` takes them."""
    for option in (
        value("--lists-of"),
        value("--agreed"),
        value("--consent"),
        many("--remove-content", "remove"),
        many("--inert"),
        many("--new-name", "new_names"),
        many("--substitute", "substitutes"),
        value("--world"),
    ):
        command = option(command)
    return command

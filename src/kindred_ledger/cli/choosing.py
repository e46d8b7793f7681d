"""The options that say what becomes of content, which commands about worlds share."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from .meanings import many, value
from .session import Session

__all__ = ["choosing", "with_workers"]

_CHOSEN = (
    "world", "substitutes", "new_names", "inert", "remove", "consent", "agreed", "lists_of",
)  # fmt: skip
Command = Callable[..., Any]


def choosing(command: Command) -> Command:
    """Give a command the options that say what becomes of content, as `Remap` takes them."""
    for option in (
        value("--workers", default=0),
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


def with_workers(session: Session, options: dict[str, Any]) -> dict[str, Any]:
    """Take the options of `choosing` out of all options, and give the work to as many processes as said."""
    workers = options.pop("workers")
    if workers > 1:
        from concurrent.futures import ProcessPoolExecutor

        context = session.context
        context.executor, context.workers = context.enter(ProcessPoolExecutor(workers)), workers
    return {name: options.pop(name) for name in _CHOSEN}

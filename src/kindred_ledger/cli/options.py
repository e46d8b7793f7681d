"""Options that several commands share, each defined once."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any

import click

from ..errors import UsageError
from .meanings import flag, many, value
from .session import Session

__all__ = [
    "categorised",
    "change_argument",
    "entry_argument",
    "offered",
    "placing",
    "selecting",
    "session",
    "storing",
    "writing",
]

Command = Callable[..., Any]


def session(command: Command) -> Command:
    """Give a command --json and --ledger, and a `Session` as its first argument.

    Both may stand in front of the command's name as well. A ledger that is named must be there.
    """
    return _with_session(command, makes_ledger=False)


def storing(command: Command) -> Command:
    """Do as `session` does, for a command that stores something: a ledger is made where there is none."""
    return _with_session(command, makes_ledger=True)


def _with_session(command: Command, *, makes_ledger: bool) -> Command:

    @flag("--json", "as_json")
    @value("--ledger")
    @functools.wraps(command)
    def run(
        as_json: bool,
        ledger: str,
        card: str = "",
        build: str = "",
        folder: tuple[str, ...] = (),
        user_id: tuple[str, ...] = (),
        **rest: Any,
    ) -> Any:
        context = click.get_current_context()
        in_front = context.find_root().params
        made = Session(
            context.command_path.partition(" ")[2],
            as_json or in_front["as_json"],
            ledger or in_front["ledger"],
            card,
            build,
            _pairs(folder, "PATH"),
            _pairs(user_id, "NUMBER"),
            makes_ledger,
        )
        try:
            return command(made, **rest)
        finally:
            made.finish()

    return run


def placing(command: Command) -> Command:
    """Give a command the options that tell installs apart."""
    for option in (
        many("--user-id"),
        many("--folder"),
        value("--build"),
        value("--card"),
    ):
        command = option(command)
    return command


def offered(what: str) -> Callable[..., Any]:
    """Return what completes a name when a shell asks; see `completing`, which is loaded only then."""

    def offer(ctx: click.Context, parameter: click.Parameter, incomplete: str) -> Any:
        from . import completing

        return getattr(completing, what)(ctx, parameter, incomplete)

    return offer


def entry_argument(name: str, **more: Any) -> Callable[[Command], Command]:
    """Give a command an argument that names an entry."""
    return click.argument(name, shell_complete=offered("entries"), **more)


def change_argument(command: Command) -> Command:
    """Give a command an argument that names a change of the history."""
    return click.argument("change", default="latest", shell_complete=offered("changes"))(command)


def selecting(command: Command) -> Command:
    """Give a command the options that choose paths."""
    for option in (
        many("--exclude"),
        many("--only"),
    ):
        command = option(command)
    return command


def categorised(command: Command) -> Command:
    """Give a command the option that chooses categories of the card."""
    return many("--category", "categories", shell_complete=offered("categories"))(command)


def writing(command: Command) -> Command:
    """Give a command that writes the options to look first, not to be asked, and to allow loss."""
    for option in (
        flag("--books"),
        flag("--lines"),
        many("--field"),
        flag("--allow-loss"),
        many("--allow"),
        flag("--while-running"),
        flag("--yes"),
        flag("--dry-run"),
    ):
        command = option(command)
    return command


def _pairs(texts: tuple[str, ...], what: str) -> dict[str, str]:
    pairs = {}
    for text in texts:
        name, found, value = text.partition("=")
        if not found:
            raise UsageError(f"{text!r} is not NAME={what}")
        pairs[name] = value
    return pairs

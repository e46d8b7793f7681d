"""Options that several commands share, each defined once."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any

import click

from ..errors import UsageError
from .session import Session

__all__ = ["placing", "session", "writing"]

Command = Callable[..., Any]


def session(name: str) -> Callable[[Command], Command]:
    """Give a command --json and --ledger, and a `Session` as its first argument."""

    def wrap(command: Command) -> Command:
        @click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
        @click.option(
            "--ledger", default="", metavar="WHERE", help="A folder or URL (or KINDRED_LEDGER)."
        )
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
            made = Session(
                name,
                as_json,
                ledger,
                card,
                build,
                _pairs(folder, "PATH"),
                _pairs(user_id, "NUMBER"),
            )
            try:
                return command(made, **rest)
            finally:
                made.finish()

        return run

    return wrap


def placing(command: Command) -> Command:
    """Give a command the options that tell installs apart."""
    for option in (
        click.option(
            "--user-id", multiple=True, metavar="NAME=NUMBER", help="Which numbered user."
        ),
        click.option("--folder", multiple=True, metavar="NAME=PATH", help="Where a location is."),
        click.option("--build", default="", metavar="VERSION", help="The install's build."),
        click.option(
            "--card", default="", metavar="FILE", help="The card that describes the title."
        ),
    ):
        command = option(command)
    return command


def writing(command: Command) -> Command:
    """Give a command that writes the options to look first, not to be asked, and to allow loss."""
    for option in (
        click.option("--lines", is_flag=True, help="Show every line of the books."),
        click.option(
            "--field", multiple=True, metavar="PATTERN", help="Of the lines, those of such names."
        ),
        click.option(
            "--allow-loss", is_flag=True, help="Consent to what the preview says is lost."
        ),
        click.option(
            "--allow",
            multiple=True,
            metavar="KIND[:PATTERN]",
            help="Consent to losses of one kind, everywhere or where paths fit (repeatable).",
        ),
        click.option(
            "--while-running",
            is_flag=True,
            help="Go ahead though the game, or another program, runs.",
        ),
        click.option("--yes", is_flag=True, help="Do not ask."),
        click.option("--dry-run", is_flag=True, help="Show what would be done and stop."),
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

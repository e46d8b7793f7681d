"""The commands as one click group whose commands are loaded when they are asked for."""

from __future__ import annotations

from collections.abc import Iterable
from importlib import import_module

import click

from .catalog import COMMANDS, groups, help_text, meant
from .visible import one_line

__all__ = ["CONTEXT", "LoadedGroup", "whole"]

_NARROW, _SHORT = 60, 10  # columns of a terminal, and of a term that fits beside its meaning
CONTEXT = {"help_option_names": ["-h", "--help"]}


class _Help(click.HelpFormatter):
    """Help in which, on a narrow terminal, what an option means stands below it."""

    def write_dl(
        self, rows: Iterable[tuple[str, str]], col_max: int = 30, col_spacing: int = 2
    ) -> None:
        """Write options or commands with what they mean."""
        rows = list(rows)
        longest = max((len(term) for term, _ in rows), default=0)
        below = self.width < _NARROW and longest > _SHORT
        super().write_dl(rows, 4 if below else col_max, col_spacing)


class _Context(click.Context):
    formatter_class = _Help


class LoadedGroup(click.Group):
    """A group of the catalog; the module of a command is imported when the command is asked for."""

    context_class = _Context

    def __init__(self, path: str, **more: object) -> None:
        super().__init__(path.rpartition(" ")[2] or "kindred", context_settings=CONTEXT, **more)  # type: ignore[arg-type]
        self._path = path

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the names of the commands right below this group, in the order people work."""
        start = f"{self._path} " if self._path else ""
        below = (name[len(start) :] for name in COMMANDS if name.startswith(start))
        return [name for name in below if name and " " not in name]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Return a command or a group; None if there is none of that name."""
        path = f"{self._path} {cmd_name}".strip()
        if path not in COMMANDS:
            return None
        if path in groups():
            return LoadedGroup(path, help=f"{COMMANDS[path].capitalize()}.")
        module = import_module(f".commands.{path.replace(' ', '.')}", __package__)
        command: click.Command = module.command
        command.context_settings, command.context_class = CONTEXT, _Context
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Return the command that is named; a name that is none is refused with what may be meant."""
        path = f"{self._path} {args[0]}".strip()
        if path not in COMMANDS and not args[0].startswith("-"):
            near = meant(path)
            remedy = f"Did you mean: kindred {near}" if near else "See: kindred --help"
            raise click.UsageError(f"There is no command '{one_line(path)}'. {remedy}", ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the commands with their lines, without loading them."""
        start = f"{self._path} "
        rows = [(name, COMMANDS[start + name]) for name in self.list_commands(ctx)]
        with formatter.section("Commands"):
            formatter.write_dl(rows)


class _Whole(LoadedGroup):
    """The command line itself, whose help is one screen."""

    def get_help(self, ctx: click.Context) -> str:
        """Return the help of the whole."""
        return help_text()


def _alone(as_json: bool, ledger: str) -> int | None:
    """Show the overview where no command is named."""
    if click.get_current_context().invoked_subcommand is not None:
        return None
    from .alone import show_overview
    from .session import Session

    session = Session("", as_json, ledger)
    try:
        return show_overview(session)
    finally:
        session.finish()


def whole() -> click.Group:
    """Return the whole command line. Options that all commands have may stand in front, too."""
    group = _Whole("", invoke_without_command=True, callback=_alone)
    group.params += [
        click.Option(["--json", "as_json"], is_flag=True),
        click.Option(["--ledger"], default=""),
    ]
    return group

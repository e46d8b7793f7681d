"""Running one command: its errors become a message, a JSON object if asked for, and a status."""

from __future__ import annotations

import gc
import io
import shutil
import signal
import sys
from types import FrameType
from typing import Any

import click

from ..errors import KindredError, UsageError
from ..os_names import json_bytes
from ..places import refusals
from .catalog import command_in
from .drawing import here, local
from .group import whole
from .page import Page
from .speaking import speaking
from .visible import escaped, one_line, visible

__all__ = ["run"]

_WRONG_USAGE, _DECISION_NEEDED = 2, 3
_WIDEST_HELP = 100  # columns


def run(args: list[str]) -> int:
    """Run the command that `args` name; return its exit status."""
    as_json = "--json" in args
    # What is made here are long lists without cycles, which a collector would walk again and again.
    gc.disable()
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, _interrupt)
    try:
        with refusals(""):
            columns = min(shutil.get_terminal_size().columns, _WIDEST_HELP) - 2
            status = whole().main(
                args, prog_name="kindred", standalone_mode=False, terminal_width=columns
            )
        return int(status or 0)
    except click.exceptions.Exit as done:
        return done.exit_code
    except click.exceptions.NoArgsIsHelpError as error:
        print(error.format_message())
        return _WRONG_USAGE
    except click.UsageError as error:
        if as_json:
            return _emit(_path_of(error.ctx), _WRONG_USAGE, _plain(error))
        told = io.StringIO()
        error.show(told)
        sys.stderr.write(visible(told.getvalue()))
        return _WRONG_USAGE
    except click.Abort as error:
        if isinstance(error.__cause__, KeyboardInterrupt):
            raise KeyboardInterrupt from None
        print("Nothing was changed.", file=sys.stderr)
        return _DECISION_NEEDED
    except MemoryError:
        full = KindredError("this takes more memory than there is", remedy="Close other programs.")
        return _tell(args, full, as_json=as_json)
    except KindredError as error:
        if not here() and not error.where:
            error = UsageError(
                "the folder you are in was deleted or moved",
                remedy="Change to another one, and say it again.",
            )
        return _tell(args, error, as_json=as_json)


def _tell(args: list[str], error: KindredError, *, as_json: bool) -> int:
    """Show an error, or print it as JSON; return its status."""
    if as_json:
        return _emit(command_in(args), error.exit_status, error.to_json())
    _show(error)
    return error.exit_status


def _path_of(context: click.Context | None) -> str:
    return context.command_path.partition(" ")[2] if context else ""


def _plain(error: click.UsageError) -> dict[str, Any]:
    """Return wrong usage in the shape that all errors have."""
    help_of = f"See: {error.ctx.command_path} --help" if error.ctx else ""
    what = error.format_message()
    return {"what": what, "where": "", "remedy": help_of, "kind": "UsageError", "findings": []}


def _emit(command: str, status: int, error: dict[str, Any]) -> int:
    whole = {"command": command, "status": status, "error": speaking(error)}
    sys.stdout.write(escaped(json_bytes(whole).decode()) + "\n")
    return status


def _interrupt(signal_number: int, frame: FrameType | None) -> None:
    """Stop once; what was begun is then taken back undisturbed by an impatient second key."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    raise KeyboardInterrupt


def _show(error: KindredError) -> None:
    page = Page(sys.stderr)
    where = f"{error.where}: " if error.where else ""
    page.hang("✗ ", one_line(local(where + error.what)), style="bold red")
    for line in error.advice.splitlines():
        page.hang("  " if line.startswith(" ") else "", local(line.strip()), style="default")

"""Running one command: its errors become a message, a JSON object if asked for, and a status."""

from __future__ import annotations

import gc
import io
import signal
import sys
from importlib import import_module
from types import FrameType

import click

from ..errors import KindredError
from ..os_names import json_bytes
from ..places import refusals
from .page import Page
from .visible import escaped, one_line, visible

__all__ = ["run"]


def run(name: str, args: list[str]) -> int:
    """Run the command `name`; return its exit status."""
    module = import_module(f".commands.{name}", __package__)
    as_json = "--json" in args
    # What is made here are long lists without cycles, which a collector would walk again and again.
    gc.disable()
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, _interrupt)
    try:
        with refusals(""):
            status = module.command.main(args, prog_name=f"kindred {name}", standalone_mode=False)
        return int(status or 0)
    except click.exceptions.Exit as done:
        return done.exit_code
    except click.UsageError as error:
        told = io.StringIO()
        error.show(told)
        sys.stderr.write(visible(told.getvalue()))
        return 2
    except click.Abort as error:
        if isinstance(error.__cause__, KeyboardInterrupt):
            raise KeyboardInterrupt from None
        print("Nothing was changed.", file=sys.stderr)
        return 3
    except MemoryError:
        print("✗ This takes more memory than there is.", file=sys.stderr)
        return 4
    except KindredError as error:
        if as_json:
            fault = {
                "what": error.what,
                "where": error.where,
                "remedy": error.advice,
                "kind": type(error).__name__,
                "findings": [each.to_json() for each in getattr(error, "findings", ())],
            }
            whole = {"command": name, "status": error.exit_status, "error": fault}
            sys.stdout.write(escaped(json_bytes(whole).decode()) + "\n")
        else:
            _show(error)
        return error.exit_status


def _interrupt(signal_number: int, frame: FrameType | None) -> None:
    """Stop once; what was begun is then taken back undisturbed by an impatient second key."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    raise KeyboardInterrupt


def _show(error: KindredError) -> None:
    page = Page(sys.stderr)
    where = f"{error.where}: " if error.where else ""
    page.print(f"✗ {one_line(where + error.what)}", style="bold red", soft_wrap=True)
    if error.advice:
        page.print(error.advice, soft_wrap=True)

"""`kindred`: starts the command line; what needs no command is answered before anything is loaded.

Starting a command line that is used in loops and hooks must cost almost nothing.
"""

from __future__ import annotations

import os
import sys

__all__ = ["main", "program"]

_INTERRUPTED = 4
_COMPLETING = "_KINDRED_COMPLETE"  # set by a shell that wants to know what may come next


def main(argv: list[str] | None = None) -> int:
    """Run one command; return its exit status (see DESIGN: 0 to 5)."""
    args = sys.argv[1:] if argv is None else argv
    if args[:1] == ["help"]:
        args = [*args[1:], "--help"]
    if args in (["--help"], ["-h"]) and _COMPLETING not in os.environ:
        from .catalog import help_text

        try:
            columns = os.get_terminal_size().columns
        except OSError:  # no terminal
            columns = 0
        print(help_text(columns or 100))
        return 0
    if args == ["--version"]:
        from .. import __version__

        print(f"kindred {__version__}")
        return 0
    from .encoding import prepare

    prepare(sys.stdout, encoding="utf-8" if "--json" in args else None)
    prepare(sys.stderr)
    from .running import run

    try:
        return run(args)
    except KeyboardInterrupt:
        print("\nStopped. What was begun was taken back, or had been finished:", file=sys.stderr)
        print("kindred history shows what was made.", file=sys.stderr)
        return _INTERRUPTED


def program() -> None:
    """Run as a program of its own; what it leaves in memory is not tidied up first.

    Whatever matters is durable by now, and taking a hundred thousand files' nodes apart one by one
    takes as long as looking at them did.
    """
    try:
        status = main()
        sys.stdout.flush()
        sys.stderr.flush()
    except BrokenPipeError:  # the reader of our output went away, as `head` does
        status = 0
    os._exit(status)


if __name__ == "__main__":
    program()

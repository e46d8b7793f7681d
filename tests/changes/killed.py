"""Run one command of the command line and die by SIGKILL at the Nth change to the disk.

    killed.py N ARG...      N = 0: live, and print how many changes were made

The points are found by an audit hook, from outside: the program itself knows nothing of it.
"""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable

from kindred_ledger.cli.main import main

_CHANGES = {"os.rename", "os.remove", "os.mkdir", "os.rmdir", "os.chmod", "os.utime", "os.symlink"}


def is_change(event: str, args: tuple[object, ...]) -> bool:
    """Tell whether an audit event is about to change the disk."""
    if event != "open":
        return event in _CHANGES
    flags = args[2]
    return isinstance(flags, int) and bool(flags & (os.O_WRONLY | os.O_RDWR))


def die_at(last: int) -> Callable[[], int]:
    """Die at this change from now on, counted from 1 (0: never); return what says how many were made."""
    count = 0

    def hook(event: str, args: tuple[object, ...]) -> None:
        nonlocal count
        if is_change(event, args):
            count += 1
            if count == last:
                os.kill(os.getpid(), signal.SIGKILL)

    sys.addaudithook(hook)
    return lambda: count


def run() -> int:
    last = int(sys.argv[1])
    count = die_at(last)
    status = main(sys.argv[2:])
    if not last:
        print(f"\nchanges: {count()}")
    return status


if __name__ == "__main__":
    sys.exit(run())

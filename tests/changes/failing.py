"""Run one command of the command line while the disk refuses the Nth change to it, once.

    failing.py N ERRNO ARG...

The refusal comes from an audit hook, from outside: the program itself knows nothing of it.
"""

from __future__ import annotations

import os
import sys

from kindred_ledger.cli.main import main
from tests.changes.killed import is_change


def run() -> int:
    last, code = int(sys.argv[1]), int(sys.argv[2])
    count = 0

    def hook(event: str, args: tuple[object, ...]) -> None:
        nonlocal count
        if is_change(event, args):
            count += 1
            if count == last:
                raise OSError(code, os.strerror(code), str(args[0]))

    sys.addaudithook(hook)
    return main(sys.argv[3:])


if __name__ == "__main__":
    sys.exit(run())

"""Make a ledger on a remote, back up and verify, in processes that end at the Nth thing they send.

    killed_remote.py FOLDER URL LOGIN

Reads a name and N (0: never) a line from standard input, and prints the status, the sends and what was said.
Each is a process of its own, forked from this one, which has no threads: locks of others are not taken along.
"""

from __future__ import annotations

import contextlib
import json
import os
import socket
import ssl
import sys
from collections.abc import Callable
from importlib import import_module
from typing import Any

from kindred_ledger.errors import KindredError
from kindred_ledger.ledger import Ledger, verify
from kindred_ledger.places import MemoryPlace
from kindred_ledger.places.remotes import Login, connect, ftp, objects, sftp, webdav

KILLED = 9
LOADED = (
    ftp,
    objects,
    sftp,
    webdav,
    *map(import_module, ("paramiko", "obstore", "http.client")),
)  # once for all


def count_sends(on: Callable[[], None]) -> None:
    """Call `on` before anything is sent by a socket of this process."""
    for kind in (socket.socket, ssl.SSLSocket):
        for name in ("send", "sendall"):
            setattr(kind, name, _counted(getattr(kind, name), on))


def _counted(true: Any, on: Callable[[], None]) -> Any:
    def counted(self: Any, data: Any, *flags: int) -> Any:
        on()
        return true(self, data, *flags)

    return counted


class Dying:
    """A remote that is left before or after the Nth thing that is asked of it."""

    def __init__(self, remote: Any, on: Callable[[], None]) -> None:
        self._remote, self._on = remote, on

    def __getattr__(self, name: str) -> Any:
        found = getattr(self._remote, name)
        if not callable(found):
            return found

        def call(*args: Any, **more: Any) -> Any:
            self._on()
            result = found(*args, **more)
            self._on()
            return result

        return call


def work(folder: str, url: str, login: Login, name: str, dies_at: int) -> tuple[int, int, str]:
    """Do it; return the status, how much was sent, and what was said."""
    sends = 0

    def on() -> None:
        nonlocal sends
        sends += 1
        if sends == dies_at:
            os._exit(KILLED)

    remote: Any = connect(f"{url}/{name}", login)
    if url.startswith("s3:"):  # its sockets are not Python's
        remote = Dying(remote, on)
    else:
        count_sends(on)
    try:
        ledger = Ledger.open(remote, local_cache=os.path.join(folder, "near", name))
        ledger.backup(MemoryPlace({"a": b"moss"}))
        faults = verify(ledger).findings
    except KindredError as error:
        return 2, sends, str(error)
    return 3 if faults else 0, sends, f"{len(ledger.entries())} entries, {faults}"


def main() -> None:
    folder, url, login = sys.argv[1:]
    for line in sys.stdin:
        name, _, dies_at = line.rpartition(" ")
        reader, writer = os.pipe()
        child = os.fork()
        if not child:
            with contextlib.suppress(BaseException):
                told = work(folder, url, Login(**json.loads(login)), name, int(dies_at))
                os.write(writer, json.dumps(told).encode())
            os._exit(0)
        os.close(writer)
        status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        with os.fdopen(reader, "rb") as file:
            said = file.read().decode()
        print(said if said else json.dumps((status, 0, "")), flush=True)


if __name__ == "__main__":
    main()

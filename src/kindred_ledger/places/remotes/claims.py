"""Claims: who is making a file that nobody else may make, on servers that make only folders exclusively.

Whoever makes the file `x` first writes its content to `x.OWNER.part`, then makes the folder `x.claim`,
renames the part to `x`, and removes the folder. So while a claim is held, a part tells whose it may be:
a claim beside which there is none, or only those of processes of this machine that died, is nobody's.
Of other machines nothing is known: their claims hold for `LEASE_SECONDS`, after which a maker gives up by
itself and others may go on. Nothing here compares the clocks of two machines.
"""

from __future__ import annotations

import os
import re
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from functools import cache

from blake3 import blake3

__all__ = ["LEASE_SECONDS", "Watch", "is_over", "owned", "owner_of"]

LEASE_SECONDS = 60.0  # far longer than a rename takes, with all its tries
_GRACE = 1.5  # leases that others wait: the maker's began a little later than they saw it
_OWNER = re.compile(r"(?P<machine>[0-9a-f]{8})-(?P<process>\d{1,10})-[0-9a-f]{8}")
_at_work: set[str] = set()  # the owners of this process that are not done


@contextmanager
def owned() -> Iterator[str]:
    """Give the name of a new owner, of this process, for the block."""
    owner = f"{_machine()}-{os.getpid()}-{os.urandom(4).hex()}"
    _at_work.add(owner)
    try:
        yield owner
    finally:
        _at_work.discard(owner)


def owner_of(name: str, made: str) -> str:
    """Return the owner that a part of the file `made` names; empty if it is none."""
    if not (name.startswith(f"{made}.") and name.endswith(".part")):
        return ""
    owner = name[len(made) + 1 : -len(".part")]
    return owner if _OWNER.fullmatch(owner) else ""


def is_over(owner: str) -> bool:
    """Tell whether an owner is known to be done or dead; one of another machine never is."""
    found = _OWNER.fullmatch(owner)
    if found is None or found["machine"] != _machine():
        return False
    process = int(found["process"])
    return owner not in _at_work if process == os.getpid() else not _lives(process)


class Watch:
    """How long a claim has been held, as seen from here; `own` is who would like to have it."""

    def __init__(self, own: str) -> None:
        self._own = own
        self._began = _now()
        self._pause = 0.05

    def is_free(self, owners: Iterable[str]) -> bool:
        """Tell whether a claim is nobody's, or may be taken over, by the owners that have parts beside it.

        Of several who wait only one goes on at a time, the others a lease later.
        """
        others = [owner for owner in owners if owner != self._own and not is_over(owner)]
        rank = sum(owner < self._own for owner in others)
        leases = rank + (_GRACE if others else 0)
        return self.seconds() >= leases * LEASE_SECONDS

    def wait(self) -> None:
        """Let some time go by, ever more."""
        time.sleep(self._pause)
        self._pause = min(2 * self._pause, 2.0)

    def seconds(self) -> float:
        """Return the time since the watch began; while the machine slept, too."""
        return max(now - then for now, then in zip(_now(), self._began, strict=True))


def _now() -> tuple[float, float]:
    return time.monotonic(), time.time()


@cache
def _machine() -> str:
    """Return what tells this machine, as far as its processes see each other, from others."""
    import platform
    import uuid

    told = [platform.node(), str(uuid.getnode())]
    for path in ("/proc/sys/kernel/random/boot_id", "/etc/machine-id"):
        try:
            with open(path, encoding="ascii") as file:
                told.append(file.read().strip())
        except OSError:
            pass
    try:
        told.append(os.readlink("/proc/self/ns/pid"))  # a container sees its own processes
    except OSError:
        pass
    return blake3("\n".join(told).encode()).hexdigest()[:8]


def _lives(process: int) -> bool:
    if os.name == "nt":  # where that signal would end it
        import psutil

        return bool(psutil.pid_exists(process))
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:  # another user's
        pass
    return True

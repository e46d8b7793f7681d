"""Programs that run from a place, or have files of it open: what they write next is not known."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import time
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from .names import WORK_FOLDER

__all__ = ["Running", "ask_to_end", "running_in"]

_OPEN = "which has"
_LOOK_EVERY = 0.05  # seconds


class Running(NamedTuple):
    """A program that is running, what ties it to a place, and how it was started."""

    name: str
    process: int
    tie: str
    command: tuple[str, ...] = ()

    @property
    def lies_here(self) -> bool:
        """Whether it was started from the place, and does not only have a file of it open."""
        return not self.tie.startswith(_OPEN)

    def __str__(self) -> str:
        return f"{self.name} (process {self.process}), {self.tie}"


class _Process(NamedTuple):
    pid: int
    program: str
    arguments: list[str]
    folder: str
    open_files: list[str]


def running_in(roots: Iterable[str]) -> list[Running]:
    """Return the programs that lie in one of the folders or files, or hold one of theirs open.

    This process and those that started it are left out, and so is what may not be looked at.
    """
    inside = [os.path.normcase(os.path.realpath(root)) for root in roots]
    processes = _from_proc() if sys.platform == "linux" else _from_psutil()
    found = []
    for process in processes:
        tie = _tie(process, inside)
        if tie:
            name, command = os.path.basename(process.program), tuple(process.arguments)
            found.append(Running(name, process.pid, tie, command))
    return found


def ask_to_end(programs: Sequence[Running], roots: Iterable[str], seconds: float) -> list[Running]:
    """Ask programs that run from some folders to end (SIGTERM); return those that still run after a time.

    Windows has no such request that a program can answer: there all are returned at once.
    """
    if sys.platform == "win32":
        return list(programs)
    here = list(roots)
    asked = {*programs}
    for program in running_in(here):
        if program in asked:  # still the same one: numbers of processes are given anew
            with contextlib.suppress(OSError):
                os.kill(program.process, signal.SIGTERM)
    end = time.monotonic() + seconds
    while left := [each for each in running_in(here) if each in asked]:
        if time.monotonic() > end:
            break
        time.sleep(_LOOK_EVERY)
    return left


def _tie(process: _Process, roots: list[str]) -> str:
    if _within(process.program, roots):
        return "whose program lies here"
    for argument in process.arguments:
        path = argument.replace("\\", "/").removeprefix("Z:") if "\\" in argument else argument
        path = os.path.normpath(os.path.join(process.folder, path))
        if _within(path, roots) and os.path.isfile(path):
            return f"started with {os.path.basename(path)}"
    for path in process.open_files:
        if _within(path, roots):
            return f"{_OPEN} {os.path.basename(path)} open"
    return ""


def _within(path: str, roots: list[str]) -> bool:
    path = os.path.normcase(path)
    return any(
        path == root or (path.startswith(root + os.sep) and WORK_FOLDER not in path)
        for root in roots
    )


def _from_proc() -> Iterator[_Process]:
    """Read Linux's own list: psutil takes 60 ms to import, which is most of a small backup."""
    ours = set(_ancestors(os.getpid()))
    for name in os.listdir("/proc"):
        if not name.isdigit() or int(name) in ours:
            continue
        top = f"/proc/{name}"
        with contextlib.suppress(OSError):  # it ended, or is somebody else's
            program = os.readlink(f"{top}/exe").removesuffix(" (deleted)")
            with open(f"{top}/cmdline", "rb") as file:
                arguments = os.fsdecode(file.read()).split("\0")
            files = []
            for fd in os.listdir(f"{top}/fd"):
                with contextlib.suppress(OSError):
                    files.append(os.readlink(f"{top}/fd/{fd}"))
            folder = os.readlink(f"{top}/cwd")
            yield _Process(int(name), program, [a for a in arguments if a], folder, files)


def _ancestors(pid: int) -> Iterator[int]:
    while pid:
        yield pid
        try:
            with open(f"/proc/{pid}/stat", "rb") as file:
                pid = int(file.read().rpartition(b")")[2].split()[1])
        except OSError:
            return


def _from_psutil() -> Iterator[_Process]:
    import psutil

    this = psutil.Process()
    ours = {this.pid, *(parent.pid for parent in this.parents())}
    # What may not be looked at is None. Open files other systems tell slowly, or never.
    for process in psutil.process_iter(["exe", "cmdline", "cwd"]):
        if process.pid not in ours:
            info = process.info
            yield _Process(
                process.pid, info["exe"] or "", info["cmdline"] or [], info["cwd"] or "", []
            )

"""Measuring: commands as whole processes, in turn, and the ratio of each pair.

The machines this runs on are shared and noisy, so a figure is the median of the ratios of runs that
followed each other, never of two times taken apart.
"""

from __future__ import annotations

import json
import os
import platform
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import TypeVar

__all__ = ["Ratio", "compare", "in_memory", "machine", "peak_memory", "report", "script", "timed"]


_T = TypeVar("_T")

# As installed: compiled once, not at every start.
_ENVIRONMENT = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}


@dataclass(frozen=True, slots=True)
class Ratio:
    """Our time divided by another's for one work: below 1 we are faster. Times in seconds."""

    work: str
    against: str
    ratio: float
    lowest: float
    highest: float
    ours_seconds: float
    theirs_seconds: float
    rounds: int


def compare(
    work: str,
    ours: Sequence[str],
    others: Mapping[str, Sequence[str]],
    *,
    rounds: int,
    prepare: Callable[[], None] = lambda: None,
) -> list[Ratio]:
    """Run our command and each other in turn, `rounds` times after a round not counted.

    `prepare` puts everything back before each run and is not timed.
    """
    times: dict[str, list[float]] = {"": [], **{name: [] for name in others}}
    for number in range(rounds + 1):
        for name, command in {"": ours, **others}.items():
            prepare()
            os.sync()
            start = time.perf_counter()
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL, env=_ENVIRONMENT)
            if number:
                times[name].append(time.perf_counter() - start)
    out = []
    for name in others:
        ratios = [a / b for a, b in zip(times[""], times[name], strict=True)]
        medians = statistics.median(times[""]), statistics.median(times[name])
        out.append(
            Ratio(work, name, statistics.median(ratios), min(ratios), max(ratios), *medians, rounds)
        )
    return out


# A process of its own, small: what is measured begins with the memory of the one that starts it.
_WEIGH = """
import resource, subprocess, sys
status = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL).returncode
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
sys.exit(status)
"""


def in_memory() -> tempfile.TemporaryDirectory[str]:
    """Return a folder for the time of a benchmark, in memory where there is such a file system."""
    return tempfile.TemporaryDirectory(dir="/dev/shm" if os.path.isdir("/dev/shm") else None)


def script(
    path: str, body: str, edits: list[int] | None = None, writing: str = "file.write(out)"
) -> list[str]:
    """Return a command that reads a file, runs a body over `data`, and writes `out` beside it."""
    reading = f"data = open({path!r}, 'rb').read()\nedits = {edits!r}\n"
    written = f"file = open({path + '.out'!r}, 'wb')\n{writing}"
    return [sys.executable, "-c", f"{reading}{body}\n{written}"]


def peak_memory(command: Sequence[str]) -> int:
    """Run a command and return the most memory it held, in bytes (Linux: getrusage(2))."""
    weigh = [sys.executable, "-c", _WEIGH, *command]
    done = subprocess.run(weigh, check=True, capture_output=True, text=True, env=_ENVIRONMENT)
    return int(done.stdout) * 1024


def timed(work: Callable[[], _T]) -> tuple[float, _T]:
    """Return the seconds some work took, and what it gave."""
    start = time.perf_counter()
    result = work()
    return time.perf_counter() - start, result


def machine() -> dict[str, object]:
    """Return what a figure was measured on."""
    return {"python": platform.python_version(), "cores": os.cpu_count()}


def report(name: str, found: Sequence[Ratio], facts: dict[str, object], out: str) -> None:
    """Print a table and, if `out` names a file, write the same as JSON."""
    print(f"{name}: {', '.join(f'{key} {value}' for key, value in facts.items())}")
    print(
        f"{'work':<34}{'against':<26}{'ratio':>7}{'from':>7}{'to':>7}{'ours s':>9}{'theirs s':>10}"
    )
    for row in found:
        print(
            f"{row.work:<34}{row.against:<26}{row.ratio:>7.2f}{row.lowest:>7.2f}{row.highest:>7.2f}"
            f"{row.ours_seconds:>9.2f}{row.theirs_seconds:>10.2f}"
        )
    if out:
        whole = {
            "name": name,
            "machine": machine(),
            "facts": facts,
            "rows": [asdict(r) for r in found],
        }
        with open(out, "w", encoding="utf-8") as file:
            json.dump(whole, file, indent=2)

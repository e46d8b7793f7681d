"""Run the whole suite (or the tests whose name contains -k WORD) and print the count."""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterable, Iterator
from typing import Any, ClassVar

MEMORY = "/dev/shm"  # a file system in memory, where there is one
ENOUGH = 4 << 30  # bytes
HERE = os.path.dirname(os.path.abspath(__file__))


def main() -> int:
    """Return 0 if everything passed and at least one test ran."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("-k", dest="words", action="append", help="only tests that contain WORD")
    parser.add_argument("-v", dest="verbose", action="store_true")
    # One more than processors: many tests wait, for servers, locks and processes of their own.
    parser.add_argument("-j", dest="workers", type=int, default=min((os.cpu_count() or 1) + 1, 4))
    parser.add_argument("--long", action="store_true", help="every point and 10,000 cases: hours")
    parser.add_argument("--share", default="", help=argparse.SUPPRESS)  # where classes are claimed
    parser.add_argument("--result", default="", help=argparse.SUPPRESS)
    options = parser.parse_args()
    if options.long:
        os.environ["KINDRED_EXAMPLES"] = "10000"
    if _roomy(MEMORY):  # thousands of small places: a disk would only wait for itself
        tempfile.tempdir = os.environ["TMPDIR"] = MEMORY
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # hundreds of commands would compile themselves
    if options.share or options.workers < 2 or options.words:
        told = _run(options.words, options.share, verbose=options.verbose)
    else:
        told = _run_shares(options.workers, verbose=options.verbose)
    if options.result:
        with open(options.result, "w", encoding="utf-8") as file:
            json.dump(told, file)
        return 0
    if options.verbose:
        for seconds, name in sorted(told["took"], reverse=True)[:15]:
            print(f"{seconds:7.1f} s  {name}")
    skipped = f", {told['skipped']} skipped" if told["skipped"] else ""
    print(f"{told['passed']} passed, {told['failed']} failed{skipped}")
    return 0 if told["passed"] and not told["failed"] else 1


def _run(words: list[str] | None, share: str, *, verbose: bool) -> dict[str, Any]:
    """Run the tests, or those whose classes it claims before others do, in this process."""
    sys.path.insert(0, os.path.dirname(HERE))
    loader = unittest.TestLoader()
    if words:
        loader.testNamePatterns = [f"*{word}*" for word in words]
    suite = loader.discover(HERE, top_level_dir=os.path.dirname(HERE))
    if share:
        suite = Claimed(_classes(suite), share)
    runner = unittest.TextTestRunner(verbosity=2 if verbose else 1, resultclass=Timed)
    result = runner.run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return {
        "passed": result.testsRun - failed - len(result.skipped),
        "failed": failed,
        "skipped": len(result.skipped),
        "took": Timed.took,
    }


def _classes(suite: Any) -> Iterator[Any]:
    """Yield the suites of single classes, and what stands alone."""
    for part in suite:
        if isinstance(part, unittest.TestSuite):
            tests = list(part)
            if any(isinstance(test, unittest.TestSuite) for test in tests):
                yield from _classes(part)
            elif tests:
                yield part
        else:
            yield part


def _run_shares(workers: int, *, verbose: bool) -> dict[str, Any]:
    """Run the classes on several processes, each the next; a process that dies counts as a failure."""
    total: dict[str, Any] = {"passed": 0, "failed": 0, "skipped": 0, "took": []}
    with tempfile.TemporaryDirectory() as folder:
        running = []
        for number in range(workers):
            result = os.path.join(folder, f"{number}.json")
            command = [sys.executable, os.path.abspath(__file__), "--share", folder]
            command += ["--result", result, *(["-v"] if verbose else [])]
            running.append((subprocess.Popen(command), result))
        for process, result in running:
            process.wait()
            try:
                with open(result, encoding="utf-8") as file:
                    told = json.load(file)
            except OSError:
                told = {"passed": 0, "failed": 1, "skipped": 0, "took": []}
            for key, value in told.items():
                total[key] += value
    return total


class Claimed(unittest.TestSuite):
    """Suites of classes, of which each is run by whoever comes to it first."""

    _cleanup = False

    def __init__(self, classes: Iterable[Any], folder: str) -> None:
        super().__init__(classes)
        self._folder = folder

    def __iter__(self) -> Iterator[Any]:
        for number, one in enumerate(super().__iter__()):
            try:
                os.mkdir(os.path.join(self._folder, f"class-{number}"))
            except FileExistsError:
                continue
            yield one


class Timed(unittest.TextTestResult):
    """Notes how long each test took; -v lists the slowest."""

    took: ClassVar[list[tuple[float, str]]] = []

    def startTest(self, test: unittest.TestCase) -> None:
        self._start = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        self.took.append((time.monotonic() - self._start, test.id()))
        super().stopTest(test)


def _roomy(folder: str) -> bool:
    return os.access(folder, os.W_OK) and shutil.disk_usage(folder).free > ENOUGH


if __name__ == "__main__":
    sys.exit(main())

"""Run the whole suite (or the tests whose name contains -k WORD) and print the count."""

from __future__ import annotations

import argparse
import os
import shutil
import sys
import tempfile
import time
import unittest
from typing import ClassVar

MEMORY = "/dev/shm"  # a file system in memory, where there is one
ENOUGH = 4 << 30  # bytes
HERE = os.path.dirname(os.path.abspath(__file__))


def main() -> int:
    """Return 0 if everything passed and at least one test ran."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("-k", dest="words", action="append", help="only tests that contain WORD")
    parser.add_argument("-v", dest="verbose", action="store_true")
    options = parser.parse_args()
    if _roomy(MEMORY):  # thousands of small places: a disk would only wait for itself
        tempfile.tempdir = os.environ["TMPDIR"] = MEMORY
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # hundreds of commands would compile themselves
    sys.path.insert(0, os.path.dirname(HERE))
    loader = unittest.TestLoader()
    if options.words:
        loader.testNamePatterns = [f"*{word}*" for word in options.words]
    suite = loader.discover(HERE, top_level_dir=os.path.dirname(HERE))
    runner = unittest.TextTestRunner(verbosity=2 if options.verbose else 1, resultclass=Timed)
    result = runner.run(suite)
    for seconds, name in sorted(Timed.took, reverse=True)[: 15 if options.verbose else 0]:
        print(f"{seconds:7.1f} s  {name}")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
    print(f"{passed} passed, {failed} failed{skipped}")
    return 0 if passed and not failed else 1


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

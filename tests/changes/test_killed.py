"""All or nothing: an updating process killed at any moment leaves the old place or the new one."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import unittest
from concurrent.futures import ThreadPoolExecutor

from kindred_ledger.ledger import Ledger
from kindred_ledger.places import WORK_FOLDER
from tests.support import PlayCase, kindred, snapshot

_BY_POINT = 56
_BY_TIME = 16
_KILLED = os.path.join(os.path.dirname(os.path.abspath(__file__)), "killed.py")
_UPDATE = (
    "update", "mossferry", "downloads/mossferry-2.0.zip",
    "--old", "downloads/mossferry-1.4.zip", "--yes", "--json",
)  # fmt: skip


@unittest.skipIf(os.name == "nt", "there is no SIGKILL on Windows")
class Killed(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.assertEqual(kindred("backup", "mossferry", folder=self.folder).returncode, 0)
        self.old = snapshot(self.path("mossferry"))
        whole = self._copy("whole")
        done = self._start(whole, 0)
        out, _ = done.communicate()
        self.assertEqual(done.returncode, 0, out)
        self.changes = int(out.rpartition("changes: ")[2])
        self.new = snapshot(os.path.join(whole, "mossferry"))
        self.assertNotEqual(self.old, self.new)
        self.killed = 0

    def _copy(self, name: str) -> str:
        folder = os.path.join(os.path.dirname(self.folder), name)
        shutil.copytree(self.folder, folder, symlinks=True)
        return folder

    def _start(self, folder: str, point: int) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, _KILLED, str(point), *_UPDATE],
            cwd=folder,
            env={**os.environ, "KINDRED_LEDGER": "ledger", "PYTHONPATH": os.pathsep.join(sys.path)},
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )

    def _fate(self, name: str, point: int, seconds: float | None, back: bool) -> str:
        """Kill one update, recover, and return what the place holds: old, new or mixed."""
        folder = self._copy(name)
        process = self._start(folder, point)
        try:
            process.communicate(timeout=seconds)
        except subprocess.TimeoutExpired:
            process.send_signal(signal.SIGKILL)
            process.communicate()
        self.killed += process.returncode == -signal.SIGKILL
        recovered = kindred("recover", *(["--back"] if back else []), folder=folder)
        if recovered.returncode:
            return f"recover failed: {recovered.stderr}"
        found = snapshot(os.path.join(folder, "mossferry"))
        if WORK_FOLDER in found or any("change-" in x for x in os.listdir(f"{folder}/ledger/work")):
            return "something was left behind"
        ledger = Ledger.open(os.path.join(folder, "ledger"))
        faults = [fault for entry in ledger.entries() for fault in ledger.check(entry)]
        recorded = len(ledger.records())
        ledger.index.close()
        shutil.rmtree(folder)
        if faults:
            return f"damaged: {faults[0]}"
        if found == self.old and not recorded:
            return "old"
        return "new" if _content(found) == _content(self.new) and recorded else "mixed"

    def test_every_kill_leaves_the_old_or_the_new_place(self) -> None:
        """SIGKILL at points spread over all changes to the disk, and at times: never a mix."""
        points = sorted({1 + n * (self.changes - 1) // (_BY_POINT - 1) for n in range(_BY_POINT)})
        jobs = [(f"p{n}", n, None, n % 3 == 0) for n in points]
        jobs += [(f"t{n}", 0, 0.1 + n * 0.06, n % 2 == 0) for n in range(_BY_TIME)]
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            outcomes = list(pool.map(lambda job: self._fate(*job), jobs))
        told = [f"{job[0]}: {found}" for job, found in zip(jobs, outcomes, strict=True)]
        self.assertEqual([t for t in told if not t.endswith((": old", ": new"))], [])
        self.assertGreaterEqual(self.killed, 50)
        self.assertGreater(outcomes.count("old"), 5, told)
        self.assertGreater(outcomes.count("new"), 5, told)


def _content(found: dict[str, tuple[object, ...]]) -> dict[str, tuple[object, ...]]:
    """Return kind and bytes alone: times of new files from an archive are as they are."""
    return {path: node[:2] for path, node in found.items()}

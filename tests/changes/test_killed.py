"""All or nothing: an update that is killed, refused or interrupted leaves the old place or the new."""

from __future__ import annotations

import errno
import os
import shutil
import signal
import subprocess
import sys
import time
import unittest
from concurrent.futures import ThreadPoolExecutor

from kindred_ledger.ledger import Ledger
from kindred_ledger.places import WORK_FOLDER
from tests.support import LONG, ROOT, PlayCase, kindred, snapshot

_HERE = os.path.dirname(os.path.abspath(__file__))
_UPDATE = (
    "update", "mossferry", "downloads/mossferry-2.0.zip",
    "--old", "downloads/mossferry-1.4.zip", "--yes", "--json",
)  # fmt: skip
_BY_POINT, _BY_TIME, _REFUSALS = (560, 160, 240) if LONG else (36, 10, 16)


@unittest.skipIf(os.name == "nt", "there is no SIGKILL on Windows")
class CutOff(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.assertEqual(kindred("backup", "mossferry", folder=self.folder).returncode, 0)
        self.old = _found(self.folder)
        whole = self._copy("whole")
        start = time.monotonic()
        done = self._start("killed.py", whole, 0)
        out, _ = done.communicate()
        self.seconds = time.monotonic() - start
        self.assertEqual(done.returncode, 0, out)
        self.changes = int(out.rpartition("changes: ")[2])
        self.new = _found(whole)
        self.assertNotEqual(self.old, self.new)
        self.killed = 0

    def _copy(self, name: str) -> str:
        folder = os.path.join(os.path.dirname(self.folder), name)
        ignored = shutil.ignore_patterns("second")
        shutil.copytree(self.folder, folder, symlinks=True, ignore=ignored)
        return folder

    def _start(self, script: str, folder: str, *numbers: int) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, os.path.join(_HERE, script), *map(str, numbers), *_UPDATE],
            cwd=folder,
            env={
                **os.environ,
                "KINDRED_LEDGER": "ledger",
                "PYTHONPATH": ROOT,
                "PYTHONDONTWRITEBYTECODE": "1",  # that would be a change to the disk, too
            },
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )

    def _run(self, name: str, script: str, *numbers: int) -> tuple[str, int, str]:
        folder = self._copy(name)
        process = self._start(script, folder, *numbers)
        out, _ = process.communicate()
        return folder, process.returncode, out

    def _kill_at_time(self, name: str, seconds: float, number: int) -> str:
        folder = self._copy(name)
        process = self._start("killed.py", folder, 0)
        time.sleep(seconds)
        process.send_signal(number)
        process.communicate()
        self.killed += process.returncode == -signal.SIGKILL
        return folder

    def _fate(self, folder: str, *, back: bool) -> str:
        """Recover and return what the place holds: old, new or mixed."""
        recovered = kindred("recover", *(["--back"] if back else []), folder=folder)
        if recovered.returncode:
            return f"recover failed: {recovered.stderr}"
        found = _found(folder)
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

    def _judge(self, outcomes: dict[str, str]) -> None:
        told = [f"{name}: {found}" for name, found in outcomes.items()]
        self.assertEqual([t for t in told if not t.endswith((": old", ": new"))], [])

    def test_every_kill_leaves_the_old_or_the_new_place(self) -> None:
        """SIGKILL at points spread over all changes to the disk, and at times: never a mix."""
        last = self.changes - 1
        points = sorted({1 + n * last // (_BY_POINT - 1) for n in range(_BY_POINT)})

        def by_point(point: int) -> tuple[str, str]:
            folder, status, _ = self._run(f"p{point}", "killed.py", point)
            self.killed += status == -signal.SIGKILL
            return f"point {point}", self._fate(folder, back=point % 3 == 0)

        def by_time(number: int) -> tuple[str, str]:
            seconds = 0.1 + number * self.seconds * 1.5 / _BY_TIME
            folder = self._kill_at_time(f"t{number}", seconds, signal.SIGKILL)
            return f"after {seconds:.2f} s", self._fate(folder, back=number % 2 == 0)

        with ThreadPoolExecutor(os.cpu_count()) as pool:
            outcomes = dict(pool.map(by_point, points))
            outcomes |= dict(pool.map(by_time, range(_BY_TIME)))
        self._judge(outcomes)
        self.assertGreaterEqual(self.killed, len(points))
        for fate in ("old", "new"):
            self.assertGreater(list(outcomes.values()).count(fate), 5, outcomes)

    def test_every_refusal_leaves_the_old_or_the_new_place(self) -> None:
        """The disk refuses one change, each in turn: the update ends whole, or says why not."""
        points = sorted({1 + n * (self.changes - 1) // (_REFUSALS - 1) for n in range(_REFUSALS)})
        codes = (errno.ENOSPC, errno.EACCES, errno.EIO)

        def refuse(job: tuple[int, int]) -> tuple[str, str]:
            point, code = job
            folder, status, out = self._run(f"r{point}", "failing.py", point, code)
            fate = self._fate(folder, back=False)
            expected = {"old": (4, 5), "new": (0, 4)}.get(fate, ())
            told = status == 0 or '"error"' in out
            ok = status in expected and told and "Traceback" not in out
            return f"point {point}", fate if ok else f"{fate}, status {status}: {out[-900:]}"

        with ThreadPoolExecutor(os.cpu_count()) as pool:
            jobs = [(point, codes[n % len(codes)]) for n, point in enumerate(points)]
            outcomes = dict(pool.map(refuse, jobs))
        self._judge(outcomes)
        self.assertGreater(list(outcomes.values()).count("old"), 5, outcomes)

    def test_ctrl_c_takes_back_what_was_begun(self) -> None:
        """Interrupted at any time, the update leaves nothing to recover."""
        for number in range(8):
            seconds = 0.25 + number * self.seconds / 8
            folder = self._kill_at_time(f"c{number}", seconds, signal.SIGINT)
            work = os.listdir(os.path.join(folder, "ledger", "work"))
            self.assertEqual([name for name in work if name.startswith("change-")], [])
            self._judge({f"after {seconds:.2f} s": self._fate(folder, back=False)})


def _found(folder: str) -> dict[str, tuple[object, ...]]:
    """Return what the install holds, with the times of folders but for those at the top of its parts."""
    found = snapshot(os.path.join(folder, "mossferry"), folder_times=True)
    return {p: node[:3] if p == "userdata" else node for p, node in found.items()}


def _content(found: dict[str, tuple[object, ...]]) -> dict[str, tuple[object, ...]]:
    """Return kind and bytes alone: times of new files from an archive are as they are."""
    return {path: node[:2] for path, node in found.items()}

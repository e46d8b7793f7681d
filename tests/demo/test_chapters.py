"""Every chapter of the demo, with its commands killed in the middle and resumed: it ends the same."""

from __future__ import annotations

import io
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import time
import unittest
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, redirect_stdout

from kindred_ledger.demo.play_area import build_play_area
from kindred_ledger.demo.story import CHAPTERS, Story
from tests.support import LONG, ROOT, Case, files_in

_SAMPLE = ("move", "preview")  # what CI tries: some commands of each
_SPARED = 0.6  # of the commands of those
_KILLED_WITH = (0, 1, 3)  # a command that ends otherwise fails in the story itself
_LEDGER = "ledger/"
_PASSING = re.compile(r"__pycache__|\.part$")  # of Python; of a report that was being written


class Chapters(Case):
    def test_killed_and_resumed(self) -> None:
        """All commands of all chapters in the long run; else some, of some chapters."""
        for name in CHAPTERS if LONG else _SAMPLE:
            with self.subTest(chapter=name):
                area = self.path(name)
                build_play_area(area)
                with redirect_stdout(io.StringIO()):
                    _Killed(area, random.Random(name), self.assertEqual).run([name])


class _Killed(Story):
    """A story whose commands are run to their end, and then anew, killed half-way and resumed."""

    def __init__(self, area: str, chance: random.Random, same: Callable[..., None]) -> None:
        super().__init__(area, pause=False)
        self.area, self.chance, self.same = area, chance, same
        self.environment["PYTHONPATH"] = ROOT
        self.is_open = False

    @contextmanager
    def game_left_open(self) -> Iterator[None]:
        """Kill nothing meanwhile: the game would lose its folder."""
        with super().game_left_open():
            self.is_open = True
            yield
        self.is_open = False

    def start(self, command: list[str], folder: str) -> int:
        """Return the status of the command, once it was killed and resumed."""
        spared = self.is_open or (not LONG and self.chance.random() < _SPARED)
        if "kindred_ledger.cli.main" not in command or spared:
            done = subprocess.run(
                command, cwd=folder, env=self.environment, capture_output=True, check=False
            )
            return done.returncode
        args = command[command.index("kindred_ledger.cli.main") + 1 :]
        fresh = f"{self.area}.fresh"
        shutil.copytree(self.area, fresh, symlinks=True)
        before = self.files()
        began = time.perf_counter()
        whole = self.run_one(folder, 0, args)
        took = time.perf_counter() - began
        changes = int(re.findall(r"^changes: (\d+)$", whole.stdout, re.M)[-1])
        wanted = self.files()
        if (changes or "--fleet" in args) and whole.returncode in _KILLED_WITH:
            self.put_back(fresh)
            point = self.chance.randint(1, max(1, changes))
            if "--fleet" in args:  # workers do it; so at some moment, and they end with it
                killed = self.run_for(folder, self.chance.uniform(0.2, 0.9) * took, args)
            else:
                killed = self.run_one(folder, point, args)
            if killed.returncode == -signal.SIGKILL:
                status = self.resumed(folder, args, before, wanted)
                what = (args, point, status, killed.stderr[-2000:])
                self.same(self.files(), wanted, what)
        shutil.rmtree(fresh)
        return whole.returncode

    def resumed(
        self, folder: str, args: Sequence[str], before: dict[str, bytes], wanted: dict[str, bytes]
    ) -> int:
        """Do what a person does after a crash; return the status of the last command."""
        done = self.run_one(folder, 0, ["recover"])
        self.same(done.returncode if "no ledger" not in done.stderr else 0, 0, (args, done.stderr))
        is_move = args[0] == "migrate"
        if self.files() == wanted != before and not is_move:
            return 0
        done = self.run_one(folder, 0, args)
        if is_move and "kindred migrate --resume" in done.stderr:
            done = self.run_one(folder, 0, ["migrate", "--resume"])
        if "kindred mod suspects INSTALL" in done.stderr:
            done = self.run_one(folder, 0, args[:3])
        if done.returncode not in _KILLED_WITH:
            raise AssertionError((args, done.returncode, done.stdout, done.stderr))
        return done.returncode

    def put_back(self, fresh: str) -> None:
        for name in os.listdir(self.area):
            path = os.path.join(self.area, name)
            shutil.rmtree(path) if os.path.isdir(path) else os.remove(path)
        shutil.copytree(fresh, self.area, symlinks=True, dirs_exist_ok=True)

    def files(self) -> dict[str, bytes]:
        return {
            path: data
            for path, data in files_in(self.area).items()
            if not path.startswith(_LEDGER) and not _PASSING.search(path)
        }

    def run_for(
        self, folder: str, seconds: float, args: Sequence[str]
    ) -> subprocess.CompletedProcess[str]:
        """Run a command for some time, and kill it; return when all its workers are gone, too."""
        command = [sys.executable, "-m", "kindred_ledger.cli.main", *args]
        with subprocess.Popen(
            command, cwd=folder, env=self.environment, stdout=subprocess.PIPE, text=True,
            stderr=subprocess.DEVNULL,
        ) as process:  # fmt: skip
            time.sleep(seconds)
            process.kill()
            told, _ = process.communicate(timeout=60)  # each worker has the pipe open, too
            return subprocess.CompletedProcess(command, process.returncode, told, "")

    def run_one(
        self, folder: str, last: int, args: Sequence[str]
    ) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "tests.changes.killed", str(last), *args],
            cwd=folder,
            env=self.environment,
            capture_output=True,
            text=True,
            check=False,
        )


if __name__ == "__main__":
    unittest.main()

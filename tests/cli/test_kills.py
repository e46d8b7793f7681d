"""Random kills over all commands that write: no place is ever mixed, and no ledger hurt."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import unittest
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from kindred_ledger.cli.catalog import command_in
from kindred_ledger.ledger import Ledger, verify
from kindred_ledger.places import WORK_FOLDER
from tests.support import LONG, ROOT, PlayCase, kindred, snapshot

_KILLED = os.path.join(ROOT, "tests", "changes", "killed.py")
_KILLS = 1000 if LONG else 32
_UPDATE = "update mossferry downloads/mossferry-2.0.zip --old downloads/mossferry-1.4.zip"
# What goes before, and the commands that are killed then.
_SCENES = (
    (
        ("backup mossferry",),
        (
            f"{_UPDATE} --yes",
            "backup mossferry --note again",
            "ledger mirror fresh/ledger",
            "ledger drill",
            "convert mossferry/userdata/saves/midwinter.voyage --to-format 6 --yes --allow-loss",
            "file patch apply downloads/wet-lantern.patches.zip mossferry/data/harbours.json"
            " --result full --yes",
        ),
    ),
    (
        ("backup mossferry", f"{_UPDATE} --yes", "ledger mirror other", "ledger confirm latest"),
        (
            "convert mossferry --yes --allow-loss",
            "carry mossferry second/mossferry --category saves --yes --allow-loss",
            "ledger import downloads/mossferry-2.0.zip",
            "ledger export mossferry@1.4 kept.zip",
            "backup mossferry",
            "ledger mirror other --bring",
            "ledger retire --last 1 --yes",
        ),
    ),
    # The ledger knows where places are: these are set anew for each kill, not copied.
    (
        ("backup mossferry", f"{_UPDATE} --yes"),
        (
            "undo --yes --allow-loss",
            "restore mossferry@1.4 --exact --yes --allow-loss",
            "ledger confirm latest",
        ),
    ),
)
_SET_ANEW = 2


@unittest.skipIf(os.name == "nt", "there is no SIGKILL on Windows")
class Kills(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.bases: dict[int, str] = {}
        self.killed = 0

    def test_random_kills(self) -> None:
        """Of any command, at any of its changes to the disk; recovered, all is before or after."""
        scenes = [scene for number in range(len(_SCENES)) for scene in self.begin(number)]
        chance = random.Random(2026)
        jobs = [(n, *chance.choice(scenes)) for n in range(_KILLS)]

        def job(one: tuple[int, int, str, int, dict[str, Any], dict[str, Any]]) -> tuple[str, str]:
            number, scene, command, changes, before, after = one
            point = random.Random(number).randint(1, changes)
            folder = self.set_scene(scene, f"killed-{number}")
            killed = self.run_killed(folder, point, command)
            found = self.fate(folder, before, after)
            shutil.rmtree(folder)
            self.killed += killed.returncode == -signal.SIGKILL
            return f"{command}, change {point} of {changes}", found

        with ThreadPoolExecutor(os.cpu_count()) as pool:
            fates = list(pool.map(job, jobs))
        self.assertEqual([fate for fate in fates if fate[1] not in ("before", "after")], [])
        # A command may make a change less than the one that was counted, such as one more try for a lock.
        self.assertGreater(self.killed, 0.95 * _KILLS)
        commands = {command_in(name.partition(",")[0].split()) for name, _ in fates}
        self.assertGreater(len(commands), 7)

    def test_a_single_file_at_every_point(self) -> None:
        """A place that is one file is gone for a moment, between old and new: it always comes back."""
        scenes = [one for one in self.begin(0) if one[1].startswith("file patch")]
        ((scene, command, changes, before, after),) = scenes

        def fate(point: int) -> str:
            folder = self.set_scene(scene, f"single-{point}")
            self.run_killed(folder, point, command)
            found = self.fate(folder, before, after)
            shutil.rmtree(folder)
            return found

        with ThreadPoolExecutor(os.cpu_count()) as pool:
            points = range(1, changes + 1, 1 if LONG else 2)
            fates = list(pool.map(fate, points))
        self.assertEqual({*fates}, {"before", "after"}, [*zip(points, fates, strict=True)])

    def begin(self, scene: int) -> list[tuple[int, str, int, dict[str, Any], dict[str, Any]]]:
        """Return a scene with each of its commands, how many changes that makes, and both ends."""
        self.bases[scene] = self.set_scene(scene, f"scene-{scene}")
        before = self.places(self.bases[scene])
        found = []
        for at, command in enumerate(_SCENES[scene][1]):
            whole = self.set_scene(scene, f"whole-{scene}-{at}")
            done = self.run_killed(whole, 0, command)
            self.assertEqual(done.returncode, 0, f"{command}: {done.stdout}")
            changes = int(done.stdout.rpartition("changes: ")[2])
            found.append((scene, command, changes, before, self.places(whole)))
            shutil.rmtree(whole)
        return found

    def set_scene(self, scene: int, name: str) -> str:
        if scene in self.bases and scene != _SET_ANEW:
            return self.copied(self.bases[scene], name)
        folder = self.copied(self.folder, name)
        for command in _SCENES[scene][0]:
            done = kindred(*command.split(), folder=folder)
            self.assertEqual(done.returncode, 0, done.stderr)
        return folder

    def copied(self, source: str, name: str) -> str:
        folder = os.path.join(os.path.dirname(self.folder), name)
        shutil.copytree(source, folder, symlinks=True)
        return folder

    def run_killed(self, folder: str, point: int, command: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, _KILLED, str(point), *command.split()],
            cwd=folder,
            env={
                **os.environ,
                "KINDRED_LEDGER": "ledger",
                "PYTHONPATH": ROOT,
                "PYTHONDONTWRITEBYTECODE": "1",  # that would be a change to the disk, too
                "TMPDIR": folder,
            },
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            check=False,
        )

    def places(self, folder: str) -> dict[str, Any]:
        """Return kind and bytes of all in the installs: times of new files are as they are."""
        return {
            f"{name}/{path}": node[:2] if node[0] != "dir" else node[:1]
            for name in ("mossferry", "second")
            for path, node in snapshot(os.path.join(folder, name)).items()
        }

    def fate(self, folder: str, before: dict[str, Any], after: dict[str, Any]) -> str:
        recovered = kindred("recover", folder=folder)
        if recovered.returncode:
            return f"recover failed: {recovered.stderr}"
        for name in ("ledger", "other", "fresh/ledger"):
            root = os.path.join(folder, name)
            if not os.path.exists(os.path.join(root, "ledger.toml")):
                continue
            ledger = Ledger.open(root)
            found = verify(ledger)
            left = [one for one in os.listdir(ledger.folder("work")) if one.startswith("change-")]
            ledger.index.close()
            if found.findings or found.costs or left:
                return f"{name}: {found.findings} {found.costs} {left}"
        here = self.places(folder)
        if any(WORK_FOLDER in path for path in here):
            return "something was left behind"
        return "before" if here == before else "after" if here == after else "mixed"

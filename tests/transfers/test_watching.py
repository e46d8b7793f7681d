"""Watching: what a launcher does behind one's back is kept and told, or taken back; idle it does nothing."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import threading
import time
from typing import Any

from kindred_ledger.demo.releases import build_release
from kindred_ledger.errors import UsageError
from kindred_ledger.transfers import Watcher, What
from tests.support import PlayCase, snapshot, write


class Watching(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()

    def launcher(self, build: str) -> None:
        """Put the files of a build into the install, as a launcher does: over all that is there."""
        write(self.path("mossferry"), build_release(build))

    def test_what_happened_is_told_by_version_and_content(self) -> None:
        """An update, its undoing, an edit of the program, an evening's play; nothing, if nothing differs."""
        watcher = Watcher(self.install(), self.kept)
        self.assertIsNone(watcher.look())
        self.launcher("2.0")
        event = watcher.look()
        assert event is not None and event.entry is not None
        self.assertEqual(str(event), "updated from 1.4 to 2.0: 67 changed, 8 added")
        self.assertEqual(event.entry.tag.version, "2.0")
        for name in build_release("2.0"):
            if "lanterns" in name:
                os.remove(self.path("mossferry", *name.split("/")))
        self.launcher("1.4")
        event = watcher.look()
        assert event is not None
        self.assertEqual((event.what, event.before, event.after), (What.WENT_BACK, "2.0", "1.4"))
        for name, what in (
            ("data/tides.ini", What.CHANGED),
            ("userdata/saves/new.voyage", What.PLAYED),
            ("mods/reedlight/reeds.dat", What.PLAYED),
        ):
            write(self.path("mossferry"), {name: b"{}"})
            event = watcher.look()
            assert event is not None
            self.assertEqual((event.what, len(event.touched)), (what, 1))
        self.assertEqual(len(self.kept.entries()), 5)
        os.utime(self.path("mossferry", "data", "tides.ini"))
        self.assertIsNone(watcher.look())

    def test_a_guarded_install_stays_as_it_is(self) -> None:
        """The program is brought back, saves of meanwhile stay; what was never kept cannot be guarded."""
        watcher = Watcher(self.install(), self.kept, guard=True)
        with self.assertRaisesRegex(UsageError, "nothing was kept of this install"):
            watcher.check_guard()
        self.kept.backup(self.install())
        watcher.check_guard()
        before = snapshot(self.path("mossferry"))
        self.launcher("2.0")
        with subprocess.Popen(
            [sys.executable, self.path("mossferry", "mossferry.py"), "--run"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        ) as game:
            assert game.stdout is not None
            game.stdout.readline()
            self.assertIsNone(watcher.look())  # while something runs from there it waits
            game.communicate()
        os.remove(self.path("mossferry", "data", "old_charts", "0.chart"))
        save = {"userdata/saves/meanwhile.voyage": b"{}"}
        write(self.path("mossferry"), save)
        event = watcher.look()
        assert event is not None and event.change is not None
        self.assertEqual((event.what, event.after), (What.UPDATED, "2.0"))
        after = snapshot(self.path("mossferry"))
        self.assertEqual(after.pop("userdata/saves/meanwhile.voyage")[1], b"{}")
        self.assertEqual(_files(after), _files(before))
        self.assertEqual(self.judge()[0], 1)  # of the empty voyage
        self.assertIsNone(watcher.look())

    def test_only_what_settled_is_looked_at(self) -> None:
        """Events come once it was quiet; a file that is still written is waited for."""
        watcher = Watcher(self.install(), self.kept, quiet_seconds=0.4)
        told: list[Any] = []

        def follow() -> None:
            for event in watcher.events():
                told.append((time.monotonic(), event))
                watcher.end()

        thread = threading.Thread(target=follow)
        for number in range(6):
            write(self.path("mossferry"), {"userdata/saves/x.voyage": b"{}" * number})
            last = time.monotonic()
            if not number:
                thread.start()  # what changed before it waits is seen too
            time.sleep(0.1)
        thread.join(20)
        self.assertEqual(len(told), 1)
        self.assertGreaterEqual(told[0][0] - last, 0.4)

    def test_the_command(self) -> None:
        """It says what happened and ends after so many events; idle it takes next to nothing."""
        self.kept.index.close()
        command = [sys.executable, "-m", "kindred_ledger.cli.main", "sync", "watch", "mossferry"]
        with subprocess.Popen(
            [*command, "--quiet", "0.5", "--times", "1", "--json"],
            cwd=self.folder,
            env={**os.environ, "KINDRED_LEDGER": "ledger"},
            stdout=subprocess.PIPE,
            text=True,
        ) as process:
            deadline = time.monotonic() + 30
            while process.poll() is None and time.monotonic() < deadline:
                self.launcher("2.0")  # again and again, until the watch has begun
                time.sleep(1.5)
                shutil.rmtree(self.path("mossferry", "data", "lanterns"), ignore_errors=True)
            assert process.stdout is not None
            (told,) = map(json.loads, process.stdout.read().splitlines())  # a line an event
        self.assertEqual(process.returncode, 0)
        self.assertRegex(told["event"], r"updated from 1.4 to 2.0|changed")
        self.assertTrue(told["entry"])


def _files(found: dict[str, Any]) -> dict[str, Any]:
    return {path: node[:2] for path, node in found.items() if node[0] == "file"}

"""Fleets: threads, processes and a cluster; a ledger in a folder and on a server; what is killed goes on."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import threading
import time
import unittest
from concurrent.futures import Executor, ThreadPoolExecutor
from unittest import mock

import psutil

from kindred_ledger.errors import UsageError
from kindred_ledger.ledger import Ledger, verify
from kindred_ledger.migrate import (
    FleetJob,
    FleetResult,
    FleetRun,
    MigrationConsents,
    installs_named,
    migrate_fleet,
    plan_fleet,
    process_pool,
)
from kindred_ledger.places.remotes import connect
from tests.servers import object_store
from tests.support import PlayCase, files_in, snapshot

_PARTS = ("it starts", "saves", "settings", "mods")


def _workers() -> list[psutil.Process]:
    """Return the processes below this one that work for it."""
    found = []
    for child in psutil.Process().children():
        with contextlib.suppress(psutil.Error):
            if "spawn_main" in " ".join(child.cmdline()):
                found.append(child)
    return found


class FleetCase(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.servers = []
        for number in range(6):
            server = self.path("servers", f"{number:02}")
            shutil.copytree(self.path("mossferry"), server)
            self.servers.append(server)
        self.before = files_in(self.servers[0])

    def jobs(self, **more: object) -> list[FleetJob]:
        plain = FleetJob(
            "",
            self.new_zip,
            self.path("ledger"),
            (self.path("mossferry.card.toml"),),
            old=self.old_zip,
            consents=MigrationConsents(allow_loss=True),
        )
        values = {name: getattr(plain, name) for name in plain.__struct_fields__}
        return [FleetJob(**{**values, **more, "install": each}) for each in self.servers]  # type: ignore[arg-type]

    def check_done(self, run: FleetRun, *, state: str = "waits") -> None:
        """All are in a state, each with its own books, and load; the ledger is whole."""
        self.assertEqual(run.totals(), {state: len(self.servers)}, run)
        first = files_in(self.servers[0])
        self.assertNotEqual(first, self.before)
        for server, result in zip(self.servers, run.results, strict=True):
            self.assertEqual(result.install, server)
            self.assertEqual(files_in(server), first)


class Everywhere(FleetCase):
    def test_in_threads(self) -> None:
        with ThreadPoolExecutor(3) as executor:
            plan = plan_fleet(self.jobs(), executor)
            self.assertEqual(plan.totals(), {"planned": 6})
            run = migrate_fleet(self.jobs(), executor)
            self.check_done(run)
            self.assertEqual(len({result.migration for result in run.results}), 6)
            self.assertEqual(run.results[0].totals["changed"], 72)
            done = migrate_fleet(self.jobs(release="", sign=_PARTS, by="Ada"), executor)
            self.check_done(done, state="done")
            back = migrate_fleet(self.jobs(release="", back=True), executor)
            self.assertEqual(back.totals(), {"taken back": 6}, back)
        for server in self.servers:
            self.assertEqual(files_in(server), self.before)
        self.assertFalse(verify(self.ledger()).findings)

    def test_in_processes_one_of_which_is_killed(self) -> None:
        """It costs time, and nothing else."""
        killed = self._kill_soon()
        with process_pool(2) as executor:
            run = migrate_fleet(self.jobs(), executor, renew=lambda: process_pool(2))
        self.assertTrue(killed())
        self.check_done(run)
        self.assertFalse(verify(self.ledger()).findings)

    def _kill_soon(self) -> threading.Event:
        """Kill a process below this one once it is at work on an install; return what says that it was."""
        done = threading.Event()

        def kill() -> None:
            work = self.path("ledger", "work")
            for _ in range(2000):
                time.sleep(0.005)
                begun = os.path.isdir(work) and any(
                    n.startswith("change-") for n in os.listdir(work)
                )
                children = _workers() if begun else []
                if children:
                    os.kill(children[0].pid, signal.SIGKILL)
                    done.set()
                    return

        threading.Thread(target=kill, daemon=True).start()
        return lambda: done.wait(20)  # type: ignore[return-value]

    def test_one_that_fails_stops_no_other(self) -> None:
        """A folder that is no install, and one whose build is not certain."""
        with open(os.path.join(self.servers[1], "version.txt"), "w", encoding="utf-8") as file:
            file.write("build 1.3\n")
        os.remove(os.path.join(self.servers[4], "mossferry.py"))
        others = {n: snapshot(self.servers[n]) for n in (1, 4)}
        with ThreadPoolExecutor(2) as executor:
            run = migrate_fleet(self.jobs(), executor)
        self.assertEqual(run.totals(), {"waits": 4, "error": 2})
        self.assertIn("the evidence disagrees", run.results[1].told)
        for number, state in others.items():
            self.assertEqual(snapshot(self.servers[number]), state)

    def test_what_kills_its_worker_each_time(self) -> None:
        """It is told as an error in the end; all others are done."""
        stop = self._kill_when(self.servers[2])
        with process_pool(2) as executor:
            run = migrate_fleet(self.jobs(), executor, renew=lambda: process_pool(2))
        stop.set()
        states = [result.state for result in run.results]
        self.assertEqual(states[:2] + states[3:], ["waits"] * 5, run.results[2])

    def _kill_when(self, folder: str) -> threading.Event:
        """Kill, a few times, whichever process has files of a folder open or is at work on it."""
        stop = threading.Event()

        def watch() -> None:
            kills = 0
            while not stop.is_set() and kills < 4:
                for child in _workers():
                    try:
                        if any(each.path.startswith(folder) for each in child.open_files()):
                            os.kill(child.pid, signal.SIGKILL)
                            kills += 1
                    except psutil.Error:
                        continue
                time.sleep(0.002)

        threading.Thread(target=watch, daemon=True).start()
        return stop


class Cluster(FleetCase):
    """A real cluster on this machine: a scheduler and two worker processes."""

    def test_a_worker_is_killed(self) -> None:
        try:
            from distributed import Client, LocalCluster
        except ImportError:
            self.skipTest("distributed is not installed: pip install 'kindred-ledger[cluster]'")
        with (
            LocalCluster(
                n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None
            ) as cluster,
            Client(cluster) as client,
        ):
            pids = [*client.run(os.getpid).values()]
            self.assertEqual(len({*pids} - {os.getpid()}), 2)
            seen: list[FleetResult] = []

            def watch(result: FleetResult) -> None:
                seen.append(result)
                if len(seen) == 1:
                    os.kill(pids[0], signal.SIGKILL)

            executor: Executor = client.get_executor()
            run = migrate_fleet(self.jobs(), executor, watch=watch)
        self.check_done(run)
        self.assertFalse(verify(self.ledger()).findings)


class OnAServer(FleetCase):
    """The ledger on a server of objects that all workers reach."""

    def test_a_ledger_on_s3(self) -> None:
        self.servers = self.servers[:3]
        with object_store() as (url, login):
            environment = {
                "AWS_ACCESS_KEY_ID": login.user,
                "AWS_SECRET_ACCESS_KEY": login.password,
                "AWS_ENDPOINT_URL": login.endpoint,
                "XDG_DATA_HOME": self.path("data"),
                "XDG_CACHE_HOME": self.path("cache"),
            }
            with mock.patch.dict(os.environ, environment), process_pool(2) as executor:
                run = migrate_fleet(self.jobs(ledger=f"{url}/fleet"), executor)
                self.check_done(run)
                remote = connect(f"{url}/fleet", login)
                ledger = Ledger.open(remote, create=False, local_cache=self.path("other"))
                self.assertEqual(len(ledger.entries()), 3 * 3)
                self.assertFalse(verify(ledger).findings)
                ledger.finish()
                remote.close()


class Named(FleetCase):
    def test_by_a_pattern_or_a_list(self) -> None:
        self.assertEqual(installs_named([self.path("servers", "*")]), self.servers)
        listed = self.path("list.txt")
        with open(listed, "w", encoding="utf-8") as file:
            file.write("# mine\nservers/01\n\nservers/00\nservers/01\n")
        self.assertEqual(installs_named([listed]), [self.servers[1], self.servers[0]])
        for text in ("nosuch/*", "servers/7*"):
            with self.assertRaisesRegex(UsageError, "no folder fits"):
                installs_named([self.path(*text.split("/"))])
        with open(listed, "a", encoding="utf-8") as file:
            file.write("servers/99\n")
        with self.assertRaisesRegex(UsageError, "there is no folder"):
            installs_named([listed])


if __name__ == "__main__":
    unittest.main()

"""Twenty servers to a new build at once, on a cluster: a scheduler and two worker processes on this machine.

    python examples/a_fleet_of_servers.py [FOLDER]

Any executor of `concurrent.futures` does; where `distributed` is not installed (the extra `cluster`), a pool
of processes works here. Each server has a migration and books of its own, and one that fails stops no other.
"""

from __future__ import annotations

import contextlib
import os
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import Executor
from importlib import import_module
from typing import Any

import kindred_ledger as kl
from kindred_ledger.demo.moving import build_moving
from kindred_ledger.demo.play_area import build_play_area
from kindred_ledger.migrate import FleetJob, installs_named, migrate_fleet, process_pool


@contextlib.contextmanager
def workers() -> Iterator[Executor]:
    """Give the executor of a cluster, or of processes."""
    try:
        kit: Any = import_module("distributed")
    except ImportError:
        print("In two processes.")
        with process_pool(2) as executor:
            yield executor
        return
    print("On a cluster of two workers.")
    with (
        kit.LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster,
        kit.Client(cluster) as client,
    ):
        yield client.get_executor()


def main(folder: str) -> None:
    """Build a play area in a folder, and move its servers to 2.0."""
    build_play_area(folder)
    build_moving(folder)
    servers = installs_named([os.path.join(folder, "moving", "servers", "*")])
    os.remove(os.path.join(servers[6], "version.txt"))  # one is broken
    jobs = [
        FleetJob(
            install=server,
            release=os.path.join(folder, "downloads", "mossferry-2.0.zip"),
            old=os.path.join(folder, "downloads", "mossferry-1.4.zip"),
            ledger=os.path.join(folder, "ledger"),
            cards=(os.path.join(folder, "mossferry.card.toml"),),
            consents=kl.MigrationConsents(allow=("dropped",)),
        )
        for server in servers
    ]
    with workers() as executor:
        run = migrate_fleet(jobs, executor)
    for result in run.results:
        name = os.path.basename(result.install)
        print(f"server {name}: {result.state}, {result.told} {dict(result.totals)}")
    print(f"All: {run.totals()}")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else scratch)

"""Carrying, switching and watching, beside what people use instead.

    python -m benchmarks.transferring [carry] [switch] [upload] [watch] [--rounds 3] [--dir DIR]

Needs rsync on the path; `watch` and `upload` need the extras `watch` and `demo`. Ours syncs what it
writes; the others are followed by a sync of their own.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable

from benchmarks.made_up import CARD, build_install, build_small
from benchmarks.measure import Ratio, compare, in_memory, report
from kindred_ledger.demo.rented_server import PASSWORD, USER, rented_server, write_remotes

_CARD = f"""{CARD}[locations.user]
portable = {{ marker = "portable.txt", folder = "userdata" }}
[categories.saves]
include = ["/user/"]
"""


def main() -> int:
    """Measure, print the table, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("works", nargs="*", default=("carry", "switch", "upload", "watch"))
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--scale", type=float, default=1.0)
    parser.add_argument("--dir", default="", help="where to work")
    parser.add_argument("--json", default="")
    options = parser.parse_args()
    holder = tempfile.TemporaryDirectory(dir=options.dir) if options.dir else in_memory()
    with holder as folder:
        bench = _Bench(folder, options.scale, options.rounds)
        rows = [row for work in options.works for row in getattr(bench, work)()]
        report("transferring", rows, bench.facts, options.json)
    return 0


_SEND_ALL = """
import ftplib, os, sys
from urllib.parse import urlsplit
url, user, password, here = sys.argv[1:]
at = urlsplit(url)
client = ftplib.FTP()
client.connect(at.hostname, at.port)
client.login(user, password)
for top, _, names in os.walk(here):
    folder = os.path.join("/plain", os.path.relpath(top, here)).rstrip("/.")
    try:
        client.mkd(folder)
    except ftplib.error_perm:
        pass
    for name in names:
        with open(os.path.join(top, name), "rb") as file:
            client.storbinary(f"STOR {folder}/{name}", file)
client.quit()
"""


class _Metered:
    """A server that counts what goes over its data connections, either way."""

    passed = 0

    @property
    def dtp_handler(self) -> type:
        from pyftpdlib.handlers import DTPHandler

        class Meter(DTPHandler):  # type: ignore[misc]
            def close(self) -> None:
                if not self._closed:
                    _Metered.passed += self.get_transmitted_bytes()
                super().close()

        return Meter


class _Bench:
    """Two builds of a title, and what is done with the data of one."""

    def __init__(self, folder: str, scale: float, rounds: int) -> None:
        self._folder = folder
        self._scale = scale
        self._rounds = rounds
        self.facts: dict[str, object] = {}
        self._write("marsh.card.toml", _CARD)

    def carry(self) -> list[Ratio]:
        """Carry 20,000 small files from one install to another, verified, to be undone."""
        count = int(20_000 * self._scale)
        for name in ("one", "two"):
            self._install(name, "1.0", portable=True)
        build_small(self._path("one/userdata"), count)
        target = self._path("two/userdata")

        def empty() -> None:
            shutil.rmtree(target, ignore_errors=True)
            os.mkdir(target)
            shutil.rmtree(self._path("ledger"), ignore_errors=True)

        command = self._kindred(
            "carry", self._path("one"), self._path("two"), "--category", "saves", "--yes"
        )
        copy = ["sh", "-c", f"cp -a {self._path('one/userdata')}/. {target}; sync -f {target}"]
        work = f"carry {count:,} small files"
        return compare(work, command, {"cp -a": copy}, rounds=self._rounds, prepare=empty)

    def switch(self) -> list[Ratio]:
        """Give another build its turn and the first one its own again, 1% of 500 MB having changed."""
        shared, other = self._path("shared"), self._path("other")
        build_install(shared, int(500_000_000 * self._scale), texts=int(1_000 * self._scale))
        shutil.copytree(shared, other)
        for name in ("old", "new"):
            self._install(name, "1.0" if name == "old" else "2.0")
        begin = self._switch("new", "--written-by", "1.0", "--begin", "along")
        subprocess.run(begin, check=True, stdout=subprocess.DEVNULL)
        files = sorted(
            os.path.join(top, name) for top, _, names in os.walk(shared) for name in names
        )
        there = " ".join(self._switch("old")), " ".join(self._switch("new"))
        ours = ["sh", "-c", f"{there[0]} && {there[1]}"]
        theirs = f"rsync -a {shared}/ {other}/; rsync -a {other}/ {shared}/; sync -f {shared}"
        return compare(
            "switch there and back, 1% changed", ours, {"rsync -a, twice": ["sh", "-c", theirs]},
            rounds=self._rounds, prepare=_one_percent(files),
        )  # fmt: skip

    def upload(self) -> list[Ratio]:
        """Send 1% of 3,000 files that changed over FTP, beside a plain client that sends them all."""
        here, served = self._path("here"), self._path("served")
        build_small(here, int(3_000 * self._scale))
        os.makedirs(os.path.join(served, "ours"))
        files = sorted(os.path.join(top, name) for top, _, names in os.walk(here) for name in names)
        for path in files:  # what was written just now may change again within a tick of its clock
            os.utime(path, (time.time() - 86_400,) * 2)
        edit = _one_percent(files)
        with rented_server(served, self._folder, tls=False, manner=_Metered) as (url, login):
            write_remotes(self._path("remotes.toml"), url, login)
            known = f"KINDRED_REMOTES={self._path('remotes.toml')}"
            ours = ["env", known, *self._kindred("carry", here, f"{url}/ours", "--yes")]
            everything = [sys.executable, "-c", _SEND_ALL, url, USER, PASSWORD, here]
            subprocess.run(ours, check=True, stdout=subprocess.DEVNULL)
            sizes = {}
            for name, command in (("ours", ours), ("everything", everything)):
                edit()
                _Metered.passed = 0
                subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
                sizes[name] = _Metered.passed
            self.facts["upload, bytes over the data connections"] = str(sizes)
            return compare(
                f"upload 1% of {len(files):,} files", ours, {"sending everything": everything},
                rounds=self._rounds, prepare=edit,
            )  # fmt: skip

    def watch(self) -> list[Ratio]:
        """Say how much of a core it takes to watch 10,000 files in which nothing happens."""
        self._install("idle", "1.0", portable=True)
        build_small(self._path("idle/userdata"), int(10_000 * self._scale))
        process = subprocess.Popen(
            self._kindred("sync", "watch", self._path("idle")), stdout=subprocess.DEVNULL
        )
        time.sleep(5)  # it begins by looking at everything
        before = _cpu_seconds(process.pid)
        time.sleep(20)
        used = _cpu_seconds(process.pid) - before
        process.terminate()
        process.wait()
        self.facts["watching 10,000 idle files, share of a core"] = f"{used / 20:.4f}"
        return []

    def _path(self, name: str) -> str:
        return os.path.join(self._folder, name)

    def _write(self, name: str, text: str) -> None:
        os.makedirs(os.path.dirname(self._path(name)), exist_ok=True)
        with open(self._path(name), "w", encoding="utf-8") as file:
            file.write(text)

    def _install(self, name: str, build: str, *, portable: bool = False) -> None:
        self._write(f"{name}/version.txt", f"build {build}\n")
        if portable:
            self._write(f"{name}/portable.txt", "")
            os.makedirs(self._path(f"{name}/userdata"), exist_ok=True)

    def _kindred(self, *args: str) -> list[str]:
        command = [sys.executable, "-m", "kindred_ledger.cli.main", *args]
        card = self._path("marsh.card.toml")
        return [*command, "--ledger", self._path("ledger"), "--card", card, "--json"]

    def _switch(self, name: str, *more: str) -> list[str]:
        folder = f"user={self._path('shared')}"
        return self._kindred("switch", self._path(name), "--folder", folder, "--yes", *more)


def _one_percent(files: list[str]) -> Callable[[], None]:
    """Return what changes every hundredth of some files, other ones each time."""
    turn = 0

    def change() -> None:
        nonlocal turn
        turn += 1
        for path in files[turn % 100 :: 100]:
            with open(path, "r+b") as file:
                file.write(b"%08d" % turn)

    return change


def _cpu_seconds(pid: int) -> float:
    """Return the processor time a process took so far (Linux: proc(5))."""
    with open(f"/proc/{pid}/stat", encoding="utf-8") as file:
        fields = file.read().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


if __name__ == "__main__":
    sys.exit(main())

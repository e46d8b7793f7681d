"""Updating, shelving, detecting and assembling, beside what people use instead.

    python -m benchmarks.updating [update] [shelf] [detect] [assemble] [--rounds 5] [--scale 1] [--json FILE]

The install is of 2 GB in some 3,500 files (`--scale` of it), in memory where there is room. Ours syncs
what it writes; the others are followed by a sync of their own. Needs rsync on the path.
"""

from __future__ import annotations

import argparse
import os
import random
import shlex
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Sequence

from benchmarks.made_up import CARD, build_install
from benchmarks.measure import Ratio, compare, in_memory, report

_HASH_LOOP = """
import os, sys
from blake3 import blake3
for top, _, names in os.walk(sys.argv[1]):
    for name in names:
        hasher = blake3()
        with open(os.path.join(top, name), "rb") as file:
            while block := file.read(4 << 20):
                hasher.update(block)
        hasher.digest()
"""
_DETECT = """
import sys
import kindred_ledger as kl
card = kl.Card.load(sys.argv[1])
print(kl.match_releases(card.open(sys.argv[2]), kl.Ledger.open(sys.argv[3]))[0])
"""
_SCAN = """
import sys
import kindred_ledger as kl
card = kl.Card.load(sys.argv[1])
kl.Ledger.open(sys.argv[3]).scan(card.open(sys.argv[2]).place)
"""


def main() -> int:
    """Measure, print the table, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    works = ("update", "shelf", "detect", "assemble")
    parser.add_argument("works", nargs="*", default=works)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--scale", type=float, default=1.0)
    parser.add_argument("--json", default="")
    parser.add_argument("--dir", default="", help="where to work")
    options = parser.parse_args()
    if shutil.which("rsync") is None:
        print("Not on the path: rsync. On Debian: apt-get install rsync")
        return 2
    holder = tempfile.TemporaryDirectory(dir=options.dir) if options.dir else in_memory()
    with holder as folder:
        bench = _Bench(folder, options.scale, options.rounds)
        found = [row for work in options.works for row in getattr(bench, work)()]
        report("updating", found, bench.facts, options.json)
    return 0


class _Bench:
    """Two releases of which 5% of the files differ, and what is done with them."""

    def __init__(self, folder: str, scale: float, rounds: int) -> None:
        self._folder = folder
        self._rounds = rounds
        self._old, self._new = self._path("old"), self._path("new")
        self._ledger, self._card = self._path("ledger"), self._path("marsh.card.toml")
        size = int(2_000_000_000 * scale)
        build_install(self._old, size, texts=int(3_000 * scale) or 1, banks=100)
        with open(self._card, "w", encoding="utf-8") as file:
            file.write(CARD)
        shutil.copytree(self._old, self._new)
        self._changed = random.Random(5).sample(
            sorted(_files(self._old)), len(_files(self._old)) // 20
        )
        for number, name in enumerate(self._changed):
            with open(os.path.join(self._new, name), "r+b") as file:
                file.write(b"%08d" % number)
        for path, version in ((self._old, "1.0"), (self._new, "2.0")):
            with open(os.path.join(path, "version.txt"), "w", encoding="utf-8") as file:
                file.write(f"build {version}\n")
        total = sum(os.path.getsize(os.path.join(self._old, name)) for name in _files(self._old))
        self.facts: dict[str, object] = {
            "files": len(_files(self._old)),
            "bytes": total,
            "differing": len(self._changed) + 1,
        }

    def update(self) -> list[Ratio]:
        """Bring an install to the new release over the top; what the old one was is on the shelf."""
        install = self._path("install")
        shutil.copytree(self._old, install)
        self._run("shelf", "add", self._old, "--digests", "--card", self._card)
        shelved = self._path("shelved")
        shutil.copytree(self._ledger, shelved)

        def again() -> None:
            for name in (*self._changed, "version.txt"):
                shutil.copy2(os.path.join(self._old, name), os.path.join(install, name))
            _replace(shelved, self._ledger)
            os.remove(os.path.join(self._ledger, "index.sqlite"))  # nothing is remembered

        rsync = {
            "rsync -a --checksum": _shell(
                f"rsync -a --checksum {self._new}/ {install}/; sync -f {install}"
            )
        }
        command = self._kindred("update", install, self._new, "--card", self._card, "--yes")
        rows = compare(
            "update, 5% differs, verified", command, rsync, rounds=self._rounds, prepare=again
        )
        # As people would who work with a ledger: release on the shelf, install kept before.
        again()
        _replace(shelved, self._ledger)
        self._run("shelf", "add", self._new, "--card", self._card)
        self._run("backup", install, "--card", self._card)
        kept = self._path("kept")
        _replace(self._ledger, kept)

        def kept_again() -> None:
            for name in (*self._changed, "version.txt"):
                shutil.copy2(os.path.join(self._old, name), os.path.join(install, name))
            _replace(kept, self._ledger)

        command[command.index(self._new)] = "release:marsh@2.0"
        return rows + compare(
            "the same, from the shelf", command, rsync, rounds=self._rounds, prepare=kept_again
        )

    def shelf(self) -> list[Ratio]:
        """Shelve a release by its digests."""
        command = self._kindred("shelf", "add", self._new, "--digests", "--card", self._card)
        loop = [sys.executable, "-c", _HASH_LOOP, self._new]
        return compare(
            "shelve, digests only", command, {"blake3 in a loop": loop},
            rounds=self._rounds, prepare=lambda: _replace("", self._ledger),
        )  # fmt: skip

    def detect(self) -> list[Ratio]:
        """Tell an install by its content among 20 shelved releases; then again."""
        _replace("", self._ledger)
        release = self._path("release")
        shutil.copytree(self._old, release)
        for number in range(20):
            for name in self._changed[: number + 1]:
                with open(os.path.join(release, name), "r+b") as changed:
                    changed.write(b"%08d" % number)
            with open(os.path.join(release, "version.txt"), "wb") as file:
                file.write(b"build 0.%d\n" % number)
            self._run("shelf", "add", release, "--digests", "--card", self._card)
        shelved = self._path("twenty")
        shutil.copytree(self._ledger, shelved)

        def forgotten() -> None:
            _replace(shelved, self._ledger)
            os.remove(os.path.join(self._ledger, "index.sqlite"))

        args = [self._card, self._old, self._ledger]
        ours = [sys.executable, "-c", _DETECT, *args]
        scan = {"one scan": [sys.executable, "-c", _SCAN, *args]}
        rows = compare(
            "tell it among 20 releases", ours, scan, rounds=self._rounds, prepare=forgotten
        )
        return rows + compare("the second time", ours, scan, rounds=self._rounds)

    def assemble(self) -> list[Ratio]:
        """Lay four parts into a new folder."""
        parts = [self._path(f"part-{number}") for number in range(4)]
        for number, name in enumerate(sorted(_files(self._old))):
            to = os.path.join(parts[number % 4], name)
            os.makedirs(os.path.dirname(to), exist_ok=True)
            shutil.copy2(os.path.join(self._old, name), to)
        target, ledger = self._path("made"), self._ledger

        def again() -> None:
            shutil.rmtree(target, ignore_errors=True)
            _replace("", ledger)

        copies = "; ".join(f"cp -a {shlex.quote(part)}/. {target}" for part in parts)
        copy = _shell(f"mkdir {target}; {copies}; sync -f {target}")
        command = self._kindred("shelf", "assemble", *parts, "--into", target, "--yes")
        return compare(
            "assemble four parts", command, {"cp -a of the parts": copy},
            rounds=self._rounds, prepare=again,
        )  # fmt: skip

    def _path(self, name: str) -> str:
        return os.path.join(self._folder, name)

    def _kindred(self, *args: str) -> list[str]:
        command = [sys.executable, "-m", "kindred_ledger.cli.main", *args]
        return [*command, "--ledger", self._ledger, "--json"]

    def _run(self, *args: str) -> None:
        subprocess.run(self._kindred(*args), check=True, stdout=subprocess.DEVNULL)


def _files(folder: str) -> list[str]:
    return [
        os.path.relpath(os.path.join(top, name), folder)
        for top, _, names in os.walk(folder)
        for name in names
    ]


def _replace(source: str, target: str) -> None:
    shutil.rmtree(target, ignore_errors=True)
    if source:
        shutil.copytree(source, target, copy_function=_linked_or_copied)


def _linked_or_copied(source: str, target: str) -> None:
    """Link packs, which nobody writes again; copy the rest."""
    (os.link if source.endswith(".zst") else shutil.copy2)(source, target)


def _shell(text: str) -> Sequence[str]:
    return ["sh", "-c", text]


if __name__ == "__main__":
    sys.exit(main())

"""Keeping and bringing back beside what people use instead: tar with zstd, zip, cp, rsync.

    python -m benchmarks.keeping [mixed] [small] [--rounds 3] [--dir DIR] [--json FILE]

`mixed` is an install of 700 MB and 3,400 files, `small` 100,000 files of about 2.5 KB. Needs tar,
zstd, zip and rsync on the path. Everything is read from and written to one disk; ours syncs what it
writes, the others are followed by a sync of their own so that all have the same to do.
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
from collections.abc import Callable

from benchmarks.made_up import build_install, build_small
from benchmarks.measure import Ratio, compare, peak_memory, report

_TOOLS = ("tar", "zstd", "zip", "cp", "rsync")


def main() -> int:
    """Measure, print the tables, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("sets", nargs="*", default=["mixed", "small"])
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--scale", type=float, default=1.0, help="of the sizes, to try it out")
    parser.add_argument("--dir", default=None, help="where to work")
    parser.add_argument(
        "--json", default="", help="write the figures to files of this name, SET- in front"
    )
    options = parser.parse_args()
    missing = [name for name in _TOOLS if shutil.which(name) is None]
    if missing:
        print(f"Not on the path: {', '.join(missing)}. On Debian: apt-get install zstd zip rsync")
        return 2
    build: dict[str, Callable[[str], None]] = {
        "mixed": lambda folder: build_install(
            folder, int(700_000_000 * options.scale), texts=3_000, banks=100
        ),
        "small": lambda folder: build_small(folder, int(100_000 * options.scale)),
    }
    for name in options.sets:
        with tempfile.TemporaryDirectory(dir=options.dir, prefix="keeping-") as folder:
            build[name](os.path.join(folder, "install"))
            found, facts = _Work(folder, options.rounds).measure()
            top, base = os.path.split(options.json)
            out = os.path.join(top, f"{name}-{base}") if base else ""
            report(f"keeping {name}", found, facts, out)
    return 0


class _Work:
    """One install, and everything that is done with it."""

    def __init__(self, folder: str, rounds: int) -> None:
        self.rounds = rounds
        names = {
            "install": "install",
            "kept": "kept",
            "back": "back",
            "ledger": "kept/ledger",
            "tar": "kept/a.tar.zst",
            "zip": "kept/a.zip",
            "copy": "kept/copy",
        }
        self.paths = {name: os.path.join(folder, path) for name, path in names.items()}
        self.paths["top"] = folder

    def shell(self, text: str) -> list[str]:
        quoted = {name: shlex.quote(path) for name, path in self.paths.items()}
        return ["sh", "-c", text.format(**quoted)]

    def kindred(self, *args: str) -> list[str]:
        ledger = ["--ledger", self.paths["ledger"], "--json"]
        return [sys.executable, "-m", "kindred_ledger.cli.main", *args, *ledger]

    def measure(self) -> tuple[list[Ratio], dict[str, object]]:
        install, kept, back = (self.paths[name] for name in ("install", "kept", "back"))
        backup = self.kindred("backup", install)
        restore = self.kindred("restore", "latest", "--into", back, "--yes")
        others = {
            "tar | zstd -3 -T0": self.shell(
                "tar -C {top} -cf - install | zstd -3 -T0 -q -f -o {tar}; sync -f {tar}"
            ),
            "zip -r": self.shell("cd {top} && zip -qr {zip} install; sync -f {zip}"),
            "cp -a": self.shell("cp -a {install} {copy}; sync -f {copy}"),
        }
        found = compare(
            "first backup", backup, others, prepare=lambda: _empty(kept), rounds=self.rounds
        )
        _empty(kept)
        memory = peak_memory(backup)
        for command in others.values():
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
        stored = _count(self.paths["ledger"])[1]
        found += compare(
            "nothing changed",
            backup,
            {"rsync -a": self.shell("rsync -a {install}/ {copy}/")},
            rounds=max(5, self.rounds),
        )
        found += compare(
            "restore everything, verified",
            restore,
            {
                "zstd -dc | tar -x": self.shell(
                    "zstd -dcq {tar} | tar -C {back} -xf -; sync -f {back}"
                ),
                "cp -a": self.shell("cp -a {copy} {back}; sync -f {back}"),
            },
            prepare=lambda: _empty(back),
            rounds=self.rounds,
        )
        _empty(back)  # of what the others put there beside
        subprocess.run(self.shell("rsync -a {copy}/ {back}/"), check=True)
        found += compare(
            "restore, 1% of the files differ",
            restore,
            {"rsync -a": self.shell("rsync -a {copy}/ {back}/; sync -f {back}")},
            prepare=lambda: _disturb(back),
            rounds=max(5, self.rounds),
        )
        packs = os.path.join(self.paths["ledger"], "packs")
        found += compare(
            "verify",
            self.kindred("ledger", "verify"),
            {"zstd -t": ["sh", "-c", f"zstd -tq {shlex.quote(packs)}/*.zst"]},
            rounds=max(5, self.rounds),
        )
        files, size = _count(install)
        facts: dict[str, object] = {
            "files": files,
            "bytes": size,
            "stored by us": stored,
            "by tar and zstd": os.path.getsize(self.paths["tar"]),
            "by zip": os.path.getsize(self.paths["zip"]),
            "our peak memory": memory,
        }
        return found, facts


def _empty(folder: str) -> None:
    shutil.rmtree(folder, ignore_errors=True)
    os.makedirs(folder)


def _disturb(folder: str) -> None:
    """Change one file in a hundred."""
    paths = sorted(os.path.join(top, name) for top, _, names in os.walk(folder) for name in names)
    for path in random.Random(1).sample(paths, max(1, len(paths) // 100)):
        with open(path, "r+b") as file:
            file.write(os.urandom(16))


def _count(folder: str) -> tuple[int, int]:
    paths = [os.path.join(top, name) for top, _, names in os.walk(folder) for name in names]
    return len(paths), sum(map(os.path.getsize, paths))


if __name__ == "__main__":
    sys.exit(main())

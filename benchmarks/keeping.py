"""Backup and restore of a made-up install beside tar with zstd, zip and cp.

    python -m benchmarks.keeping [--megabytes 500] [--rounds 3] [--dir DIR] [--json FILE]

Needs tar, zstd and zip on the path. Everything is read from and written to one disk; ours syncs
what it writes, the others are followed by a sync of their own so that all have the same to do.
"""

from __future__ import annotations

import argparse
import os
import shlex
import shutil
import subprocess
import sys
import tempfile

from benchmarks.made_up import build_install
from benchmarks.measure import Ratio, compare, report


def main() -> int:
    """Measure, print the table, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--megabytes", type=int, default=500)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument(
        "--dir", default=None, help="where to work (default: the system's temporary folder)"
    )
    parser.add_argument("--json", default="", help="write the figures to this file")
    options = parser.parse_args()
    missing = [name for name in ("tar", "zstd", "zip", "cp") if shutil.which(name) is None]
    if missing:
        print(f"Not on the path: {', '.join(missing)}. On Debian: apt-get install zstd zip")
        return 2
    with tempfile.TemporaryDirectory(dir=options.dir, prefix="keeping-") as folder:
        found, facts = _measure(folder, options.megabytes * 1_000_000, options.rounds)
        report("keeping", found, facts, options.json)
    return 0


def _measure(folder: str, size_bytes: int, rounds: int) -> tuple[list[Ratio], dict[str, object]]:
    install = os.path.join(folder, "install")
    build_install(install, size_bytes)
    kept, back = os.path.join(folder, "kept"), os.path.join(folder, "back")
    ledger, tar, archive = (os.path.join(kept, name) for name in ("ledger", "a.tar.zst", "a.zip"))
    copy = os.path.join(kept, "copy")

    def shell(text: str, **paths: str) -> list[str]:
        quoted = {name: shlex.quote(path) for name, path in paths.items()}
        return ["sh", "-c", text.format(**quoted)]

    def kindred(*args: str) -> list[str]:
        return [
            sys.executable,
            "-m",
            "kindred_ledger.cli.main",
            *args,
            "--ledger",
            ledger,
            "--json",
        ]

    keep_others = {
        "tar | zstd -3 -T0": shell(
            "tar -C {top} -cf - install | zstd -3 -T0 -q -f -o {tar}; sync -f {tar}",
            top=folder,
            tar=tar,
        ),
        "zip -r": shell(
            "cd {top} && zip -qr {zip} install; sync -f {zip}", top=folder, zip=archive
        ),
        "cp -a": shell("cp -a {install} {copy}; sync -f {copy}", install=install, copy=copy),
    }
    found = compare(
        "first backup",
        kindred("backup", install),
        keep_others,
        prepare=lambda: _empty(kept),
        rounds=rounds,
    )
    _empty(kept)
    for command in (kindred("backup", install), *keep_others.values()):
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    found += compare(
        "restore everything, verified",
        kindred("restore", "latest", "--into", back, "--yes"),
        {
            "zstd -dc | tar -x": shell(
                "zstd -dcq {tar} | tar -C {back} -xf -; sync -f {back}", tar=tar, back=back
            ),
            "unzip": shell("unzip -q {zip} -d {back}; sync -f {back}", zip=archive, back=back),
            "cp -a": shell("cp -a {copy} {back}; sync -f {back}", copy=copy, back=back),
        },
        prepare=lambda: _empty(back),
        rounds=rounds,
    )
    facts: dict[str, object] = {
        "files": _count(install)[0],
        "bytes": _count(install)[1],
        "stored by us": _count(ledger)[1],
        "by tar and zstd": os.path.getsize(tar),
        "by zip": os.path.getsize(archive),
    }
    return found, facts


def _empty(folder: str) -> None:
    shutil.rmtree(folder, ignore_errors=True)
    os.makedirs(folder)


def _count(folder: str) -> tuple[int, int]:
    paths = [os.path.join(top, name) for top, _, names in os.walk(folder) for name in names]
    return len(paths), sum(map(os.path.getsize, paths))


if __name__ == "__main__":
    sys.exit(main())

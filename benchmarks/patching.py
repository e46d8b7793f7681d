"""Deltas beside zstd's: made, and carried out, as whole processes.

python -m benchmarks.patching [--rounds 3] [--mb 64] [--only WORD] [--json FILE]

A content of noise, of which 1% was edited in runs of 64 bytes, with 20 insertions of 1,000 bytes and 5
moves of 1 MB; and one of which every 64 bytes come from elsewhere, for a million instructions.
"""

from __future__ import annotations

import argparse
import os
import shutil
import sys

from benchmarks.measure import Ratio, compare, in_memory, peak_memory, report

ENCODE = """
import mmap
from kindred_ledger.formats.vcdiff import encode
with open({base!r}, 'rb') as b, open({new!r}, 'rb') as n, open({delta!r}, 'wb') as out:
    encode(mmap.mmap(b.fileno(), 0, access=1), mmap.mmap(n.fileno(), 0, access=1), out)
"""
DECODE = """
import mmap
from kindred_ledger.formats.vcdiff import decode
with open({base!r}, 'rb') as b, open({delta!r}, 'rb') as patch, open({out!r}, 'w+b') as out:
    decode(patch, mmap.mmap(b.fileno(), 0, access=1), out)
"""


def main() -> int:
    """Measure, print the table, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--mb", type=int, default=64)
    parser.add_argument("--large", type=int, default=1024, help="MB of the large content")
    parser.add_argument("--only", default="", help="only works that contain WORD")
    parser.add_argument("--json", default="", help="write the figures to this file")
    options = parser.parse_args()
    found: list[Ratio] = []
    told: dict[str, object] = {}
    with in_memory() as folder:
        paths = {
            name: os.path.join(folder, name) for name in ("base", "new", "delta", "out", "zst")
        }
        for work, size, many in (
            ("edited", options.mb << 20, False),
            ("a million instructions", options.mb << 20, True),
            ("large", options.large << 20, False),
        ):
            if options.only in work:
                _content(paths, size, many)
                found += _both(paths, f"{work}, {size >> 20} MB", options.rounds, told)
    report("patching", found, {"rounds": options.rounds, **told}, options.json)
    return 0


def _content(paths: dict[str, str], size: int, many: bool) -> None:
    import numpy as np

    rng = np.random.default_rng(7)
    base = rng.integers(0, 256, size, dtype=np.uint8)
    with open(paths["base"], "wb") as file:
        file.write(base.tobytes())
    if many:  # pairs of 64 bytes that stand elsewhere and of one that nobody knows
        rows = base[: size // 64 * 64].reshape(-1, 64)
        new = np.empty((len(rows) // 2, 65), np.uint8)
        new[:, :64] = rows[rng.permutation(len(rows))[: len(new)]]
        new[:, 64] = rng.integers(0, 256, len(new), dtype=np.uint8)
        data = bytearray(new.tobytes())
    else:
        for at in rng.integers(0, size - 64, size // 6400):
            base[at : at + 64] = rng.integers(0, 256, 64, dtype=np.uint8)
        data = bytearray(base.tobytes())
        for at in rng.integers(0, size - 1000, 20).tolist():
            data[at:at] = rng.bytes(1000)
        for at, to in rng.integers(0, size - (2 << 20), (5, 2)).tolist():
            block = bytes(data[at : at + (1 << 20)])
            del data[at : at + (1 << 20)]
            data[to:to] = block
    with open(paths["new"], "wb") as file:
        file.write(data)


def _both(paths: dict[str, str], work: str, rounds: int, told: dict[str, object]) -> list[Ratio]:
    base, new, zst = paths["base"], paths["new"], paths["zst"]
    window = ["--long=31", f"--patch-from={base}"]
    encode = [sys.executable, "-c", ENCODE.format(**paths)]
    decode = [sys.executable, "-c", DECODE.format(**paths)]
    zstd = shutil.which("zstd") or "zstd"
    theirs = [zstd, "-q", "-f", "-3", *window, new, "-o", zst]
    found = compare(f"{work}: encode", encode, {"zstd -3 --patch-from": theirs}, rounds=rounds)
    back = [zstd, "-q", "-f", "-d", *window, zst, "-o", paths["out"] + "2"]
    found += compare(f"{work}: decode", decode, {"zstd -d --patch-from": back}, rounds=rounds)
    with open(paths["out"], "rb") as one, open(new, "rb") as other:
        while True:
            block = one.read(1 << 24)
            assert block == other.read(1 << 24)
            if not block:
                break
    told[f"{work}: size"] = round(os.path.getsize(paths["delta"]) / os.path.getsize(zst), 2)
    told[f"{work}: MB"] = [peak_memory(each) >> 20 for each in (encode, decode)]
    return found


if __name__ == "__main__":
    sys.exit(main())

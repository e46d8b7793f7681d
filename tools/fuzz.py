#!/usr/bin/env python3
"""Feed damaged files to every codec and layout for as long as you like.

    python3 tools/fuzz.py [--minutes 10] [--seed 1] [--codec NAME]

Takes the demo's files and what configuration this machine has, cuts them, flips bits, repeats and
swaps pieces, and demands a document that encodes to the very bytes, or an error of ours with its
place, within a second and a gigabyte. Ends at the first that is neither, and keeps that file.
"""

from __future__ import annotations

import argparse
import io
import os
import random
import resource
import sys
import time
from collections.abc import Callable

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
sys.path[:0] = [ROOT, os.path.join(ROOT, "src")]
SLOWEST_SECONDS = 5.0
MOST_MEMORY = 2 << 30


def main() -> int:
    """Return 0 if nothing was found, 1 if something was."""
    from kindred_ledger.errors import FormatError

    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=10)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--codec", default="", help="only this one")
    options = parser.parse_args()
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    rng = random.Random(options.seed)
    seeds = [each for each in samples() if options.codec in ("", each[0])]
    print(f"{len(seeds)} files to start from")
    end = time.monotonic() + options.minutes * 60
    tried = read = 0
    while time.monotonic() < end:
        name, decode, data = rng.choice(seeds)
        damaged = _damage(data, rng)
        start = time.monotonic()
        try:
            document = decode(damaged)
            sound = document.encode() == damaged  # type: ignore[attr-defined]
            read += 1
        except FormatError as error:
            sound = bool(error.where)
        except Exception as error:  # noqa: BLE001  (this is what is looked for)
            print(f"{name}: {type(error).__name__}: {error}")
            sound = False
        tried += 1
        seconds = time.monotonic() - start
        if not sound or seconds > SLOWEST_SECONDS:
            path = f"fuzzed-{name}-{options.seed}-{tried}.bin"
            with open(path, "wb") as file:
                file.write(damaged)
            print(f"{name}: not sound, or slow ({seconds:.1f} s); kept as {path}")
            return 1
    print(f"{tried:,} damaged files, {read:,} of them read, all others refused with their place")
    return 0


def samples() -> list[tuple[str, Callable[[bytes], object], bytes]]:
    """Return files to damage: codec or layout, how it is read, content."""
    from tests.formats.corpus import found

    from kindred_ledger.demo.server_files import LAYOUTS, server_files
    from kindred_ledger.formats import CODECS, Layout, LayoutDocument, decode

    out: list[tuple[str, Callable[[bytes], object], bytes]] = []

    def codec(name: str) -> Callable[[bytes], object]:
        return lambda data: decode(data, name)

    def described(layout: Layout) -> Callable[[bytes], object]:
        return lambda data: LayoutDocument(data, layout)

    files = server_files()
    for layout_name, ending in zip(LAYOUTS, (".mfsv", ".bog", ".bin"), strict=True):
        layout = Layout.load(os.path.join(ROOT, "src", "kindred_ledger", "demo", layout_name))
        out += [(layout.name, described(layout), d) for p, d in files.items() if p.endswith(ending)]
    out.append(("cbor", codec("cbor"), files["handheld/evening.pocket"]))
    for name, path in found(20):
        with open(path, "rb") as file:
            data = file.read(20_000)
        out.append((name, codec(name), data))
        out.append(("text", codec("text"), data))
    out += [("vcdiff", carried_out, delta) for delta in deltas()]
    assert {name for name, _, _ in out} & set(CODECS)
    return out


BASE = random.Random(3).randbytes(9_000)


class Carried:
    """A delta that was carried out; there is nothing to encode."""

    def __init__(self, data: bytes) -> None:
        self._data = data

    def encode(self) -> bytes:
        return self._data


def carried_out(data: bytes) -> Carried:
    """Carry out a delta."""
    from kindred_ledger.formats.vcdiff import decode

    decode(io.BytesIO(data), BASE, io.BytesIO())
    return Carried(data)


def deltas() -> list[bytes]:
    """Return deltas of the base: of one window and of several, and with a code table of its own."""
    from tests.formats import rfc3284

    from kindred_ledger.formats.vcdiff import encode

    target = BASE[:3_000] + bytes(500) + BASE[5_000:] + b"reed" * 90 + BASE[:999]
    out = []
    for window in (1 << 20, 1_000):
        file = io.BytesIO()
        encode(BASE, target, file, window=window)
        out.append(file.getvalue())
    table = rfc3284.default_table()
    writer = rfc3284.Writer(random.Random(1), table[::-1])
    writer.window(
        1, 300, 0, [("copy", 5, 9), ("add", b"reeds"), ("copy", 301, 40), ("run", b"z", 7)]
    )
    return [*out, bytes(writer.out)]


def _damage(data: bytes, rng: random.Random) -> bytes:
    out = bytearray(data)
    for _ in range(rng.randrange(1, 4)):
        if not out:
            break
        at = rng.randrange(len(out))
        kind = rng.randrange(5)
        if kind == 0:
            out[at] ^= 1 << rng.randrange(8)
        elif kind == 1:
            del out[at:]
        elif kind == 2:
            piece = out[at : at + rng.randrange(1, 200)]
            out[at:at] = piece * rng.randrange(1, 50)
        elif kind == 3:
            out[at : at + 4] = rng.choice((b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff"))
        else:
            other = rng.randrange(len(out))
            size = rng.randrange(1, 40)
            out[at : at + size] = out[other : other + size]
    return bytes(out)


if __name__ == "__main__":
    sys.exit(main())

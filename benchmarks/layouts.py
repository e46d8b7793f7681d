"""Reading binary files through layouts beside plain loops of `struct`, and a compressed save edited.

python -m benchmarks.layouts [--rounds 5] [--only WORD] [--json FILE]

Reading is measured within one process, in turn, without the start of Python: what stands in the files is
there to be looked at afterwards, and what the loops return are all values. For pools, all texts are made.
"""

from __future__ import annotations

import argparse
import random
import statistics
import struct
import zlib
from collections.abc import Callable
from functools import partial
from typing import Any

from benchmarks.measure import Ratio, report, timed
from kindred_ledger.formats import Layout, LayoutDocument

_Read = Callable[[bytes], Any]

PARTS = """
layout parts
little endian
index  table u32 { at u32, size u32, kind u8 }
parts  each index at at size size { id u32, name text u8, depth f32 }
"""
POOL = """
layout pool
little endian
pool   bytes u32
names  table u32 { id u32, name pooled u32 of pool }
"""
TREE = """
layout tree
little endian
type node { tag u8, name text u8, body choice tag { 1 i32, 2 text u16, 3 table u16 node } }
root   node
"""
ROWS = """
layout rows
little endian
rows   table u32 {
    id    u32
    kind  u8
    name  text u16
    body  choice kind { 1 i32, 2 text zero, 3 table u8 u16 }
    note  text varint
}
"""
SAVE = """
layout save
little endian
block  block u32 zlib { cells table u32 { id u32, depth f32, kind u16, rest bytes 6 } }
"""


def parts_file(count: int) -> bytes:
    """Return a directory, and its parts."""
    index, parts, at = [], [], 4 + 9 * count
    for number in range(count):
        name = b"a quay"[: number % 7]
        part = struct.pack("<IB", number, len(name)) + name + struct.pack("<f", 1.5)
        index.append(struct.pack("<IIB", at, len(part), 1))
        parts.append(part)
        at += len(part)
    return struct.pack("<I", count) + b"".join(index) + b"".join(parts)


def parts_loop(data: bytes) -> list[Any]:
    """Read them one by one."""
    out = []
    (count,) = struct.unpack_from("<I", data)
    for number in range(count):
        at, _, _ = struct.unpack_from("<IIB", data, 4 + 9 * number)
        id, length = struct.unpack_from("<IB", data, at)
        name = data[at + 5 : at + 5 + length].decode()
        out.append((id, name, struct.unpack_from("<f", data, at + 5 + length)[0]))
    return out


def pool_file(count: int) -> bytes:
    """Return a pool of texts, and a table that names each."""
    pool, offsets = bytearray(), []
    for number in range(count):
        offsets.append(len(pool))
        pool += b"quay %d\0" % number
    random.Random(1).shuffle(offsets)
    rows = b"".join(struct.pack("<II", n, offset) for n, offset in enumerate(offsets))
    return struct.pack("<I", len(pool)) + pool + struct.pack("<I", count) + rows


def pool_loop(data: bytes) -> list[Any]:
    """Read them one by one."""
    (length,) = struct.unpack_from("<I", data)
    (count,) = struct.unpack_from("<I", data, 4 + length)
    out, at = [], 8 + length
    for _ in range(count):
        id, offset = struct.unpack_from("<II", data, at)
        at += 8
        out.append((id, data[4 + offset : data.index(0, 4 + offset)].decode()))
    return out


def tree_file(count: int) -> bytes:
    """Return a tree of about so many nodes, some of many children."""
    rng, out = random.Random(1), bytearray()

    def node(depth: int, most: int) -> None:
        name = b"abcdefgh"[: rng.randrange(8)]
        head = bytes((len(name),)) + name
        if depth > 8 or most <= 1:
            whole = rng.random() < 0.5
            body = struct.pack("<i", len(out)) if whole else struct.pack("<H", 5) + b"hello"
            out.extend(bytes((1 if whole else 2,)) + head + body)
            return
        children = min(most, rng.randrange(2, 40) if depth else 1000)
        out.extend(b"\3" + head + struct.pack("<H", children))
        for _ in range(children):
            node(depth + 1, most // children if rng.random() < 0.9 else 1)

    node(0, count * 13 // 10)
    return bytes(out)


def tree_loop(data: bytes) -> Any:
    """Read it node by node."""

    def read(at: int) -> tuple[Any, int]:
        tag, length = data[at], data[at + 1]
        name = data[at + 2 : at + 2 + length].decode()
        at += 2 + length
        if tag == 1:
            return {"tag": tag, "name": name, "body": struct.unpack_from("<i", data, at)[0]}, at + 4
        (count,) = struct.unpack_from("<H", data, at)
        at += 2
        if tag == 2:
            return {"tag": tag, "name": name, "body": data[at : at + count].decode()}, at + count
        rows = []
        for _ in range(count):
            row, at = read(at)
            rows.append(row)
        return {"tag": tag, "name": name, "body": rows}, at

    return read(0)[0]


def rows_file(count: int) -> bytes:
    """Return a table whose rows have two texts and a part that differs."""
    out = [struct.pack("<I", count)]
    for number in range(count):
        kind = number % 3 + 1
        name = b"Mossferry"[: number % 10]
        body = (struct.pack("<i", number), b"haar\0", b"\2\1\0\2\0")[kind - 1]
        out.append(struct.pack("<IBH", number, kind, len(name)) + name + body + b"\3abc")
    return b"".join(out)


def rows_loop(data: bytes) -> list[Any]:
    """Read them one by one."""
    (count,) = struct.unpack_from("<I", data)
    out, at = [], 4
    for _ in range(count):
        id, kind, length = struct.unpack_from("<IBH", data, at)
        at += 7
        name, at = data[at : at + length].decode(), at + length
        body: Any
        if kind == 1:
            (body,), at = struct.unpack_from("<i", data, at), at + 4
        elif kind == 2:
            end = data.index(0, at)
            body, at = data[at:end].decode(), end + 1
        else:
            many = data[at]
            body, at = struct.unpack_from(f"<{many}H", data, at + 1), at + 1 + 2 * many
        length = data[at]
        out.append((id, kind, name, body, data[at + 1 : at + 1 + length].decode()))
        at += 1 + length
    return out


def save_file(size_mb: int) -> bytes:
    """Return a compressed save of so many MB."""
    rng, count = random.Random(1), size_mb * 1_000_000 // 16
    row = struct.Struct("<IfHxxxxxx")
    cells = b"".join(row.pack(n, rng.randrange(900) / 8, rng.randrange(9)) for n in range(count))
    packed = zlib.compress(struct.pack("<I", count) + cells, 6)
    return struct.pack("<I", len(packed)) + packed


def edited(data: bytes) -> bytes:
    """Read a save, set one value, and write it."""
    document = LayoutDocument(data, Layout.parse(SAVE))
    document.set(("block", "cells", 7, "kind"), 3)
    return document.encode()


def both_ways(data: bytes) -> bytes:
    """Inflate a save and deflate it again."""
    packed = zlib.compress(zlib.decompress(data[4:]), 6)
    return struct.pack("<I", len(packed)) + packed


def texts(data: bytes) -> Any:
    """Read a pool, and all texts."""
    columns = LayoutDocument(data, Layout.parse(POOL)).open_columns(("names",))
    assert columns is not None
    return columns.read("name")


def _measured(
    work: str, against: str, data: bytes, ours: _Read, theirs: _Read, *, rounds: int
) -> Ratio:
    """Run both in turn, a first time uncounted."""
    pairs = []
    for _ in range(rounds + 1):
        pairs.append(tuple(timed(partial(read, data))[0] for read in (ours, theirs)))
    ratios = [one / other for one, other in pairs[1:]]
    our_time, their_time = (statistics.median(side) for side in zip(*pairs[1:], strict=True))
    middle = statistics.median(ratios)
    return Ratio(work, against, middle, min(ratios), max(ratios), our_time, their_time, rounds)


def main() -> None:
    """Run what was asked for."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--only", default="")
    parser.add_argument("--json", default="")
    args = parser.parse_args()

    def reading(text: str) -> Callable[[bytes], Any]:
        return lambda data: LayoutDocument(data, Layout.parse(text))

    works: tuple[tuple[str, str, Callable[[], bytes], Any, Any], ...] = (
        ("100,000 parts", "struct loop", lambda: parts_file(100_000), reading(PARTS), parts_loop),
        ("1,000,000 texts of a pool", "struct loop", lambda: pool_file(1_000_000), texts, pool_loop),
        ("the pool, no text made", "struct loop", lambda: pool_file(1_000_000), reading(POOL), pool_loop),
        ("a tree of 1,000,000 nodes", "struct loop", lambda: tree_file(1_000_000), reading(TREE), tree_loop),
        ("a tree of 20,000 nodes", "struct loop", lambda: tree_file(20_000), reading(TREE), tree_loop),
        ("200,000 rows of all shapes", "struct loop", lambda: rows_file(200_000), reading(ROWS), rows_loop),
        ("50 MB compressed, one edit", "zlib, both ways", lambda: save_file(50), edited, both_ways),
    )  # fmt: skip
    found = [
        _measured(work, against, made(), ours, theirs, rounds=args.rounds)
        for work, against, made, ours, theirs in works
        if args.only in work
    ]
    report("layouts", found, {"rounds": args.rounds}, args.json)


if __name__ == "__main__":
    main()

"""Tidebook: a pool of texts that a table and a tree point into; parts in steps from a field."""

from __future__ import annotations

import random
import struct
import zlib
from typing import Any

LAYOUT = """
layout tidebook
big endian
text latin-1
versions 1 to 3 from version
type node {
    tag    u8
    name   pooled u16 of names
    body   choice tag {
        1 i24
        2 text u8
        3 table u8 node
    }
}
magic      bytes 4 = "TIDE"
version    u8
crc        crc32 of start to version and names to size
names      bytes u16
gauges     table u8 {
    id     u24
    name   pooled u16 of names or 65535
    level  f16
    spare  u8                                  since 2 default 3
}
root       node
marks      flags u16 { lit = 0, dry = 9 }      until 2 default 1
first      u8
second     u8
size       u8
pad 3
depths     at first size size times 4 from names or 0 align 4 table to end i16
tail       at second times 2 from here or 255 align 2 { name text zero, last u8 }
"""


class _Pool:
    def __init__(self) -> None:
        self.data = b""

    def offset(self, text: bytes) -> int:
        at = self.data.find(text + b"\0")
        if at < 0:
            at = len(self.data)
            self.data += text + b"\0"
        return at


def made(rng: random.Random, version: int) -> bytes:
    """Write a random file: two parts in any order, or none, behind it."""
    pool = _Pool()
    words = (b"", b"ebb", b"neap tide", b"H\xf6he", b"tide")
    gauges = b""
    count = rng.randrange(4)
    for number in range(count):
        name = pool.offset(rng.choice(words)) if rng.random() < 0.8 else 65535
        gauges += number.to_bytes(3, "big") + struct.pack(">He", name, rng.randrange(-90, 90) / 8)
        gauges += bytes((rng.randrange(9),)) if version >= 2 else b""
    root = _node(rng, pool, words, 0)
    pool.offset(b"rest")
    head = b"TIDE" + bytes((version,))
    before = len(pool.data).to_bytes(2, "big") + pool.data + bytes((count,)) + gauges + root
    before += struct.pack(">H", rng.choice((0, 1, 512, 521))) if version <= 2 else b""
    names, here = 9, 9 + len(before) + 6
    depths = b"".join(struct.pack(">h", rng.randrange(-9, 9)) for _ in range(rng.randrange(4)))
    tail = rng.choice((b"", b"reed")) + b"\0\7"
    parts = [("first", depths, names, 4)] if rng.random() < 0.7 and here < 900 else []
    parts += [("second", tail, here, 2)] if rng.random() < 0.7 else []
    rng.shuffle(parts)
    told, behind = {"first": 0, "second": 255}, b""
    for name, data, base, step in parts:
        while (here + len(behind) - base) % step:
            behind += rng.choice((b"\0", b"f"))
        told[name] = (here + len(behind) - base) // step
        behind += data
    size = len(depths) if told["first"] else 0
    before += bytes((told["first"], told["second"], size)) + b"\0\0\0"
    crc = zlib.crc32(head + before[:-3])
    return head + struct.pack(">I", crc) + before + behind


def _node(rng: random.Random, pool: _Pool, words: tuple[bytes, ...], depth: int) -> bytes:
    tag = rng.choice((1, 2, 3, 3)) if depth < 4 else 1
    out = bytes((tag,)) + pool.offset(rng.choice(words)).to_bytes(2, "big")
    if tag == 1:
        return out + rng.randrange(-(2**23), 2**23).to_bytes(3, "big", signed=True)
    if tag == 2:
        text = rng.choice(words)
        return out + bytes((len(text),)) + text
    count = rng.randrange(4)
    return out + bytes((count,)) + b"".join(
        _node(rng, pool, words, depth + 1) for _ in range(count)
    )  # fmt: skip


def read(data: bytes) -> dict[str, Any]:
    """Read a file by hand."""
    version = data[4]
    out: dict[str, Any] = {"magic": data[:4], "version": version}
    (out["crc"],) = struct.unpack_from(">I", data, 5)
    (length,) = struct.unpack_from(">H", data, 9)
    pool = out["names"] = data[11 : 11 + length]
    at = 12 + length
    out["gauges"] = []
    for _ in range(data[at - 1]):
        name, level = struct.unpack_from(">He", data, at + 3)
        row = {"id": int.from_bytes(data[at : at + 3], "big"), "level": level}
        row["name"] = _text(pool, name) if name != 65535 else None
        at += 7
        if version >= 2:
            row["spare"] = data[at]
            at += 1
        out["gauges"].append(row)
    out["root"], at = _read_node(data, pool, at)
    if version <= 2:
        (marks,) = struct.unpack_from(">H", data, at)
        out["marks"] = {"lit": bool(marks & 1), "dry": bool(marks >> 9 & 1)}
        rest = marks & ~513
        out["marks"] |= {"other": rest} if rest else {}
        at += 2
    first, second, size = data[at : at + 3]
    out |= {"first": first, "second": second, "size": size, "depths": None, "tail": None}
    here = at + 6
    assert out["crc"] == zlib.crc32(data[:5] + data[9 : here - 3])
    if first:
        out["depths"] = [n for (n,) in struct.iter_unpack(">h", data[9 + 4 * first :][:size])]
    if first and not size:
        out["depths"] = []
    if second != 255:
        begin = here + 2 * second
        end = data.index(0, begin)
        out["tail"] = {"name": data[begin:end].decode("latin-1"), "last": data[end + 1]}
    return out


def _text(pool: bytes, offset: int) -> str:
    return pool[offset : pool.index(0, offset)].decode("latin-1")


def _read_node(data: bytes, pool: bytes, at: int) -> tuple[Any, int]:
    tag = data[at]
    node: dict[str, Any] = {"tag": tag}
    node["name"] = _text(pool, int.from_bytes(data[at + 1 : at + 3], "big"))
    at += 3
    if tag == 1:
        node["body"] = int.from_bytes(data[at : at + 3], "big", signed=True)
        return node, at + 3
    count = data[at]
    at += 1
    if tag == 2:
        node["body"] = data[at : at + count].decode("latin-1")
        return node, at + count
    node["body"] = []
    for _ in range(count):
        inner, at = _read_node(data, pool, at)
        node["body"].append(inner)
    return node, at

"""Ledgerwood: a tree of keys and values with type tags, in a block that is XOR-ed and compressed."""

from __future__ import annotations

import hashlib
import random
import struct
import zlib
from typing import Any

LAYOUT = """
layout ledgerwood
little endian
versions 1 to 3 from version
type value {
    kind   u8
    body   choice kind {
        1 i32
        2 text u16
        3 table u16 value
        4 table u8 { key text u8, value value }
    }
}
magic      bytes 2 = "LW"
version    u8
depth      u8                                        since 2 default 1
raw        u24 = size of tree unpacked
stored     u32 = size of tree
tree       block u32 xor "bog" zlib value
note       text u8                                   until 2 default "reed"
half       f16                                       since 3 default 0.5
digest     md5 of start to raw and tree to here
"""
KEY = b"bog"


def made(rng: random.Random, version: int) -> bytes:
    """Write a random tree."""
    raw = _value(rng, 0)
    packed = zlib.compress(raw, rng.randrange(1, 10))
    stored = bytes(byte ^ KEY[at % 3] for at, byte in enumerate(packed))
    depth = bytes((rng.randrange(9),)) if version >= 2 else b""
    first = b"LW" + bytes((version,)) + depth + len(raw).to_bytes(3, "little")
    tree = struct.pack("<I", len(stored)) + stored
    last = b"\4reed" if version <= 2 else struct.pack("<e", rng.randrange(99) / 8)
    digest = hashlib.md5(first + tree + last, usedforsecurity=False).digest()
    return first + struct.pack("<I", len(tree)) + tree + last + digest


def _value(rng: random.Random, depth: int) -> bytes:
    kind = rng.choice((1, 2) if depth > 3 else (1, 2, 3, 4, 4))
    out = bytes((kind,))
    if kind == 1:
        return out + struct.pack("<i", rng.randrange(-(2**31), 2**31))
    if kind == 2:
        text = rng.choice(("", "Höf", "reed " * 9)).encode()
        return out + struct.pack("<H", len(text)) + text
    count = rng.randrange(4)
    if kind == 3:
        return (
            out + struct.pack("<H", count) + b"".join(_value(rng, depth + 1) for _ in range(count))
        )
    rows = (b"\1" + bytes((65 + n,)) + _value(rng, depth + 1) for n in range(count))
    return out + bytes((count,)) + b"".join(rows)


def read(data: bytes) -> dict[str, Any]:
    """Read a file by hand."""
    version = data[2]
    out: dict[str, Any] = {"magic": data[:2], "version": version}
    at = 3
    if version >= 2:
        out["depth"] = data[3]
        at = 4
    out["raw"] = int.from_bytes(data[at : at + 3], "little")
    out["stored"], length = struct.unpack_from("<II", data, at + 3)
    assert out["stored"] == length + 4
    begin, end = at + 7, at + 11 + length
    packed = bytes(byte ^ KEY[n % 3] for n, byte in enumerate(data[begin + 4 : end]))
    raw = zlib.decompress(packed)
    assert len(raw) == out["raw"]
    out["tree"], stop = _read(raw, 0)
    assert stop == len(raw)
    last = data[end:-16]
    if version <= 2:
        out["note"] = last[1:].decode()
    else:
        out["half"] = struct.unpack("<e", last)[0]
    digest = hashlib.md5(data[: at + 3] + data[begin:-16], usedforsecurity=False).digest()
    assert digest == data[-16:]
    return {**out, "digest": digest.hex()}


def _read(raw: bytes, at: int) -> tuple[dict[str, Any], int]:
    kind = raw[at]
    at += 1
    body: Any
    if kind == 1:
        (body,) = struct.unpack_from("<i", raw, at)
        return {"kind": 1, "body": body}, at + 4
    if kind == 2:
        (size,) = struct.unpack_from("<H", raw, at)
        return {"kind": 2, "body": raw[at + 2 : at + 2 + size].decode()}, at + 2 + size
    body = []
    if kind == 3:
        (count,) = struct.unpack_from("<H", raw, at)
        at += 2
        for _ in range(count):
            value, at = _read(raw, at)
            body.append(value)
        return {"kind": 3, "body": body}, at
    count = raw[at]
    at += 1
    for _ in range(count):
        size = raw[at]
        key = raw[at + 1 : at + 1 + size].decode()
        value, at = _read(raw, at + 1 + size)
        body.append({"key": key, "value": value})
    return {"kind": 4, "body": body}, at

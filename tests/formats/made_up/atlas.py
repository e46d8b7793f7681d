"""Atlas: a big-endian save with a directory of tagged, compressed and shared parts, and a CRC at the end."""

from __future__ import annotations

import random
import struct
import zlib
from typing import Any

LAYOUT = """
layout atlas
big endian
versions 1 to 3 from head.version

head {
    magic    bytes 4 = "ATLS"
    version  u16
    size     u32 = size of parts        # of all that is behind the directory
    rows     u16
    twice    u16 = (length(directory) * 2)
    pay      u32 = (sum(directory.weight))   since 2
}
directory table head.rows {
    tag      bytes 2
    weight   u16
    at       u16
    size     u32
    raw      u32
}
parts each directory at at size size unpacked raw times 4 from here or 65535 block to end zlib choice tag {
    "CR" table u16 { id u16, name text u8, mood u8 since 3 default 7 }
    "TX" text zero
    else bytes to end
}
check        crc16-ccitt-false of start to here
"""


def crc16(data: bytes) -> int:
    """CRC-16/IBM-3740, bit by bit."""
    crc = 0xFFFF
    for byte in data:
        crc ^= byte << 8
        for _ in range(8):
            crc = (crc << 1 ^ 0x1021 if crc & 0x8000 else crc << 1) & 0xFFFF
    return crc


def made(rng: random.Random, version: int) -> bytes:
    """Write a random file: free space between the parts, some rows without one, some that share one."""
    body = bytearray()
    rows: list[tuple[bytes, int, int, int, int]] = []
    for number in range(rng.randrange(5)):
        tag = rng.choice((b"CR", b"TX", b"??"))
        if rng.random() < 0.2:
            rows.append((tag, number, 0xFFFF, 0, 0))
            continue
        same = [row for row in rows if row[0] == tag and row[3]]
        if same and rng.random() < 0.4:
            rows.append((tag, number + 5, *same[0][2:]))
            continue
        raw = _part(rng, tag, version)
        packed = zlib.compress(raw, rng.randrange(1, 10))
        body += rng.randbytes(-len(body) % 4 + 4 * rng.randrange(3))
        rows.append((tag, number, len(body) // 4, len(packed), len(raw)))
        body += packed
    body += rng.randbytes(rng.randrange(4))  # free space before the checksum
    pay = struct.pack(">I", sum(row[1] for row in rows)) if version >= 2 else b""
    out = b"ATLS" + struct.pack(">HIHH", version, len(body), len(rows), 2 * len(rows)) + pay
    out += b"".join(struct.pack(">2sHHII", *row) for row in rows) + body
    return out + struct.pack(">H", crc16(out))


def _part(rng: random.Random, tag: bytes, version: int) -> bytes:
    if tag == b"TX":
        return rng.choice((b"", b"Reed Bank", b"Eelgate " * 30)) + b"\0"
    if tag != b"CR":
        return rng.randbytes(rng.randrange(40)) + b"?"
    out = struct.pack(">H", count := rng.randrange(4))
    for number in range(count):
        name = rng.choice((b"", b"Tobias", b"Esk"))
        out += struct.pack(">HB", number, len(name)) + name
        out += bytes((rng.randrange(256),)) if version >= 3 else b""
    return out


def read(data: bytes) -> dict[str, Any]:
    """Read a file by hand."""
    assert struct.unpack(">H", data[-2:])[0] == crc16(data[:-2])
    magic, version, size, count, twice = struct.unpack_from(">4sHIHH", data)
    at = 14
    head: dict[str, Any] = {
        "magic": magic,
        "version": version,
        "size": size,
        "rows": count,
        "twice": twice,
    }
    assert twice == 2 * count
    if version >= 2:
        (head["pay"],) = struct.unpack_from(">I", data, at)
        at += 4
    rows = [struct.unpack_from(">2sHHII", data, at + 14 * n) for n in range(count)]
    start = at + 14 * count
    assert len(data) - 2 - start == size
    parts = [_read_part(tag, zlib.decompress(data[start + 4 * where :][:length]), raw, version)
             if where != 0xFFFF else None for tag, _, where, length, raw in rows]  # fmt: skip
    if version >= 2:
        assert head["pay"] == sum(row[1] for row in rows)
    names = ("tag", "weight", "at", "size", "raw")
    table = [dict(zip(names, row, strict=True)) for row in rows]
    return {"head": head, "directory": table, "parts": parts, "check": crc16(data[:-2])}


def _read_part(tag: bytes, raw: bytes, size: int, version: int) -> Any:
    assert len(raw) == size
    if tag == b"TX":
        return raw[:-1].decode()
    if tag != b"CR":
        return raw
    crew = []
    (count,) = struct.unpack_from(">H", raw)
    at = 2
    for _ in range(count):
        number, length = struct.unpack_from(">HB", raw, at)
        hand = {"id": number, "name": raw[at + 3 : at + 3 + length].decode()}
        at += 3 + length
        if version >= 3:
            hand["mood"] = raw[at]
            at += 1
        crew.append(hand)
    assert at == len(raw)
    return crew

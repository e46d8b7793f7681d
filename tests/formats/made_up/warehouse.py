"""Warehouse: a header tells where an index and a note lie, the index where the wares lie; in any order."""

from __future__ import annotations

import random
import struct
from typing import Any

LAYOUT = """
layout warehouse
little endian
versions 1 to 3 from head.version
head {
    magic     bytes 4 = "WARE"
    version   u16
    rows      u16
    index     u32
    note      u32
    long      u16
    deep      u32                           since 2 default 0
}
index   at head.index times 4 from here align 4 table head.rows {
    kind      u8
    at        u24
    size      u16
    mark      u8                            since 3 default 9
}
note    at head.note size head.long text to end
deep    at head.deep { a u16, b text u8 }   since 2
wares   each index at at size size or 1 align 2 choice kind {
    0 table to end i16
    1 { name text u8, count varint }
    else bytes to end
}
check   crc32c of start to here
"""


def crc32c(data: bytes) -> int:
    """CRC-32C (Castagnoli), bit by bit."""
    crc = 0xFFFFFFFF
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = crc >> 1 ^ (0x82F63B78 if crc & 1 else 0)
    return crc ^ 0xFFFFFFFF


def made(rng: random.Random, version: int) -> bytes:
    """Write a random file: the index, the note and the wares lie in any order, with free space between."""
    wares = [_ware(rng) if rng.random() < 0.8 else None for _ in range(rng.randrange(4))]
    start = 18 + 4 * (version >= 2)
    width = 6 + (version >= 3)
    note = rng.choice((b"", b"keep dry", "höher".encode()))
    deep = (
        struct.pack("<HB", rng.randrange(9), 2) + b"ok"
        if version >= 2 and rng.random() < 0.7
        else b""
    )
    parts: list[tuple[str, bytes]] = [
        ("index", bytes(width * len(wares))),
        ("note", note),
        ("deep", deep),
    ]
    parts += [(f"{n}", ware[1]) for n, ware in enumerate(wares) if ware is not None]
    rng.shuffle(parts)
    body = bytearray()
    places: dict[str, tuple[int, int]] = {}
    for name, data in parts:
        if not data and name != "index":
            continue
        body += rng.randbytes(rng.randrange(4))
        if name == "index":
            body += rng.randbytes(-len(body) % 4)
        places[name] = (start + len(body), len(data))
        body += data
    index = b""
    for n, ware in enumerate(wares):
        at, size = places.get(f"{n}", (1, 0)) if ware is not None else (1, 0)
        kind = ware[0] if ware is not None else 7
        index += bytes((kind,)) + at.to_bytes(3, "little") + struct.pack("<H", size)
        index += bytes((rng.randrange(256),)) if version >= 3 else b""
    begin = places["index"][0] - start
    body[begin : begin + len(index)] = index
    body += rng.randbytes(rng.randrange(3))
    told = places.get("note", (0, 0))
    head = struct.pack("<4sHHIIH", b"WARE", version, len(wares), begin // 4, *told)
    head += struct.pack("<I", places.get("deep", (0, 0))[0]) if version >= 2 else b""
    out = head + body
    return out + struct.pack("<I", crc32c(out))


def _ware(rng: random.Random) -> tuple[int, bytes]:
    kind = rng.randrange(3)
    if kind == 0:
        return 0, struct.pack(
            f"<{(n := rng.randrange(1, 5))}h", *(rng.randrange(-9, 9) for _ in range(n))
        )
    if kind == 1:
        name = rng.choice((b"peat", b"reed baskets"))
        return 1, bytes((len(name),)) + name + bytes((rng.randrange(128),))
    return rng.randrange(2, 200), rng.randbytes(rng.randrange(1, 9))


def read(data: bytes) -> dict[str, Any]:
    """Read a file by hand."""
    assert struct.unpack("<I", data[-4:])[0] == crc32c(data[:-4])
    names = ("magic", "version", "rows", "index", "note", "long")
    head = dict(zip(names, struct.unpack_from("<4sHHIIH", data), strict=True))
    version, start = head["version"], 18
    out: dict[str, Any] = {"head": head}
    if version >= 2:
        (head["deep"],) = struct.unpack_from("<I", data, 18)
        start = 22
    out["index"], out["wares"] = [], []
    at = start + 4 * head["index"]
    for _ in range(head["rows"]):
        row = {"kind": data[at], "at": int.from_bytes(data[at + 1 : at + 4], "little")}
        (row["size"],) = struct.unpack_from("<H", data, at + 4)
        at += 6
        if version >= 3:
            row["mark"] = data[at]
            at += 1
        out["index"].append(row)
        begin, end = row["at"], row["at"] + row["size"]
        out["wares"].append(_read(row["kind"], data[begin:end]) if begin != 1 else None)
    begin = head["note"]
    out["note"] = data[begin : begin + head["long"]].decode() if begin else None
    if version >= 2:
        begin = head["deep"]
        out["deep"] = None
        if begin:
            (number,) = struct.unpack_from("<H", data, begin)
            text = data[begin + 3 : begin + 3 + data[begin + 2]].decode()
            out["deep"] = {"a": number, "b": text}
    return {**out, "check": crc32c(data[:-4])}


def _read(kind: int, raw: bytes) -> Any:
    if kind == 0:
        return list(struct.unpack(f"<{len(raw) // 2}h", raw))
    if kind == 1:
        size = raw[0]
        count, shift = 0, 0
        for byte in raw[1 + size :]:
            count |= (byte & 127) << shift
            shift += 7
        return {"name": raw[1 : 1 + size].decode(), "count": count}
    return raw

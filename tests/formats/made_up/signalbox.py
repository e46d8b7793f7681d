"""Signalbox: big-endian; a directory anywhere tells sections, blocks in blocks among them; a CRC last."""

from __future__ import annotations

import random
import struct
import zlib
from typing import Any

LAYOUT = """
layout signalbox
big endian
versions 1 to 3 from version
magic      bytes 4 = "SGNL"
version    u16
sections   u16
index      u32                             # where the directory begins, from here
directory  at index from here table sections {
    tag    bytes 4
    flags  u8                              since 2 default 1
    at     u32
    size   u32
}
bodies     each directory at at size size choice tag {
    "HEAD" { captain text u16, day u32, ratio f32 }
    "CREW" block to end zlib {
        count  u16 = (length(hands))
        hands  table u16 { id u16, name text u8, pay i32, mood u8  since 3 default 50 }
        logs   block u32 deflate table u8 text u16
    }
    "MAPS" block to end zlib { w u16, h u16, cells table (w * h) u8, heights table u8 table u8 i8 }
    else   bytes to end
}
total      u32 = size of directory
check      crc32 of start to here
"""


def made(rng: random.Random, version: int) -> bytes:
    """Write a random file: sections in any order, free space between, the directory anywhere."""
    sections = [_section(rng, version) for _ in range(rng.randrange(5))]
    parts: list[tuple[Any, bytes]] = list(enumerate(body for _, body in sections))
    width = 12 + (version >= 2)
    parts.append(("index", bytes(width * len(sections))))
    rng.shuffle(parts)
    places: dict[Any, int] = {}
    behind = b""
    for name, data in parts:
        behind += rng.randbytes(rng.randrange(4))
        places[name] = 12 + len(behind)
        behind += data
    directory = b"".join(
        tag + (bytes((rng.randrange(4),)) if version >= 2 else b"")
        + struct.pack(">II", places[number], len(body))
        for number, (tag, body) in enumerate(sections)
    )  # fmt: skip
    at = places["index"] - 12
    behind = behind[:at] + directory + behind[at + len(directory) :]
    out = b"SGNL" + struct.pack(">HHI", version, len(sections), at) + behind
    out += struct.pack(">I", len(directory))
    return out + struct.pack(">I", zlib.crc32(out))


def _section(rng: random.Random, version: int) -> tuple[bytes, bytes]:
    tag = rng.choice((b"HEAD", b"CREW", b"MAPS", b"ODDS"))
    if tag == b"HEAD":
        name = rng.choice(("Dov", "Höf", "Tobias Quill")).encode()
        return tag, struct.pack(">H", len(name)) + name + struct.pack(
            ">If", rng.randrange(999), 0.5
        )
    if tag == b"ODDS":
        return tag, rng.randbytes(1 + rng.randrange(5))
    if tag == b"MAPS":
        w, h = rng.randrange(4), rng.randrange(4)
        heights = bytes((h,)) + b"".join(bytes((w,)) + rng.randbytes(w) for _ in range(h))
        return tag, zlib.compress(struct.pack(">HH", w, h) + rng.randbytes(w * h) + heights)
    count = rng.randrange(3)
    hands = b"".join(
        struct.pack(">HB", n, 3) + b"Esk" + struct.pack(">i", rng.randrange(-99, 99))
        + (bytes((rng.randrange(99),)) if version >= 3 else b"")
        for n in range(count)
    )  # fmt: skip
    packer = zlib.compressobj(9, zlib.DEFLATED, -15)
    logs = packer.compress(b"\2\0\4late\0\0") + packer.flush()
    whole = struct.pack(">HH", count, count) + hands + struct.pack(">I", len(logs)) + logs
    return tag, zlib.compress(whole, rng.randrange(1, 10))


def read(data: bytes) -> dict[str, Any]:
    """Read a file by hand."""
    version, count, at = struct.unpack_from(">HHI", data, 4)
    total, check = struct.unpack(">II", data[-8:])
    assert check == zlib.crc32(data[:-4])
    out: dict[str, Any] = {"magic": data[:4], "version": version, "sections": count, "index": at}
    out |= {"directory": [], "bodies": [], "total": total, "check": check}
    at += 12
    for _ in range(count):
        row: dict[str, Any] = {"tag": data[at : at + 4]}
        at += 4
        if version >= 2:
            row["flags"] = data[at]
            at += 1
        row["at"], row["size"] = struct.unpack_from(">II", data, at)
        at += 8
        out["directory"].append(row)
        body = data[row["at"] : row["at"] + row["size"]]
        out["bodies"].append(_body(row["tag"], body, version) if row["at"] else None)
    assert total == count * (12 + (version >= 2))
    return out


def _body(tag: bytes, data: bytes, version: int) -> Any:
    if tag == b"HEAD":
        (length,) = struct.unpack_from(">H", data)
        day, ratio = struct.unpack(">If", data[2 + length :])
        return {"captain": data[2 : 2 + length].decode(), "day": day, "ratio": ratio}
    if tag == b"MAPS":
        data = zlib.decompress(data)
        w, h = struct.unpack_from(">HH", data)
        page = {"w": w, "h": h, "cells": list(data[4 : 4 + w * h]), "heights": []}
        at = 5 + w * h
        for _ in range(data[at - 1]):
            row = struct.unpack_from(f">{data[at]}b", data, at + 1)
            page["heights"].append(list(row))
            at += 1 + data[at]
        assert at == len(data)
        return page
    if tag != b"CREW":
        return data
    data = zlib.decompress(data)
    count, again = struct.unpack_from(">HH", data)
    assert count == again
    out: dict[str, Any] = {"count": count, "hands": [], "logs": []}
    at = 4
    for _ in range(count):
        id, length = struct.unpack_from(">HB", data, at)
        name, at = data[at + 3 : at + 3 + length].decode(), at + 3 + length
        hand = {"id": id, "name": name, "pay": struct.unpack_from(">i", data, at)[0]}
        at += 4
        if version >= 3:
            hand["mood"] = data[at]
            at += 1
        out["hands"].append(hand)
    logs = zlib.decompress(data[at + 4 :], -15)
    at = 1
    for _ in range(logs[0]):
        (length,) = struct.unpack_from(">H", logs, at)
        out["logs"].append(logs[at + 2 : at + 2 + length].decode())
        at += 2 + length
    return out

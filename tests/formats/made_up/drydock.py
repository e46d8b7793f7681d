"""Drydock: a directory of directories, in steps of 16 bytes; LZ4 and xxHash."""

from __future__ import annotations

import random
import struct
from typing import Any

import lz4.frame
import xxhash

LAYOUT = """
layout drydock
little endian
versions 1 to 3 from version
magic    bytes 2 = "DD"
version  u16
fleet    u32 = (sum(berths.weight))
berths   table u8 {
    at      u16
    size    u16
    weight  u16
    key     u8                                   since 3 default 0
}
docks    each berths at at size size times 16 align 16 {
    name    text 6 pad 32
    slips   table u8 { at u16, size u16 }
    ships   each slips at at size size times 2 from here or 65535 block to end lz4 {
        hull   u8
        old    u16                               until 1 default 5
        cargo  table u16 { tons u16, goods enum u8 { peat = 1, reed = 2 } }
    }
}
seal     xxh32 of start to here
"""
GOODS = {1: "peat", 2: "reed"}


def made(rng: random.Random, version: int) -> bytes:
    """Write a random file: docks in any order, free space between, ships that share their bytes."""
    docks = [_dock(rng, version) for _ in range(rng.randrange(4))]
    weights = [rng.randrange(999) for _ in docks]
    start = 9 + (6 + (version >= 3)) * len(docks)
    places, behind = {}, b""
    order = list(range(len(docks)))
    rng.shuffle(order)
    for number in order:
        while (start + len(behind)) % 16:
            behind += rng.choice((b"\0", b"x"))
        places[number] = start + len(behind)
        behind += docks[number]
    berths = b"".join(
        struct.pack("<HHH", places[n] // 16, len(dock), weights[n])
        + (b"\5" if version >= 3 else b"")
        for n, dock in enumerate(docks)
    )
    out = b"DD" + struct.pack("<HI", version, sum(weights)) + bytes((len(docks),)) + berths + behind
    return out + struct.pack("<I", xxhash.xxh32_intdigest(out))


def _dock(rng: random.Random, version: int) -> bytes:
    ships = [_ship(rng, version) for _ in range(rng.randrange(3))]
    told, behind = [], b""
    for ship in ships:
        if rng.random() < 0.2:
            told.append((65535, 0))
            continue
        behind += b"\0" * (len(behind) % 2)
        told.append((len(behind) // 2, len(ship)))
        behind += ship
    if told and rng.random() < 0.3:
        told.append(told[0])  # two slips, one ship
    slips = b"".join(struct.pack("<HH", *slip) for slip in told)
    return rng.choice((b"north ", b"south ", b"n     ")) + bytes((len(told),)) + slips + behind


def _ship(rng: random.Random, version: int) -> bytes:
    cargo = [(rng.randrange(999), rng.choice((1, 2, 3))) for _ in range(rng.randrange(3))]
    out = bytes((rng.randrange(9),)) + (b"\5\0" if version == 1 else b"")
    out += struct.pack("<H", len(cargo)) + b"".join(struct.pack("<HB", *each) for each in cargo)
    return bytes(lz4.frame.compress(out, compression_level=rng.choice((0, 9))))


def read(data: bytes) -> dict[str, Any]:
    """Read a file by hand."""
    version, fleet = struct.unpack_from("<HI", data, 2)
    out: dict[str, Any] = {"magic": data[:2], "version": version, "fleet": fleet}
    out |= {"berths": [], "docks": [], "seal": int.from_bytes(data[-4:], "little")}
    assert out["seal"] == xxhash.xxh32_intdigest(data[:-4])
    at = 9
    for _ in range(data[8]):
        place, size, weight = struct.unpack_from("<HHH", data, at)
        row = {"at": place, "size": size, "weight": weight}
        row |= {"key": data[at + 6]} if version >= 3 else {}
        at += 6 + (version >= 3)
        out["berths"].append(row)
        dock = data[16 * place : 16 * place + size]
        out["docks"].append(_read_dock(dock, version) if place else None)
    assert fleet == sum(row["weight"] for row in out["berths"])
    return out


def _read_dock(data: bytes, version: int) -> dict[str, Any]:
    out: dict[str, Any] = {"name": data[:6].decode().rstrip(" "), "slips": [], "ships": []}
    here = 7 + 4 * data[6]
    for number in range(data[6]):
        at, size = struct.unpack_from("<HH", data, 7 + 4 * number)
        out["slips"].append({"at": at, "size": size})
        begin = here + 2 * at
        whole = data[begin : begin + size]
        out["ships"].append(_read_ship(whole, version) if at != 65535 else None)
    return out


def _read_ship(data: bytes, version: int) -> dict[str, Any]:
    data = lz4.frame.decompress(data)
    out: dict[str, Any] = {"hull": data[0]}
    at = 1
    if version == 1:
        out["old"] = int.from_bytes(data[1:3], "little")
        at = 3
    (count,) = struct.unpack_from("<H", data, at)
    out["cargo"] = [
        {"tons": tons, "goods": GOODS.get(goods, goods)}
        for tons, goods in struct.iter_unpack("<HB", data[at + 2 :])
    ]
    assert len(out["cargo"]) == count
    return out

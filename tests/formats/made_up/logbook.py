"""Logbook: sections with tags, known and not, texts in UTF-16, numbers of any length, and what may lack."""

from __future__ import annotations

import hashlib
import random
import struct
from typing import Any

LAYOUT = """
layout logbook
big endian
versions 1 to 3 from head.format
head {
    magic   bytes 3 = "LOG"
    format  u8
    state   enum u8 { open = 0, closed = 1, lost = 7 }
    sea     bits u16 { swell 4, wind 5, ice 1 }
}
ranks   table u8 text u8
pages   sections bytes 4 u24 u8 {
    "WIND" wind {
        speed  f32
        gusts  table varint varint
        from   u8                                since 3 default 4
    }
    "CREW" crew {
        captain  optional u8 { name text varint, age varint }
        hands    table u8 {
            name   text u8 encoding utf-16-le
            rank   u8 in ranks
            kind   u8
            owed   u16                           if kind == 1
            pay    i40                           until 2 default 7
        }
    }
    "NOTE" note text to end
}
spare   bytes u8                                 until 1 default ""
reach   u16                                      # how far from the end the tail is; 0: there is none
tail    at reach from end or 0 { mark u8, note text zero }
check   sha1 of start to end                     # with zeros where it lies itself
"""
STATES = {0: "open", 1: "closed", 7: "lost"}


def made(rng: random.Random, version: int) -> bytes:
    """Write a random file; some sections are of tags that nobody knows."""
    ranks = [
        rng.choice((b"mate", b"cook", b"h\\xf6lzern"[:4])) for _ in range(1 + rng.randrange(3))
    ]
    out = (
        b"LOG"
        + bytes((version, rng.choice((0, 1, 7, 9))))
        + struct.pack(">H", rng.randrange(2**10))
    )
    out += bytes((len(ranks),)) + b"".join(bytes((len(rank),)) + rank for rank in ranks)
    tags = rng.sample((b"WIND", b"CREW", b"NOTE", b"ODDS"), rng.randrange(5))
    out += bytes((len(tags),))
    for tag in tags:
        body = _page(rng, tag, version, len(ranks))
        out += tag + len(body).to_bytes(3, "big") + body
    if version == 1:
        spare = rng.randbytes(rng.randrange(3))
        out += bytes((len(spare),)) + spare
    tail = rng.choice((b"", b"\7reed\0"))
    free = rng.randbytes(rng.randrange(3)) if tail else b""
    out += struct.pack(">H", len(tail) + 20 if tail else 0) + free + tail
    return out + hashlib.sha1(out + bytes(20), usedforsecurity=False).digest()


def _varint(number: int) -> bytes:
    out = b""
    while number > 127:
        out += bytes((number & 127 | 128,))
        number >>= 7
    return out + bytes((number,))


def _page(rng: random.Random, tag: bytes, version: int, ranks: int) -> bytes:
    if tag == b"WIND":
        gusts = [rng.randrange(2 ** rng.randrange(1, 40)) for _ in range(rng.randrange(4))]
        out = struct.pack(">f", rng.randrange(99) / 4) + _varint(len(gusts))
        out += b"".join(map(_varint, gusts))
        return out + (bytes((rng.randrange(9),)) if version >= 3 else b"")
    if tag == b"NOTE":
        return rng.choice((b"", b"all well", "Höhe".encode()))
    if tag == b"ODDS":
        return rng.randbytes(rng.randrange(6))
    out = b"\0"
    if rng.random() < 0.6:
        out = b"\1" + _varint(3) + b"Dov" + _varint(rng.randrange(300))
    hands = rng.randrange(3)
    out += bytes((hands,))
    for _ in range(hands):
        name = rng.choice(("Esk", "Höf", "")).encode("utf-16-le")
        kind = rng.randrange(3)
        out += bytes((len(name),)) + name + bytes((rng.randrange(ranks), kind))
        out += b"\1\2" if kind == 1 else b""
        out += rng.randrange(-99, 99).to_bytes(5, "big", signed=True) if version <= 2 else b""
    return out


def read(data: bytes) -> dict[str, Any]:
    """Read a file by hand."""
    version, state, sea = data[3], data[4], int.from_bytes(data[5:7], "big")
    head = {"magic": data[:3], "format": version, "state": STATES.get(state, state)}
    bits = {"swell": sea & 15, "wind": sea >> 4 & 31, "ice": sea >> 9 & 1}
    bits |= {"other": sea & ~1023} if sea & ~1023 else {}
    out: dict[str, Any] = {"head": {**head, "sea": bits}, "ranks": [], "pages": {}}
    at = 8
    for _ in range(data[7]):
        out["ranks"].append(data[at + 1 : at + 1 + data[at]].decode("utf-8", "surrogateescape"))
        at += 1 + data[at]
    count, at = data[at], at + 1
    for _ in range(count):
        tag, size = data[at : at + 4], int.from_bytes(data[at + 4 : at + 7], "big")
        body = data[at + 7 : at + 7 + size]
        name = {b"WIND": "wind", b"CREW": "crew", b"NOTE": "note"}.get(tag, f"unknown {tag!r}")
        again = sum(key.split(" ")[0] == name for key in out["pages"])
        out["pages"][f"{name} {again + 1}" if again else name] = _read_page(tag, body, version)
        at += 7 + size
    if version == 1:
        out["spare"] = data[at + 1 : at + 1 + data[at]]
        at += 1 + data[at]
    out["reach"], out["tail"] = int.from_bytes(data[at : at + 2], "big"), None
    if out["reach"]:
        begin = len(data) - out["reach"]
        note = data[begin + 1 : data.index(0, begin + 1)].decode()
        out["tail"] = {"mark": data[begin], "note": note}
    whole = hashlib.sha1(data[:-20] + bytes(20), usedforsecurity=False).digest()
    assert data[-20:] == whole
    out["check"] = whole.hex()
    return out


def _read_varint(data: bytes, at: int) -> tuple[int, int]:
    value = shift = 0
    while True:
        value |= (data[at] & 127) << shift
        at, shift = at + 1, shift + 7
        if data[at - 1] < 128:
            return value, at


def _read_page(tag: bytes, data: bytes, version: int) -> Any:
    if tag == b"NOTE":
        return data.decode("utf-8", "surrogateescape")
    if tag == b"WIND":
        page: dict[str, Any] = {"speed": struct.unpack_from(">f", data)[0], "gusts": []}
        count, at = _read_varint(data, 4)
        for _ in range(count):
            gust, at = _read_varint(data, at)
            page["gusts"].append(gust)
        return page | ({"from": data[at]} if version >= 3 else {})
    if tag != b"CREW":
        return data
    page, at = {"captain": None, "hands": []}, 1
    if data[0]:
        size, at = _read_varint(data, 1)
        name = data[at : at + size].decode("utf-8", "surrogateescape")
        age, at = _read_varint(data, at + size)
        page["captain"] = {"name": name, "age": age}
    count, at = data[at], at + 1
    for _ in range(count):
        size = data[at]
        hand = {"name": data[at + 1 : at + 1 + size].decode("utf-16-le")}
        hand["rank"], hand["kind"] = data[at + 1 + size : at + 3 + size]
        at += 3 + size
        if hand["kind"] == 1:
            hand["owed"] = int.from_bytes(data[at : at + 2], "big")
            at += 2
        if version <= 2:
            hand["pay"] = int.from_bytes(data[at : at + 5], "big", signed=True)
            at += 5
        page["hands"].append(hand)
    return page

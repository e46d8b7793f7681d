"""The files of the dedicated server and the handheld, made byte by byte, by no code of the library."""

from __future__ import annotations

import random
import struct
import zlib
from importlib import resources

__all__ = ["LAYOUTS", "server_files"]

LAYOUTS = ("voyage.layout", "world.layout", "tuning.layout")
_GOODS = ("reeds", "eels", "tallow", "letters")
_GROUNDS = ("water", "reed", "peat", "moss", "quay", "causeway")
_TILE = 64  # numbers


def server_files() -> dict[str, bytes]:
    """Return the files of the server by their path; handheld/ lies beside server/."""
    files = {
        "server/mossferry_server.py": resources.files(__package__)
        .joinpath("server.py")
        .read_bytes(),
        "server/tables.xml": _TABLES,
        "server/data/tuning.bin": _tuning(),
        "server/worlds/northbog.bog": _world(1),
        "server/worlds/southbog.bog": _world(2),
        "handheld/evening.pocket": _pocket(),
    }
    for number, (name, captain) in enumerate(
        (("first-light", "Ines Marrow"), ("low-water", "Tobias Quill"), ("reed-cutting", "Ada Fenwick"),
         ("long-haul", "Ines Marrow")), 3,
    ):  # fmt: skip
        files[f"server/voyages/{name}.mfsv"] = _voyage(number, name, captain)
    return files


def _text(text: str, form: str = "<B") -> bytes:
    data = text.encode()
    return struct.pack(form, len(data)) + data


def _voyage(number: int, name: str, captain: str) -> bytes:
    rng = random.Random(f"server voyage {name}")
    build = {3: "1.2", 4: "1.4", 5: "2.0", 6: "2.1"}[number]
    out = b"MFSV" + struct.pack("<H", number) + _text(build) + _text(captain)
    out += struct.pack("<I" if number < 5 else "<q", rng.randrange(200, 90_000))
    out += bytes((rng.randrange(3), rng.randrange(4)))
    hands = rng.sample(("Ada", "Bo", "Cass", "Dov", "Esk", "Finn"), 4)
    out += struct.pack("<H", len(hands))
    for id, hand in enumerate(hands, 1):
        out += struct.pack("<I16s", id, hand.encode())
        out += struct.pack("<H", rng.randrange(1, 7)) if number >= 4 else b""
        out += struct.pack("<f", rng.randrange(200, 900) / 10) if number >= 5 else b""
    goods = struct.pack("<H", len(_GOODS))
    goods += b"".join(_text(good) + struct.pack("<H", rng.randrange(40)) for good in _GOODS)
    block = zlib.compress(goods, 9)  # not the level the library writes: it must stay as it is
    out += struct.pack("<I", len(block)) + block
    days = [f"day {day}: {rng.choice(('fair', 'wet', 'fog on the water'))}" for day in range(9)]
    out += struct.pack("<H", len(days)) + b"".join(_text(day, "<H") for day in days)
    return out + struct.pack("<I", zlib.crc32(out))


def _world(number: int) -> bytes:
    rng = random.Random(f"world {number}")
    wide, high = 8, 6
    head = b"MFWO" + struct.pack("<HHH", number, wide, high) + (b"\1" if number > 1 else b"")
    head += struct.pack("<H", len(_GROUNDS)) + b"".join(map(_text, _GROUNDS))
    head += struct.pack("<I", wide * high)
    at = len(head) + 8 * wide * high
    index, body = b"", b""
    for tile in range(wide * high):
        if tile % 7 == 3:  # nobody was there yet
            index += bytes(8)
            continue
        ids = rng.choices(range(len(_GROUNDS)), (40, 30, 15, 10, 2, 3), k=_TILE)
        block = zlib.compress(struct.pack(f"<{_TILE}H", *ids), 9)
        gap = -(at + len(body)) % 16
        body += b"\xa5" * gap
        index += struct.pack("<II", at + len(body), len(block))
        body += block
    return head + index + body


def _tuning() -> bytes:
    tables = {
        "ferries": {"draught": 0.8, "speed": 4.5, "hold": 120.0},
        "weather": {"haar_days": 41.0, "wind": 0.35},
        "trade": {"eel_price": 3.25, "peat_price": 0.9, "letter_fee": 1.0},
    }
    at = 8 + 20 * len(tables)
    directory, body = struct.pack("<H", len(tables)), b""
    for name, rows in tables.items():
        part = struct.pack("<H", len(rows))
        part += b"".join(_text(key) + struct.pack("<f", value) for key, value in rows.items())
        body += b"\0" * (-(at + len(body)) % 4)
        directory += struct.pack("<12sII", name.encode(), at + len(body), len(part))
        body += part
    return b"MFTU\1\0" + directory + body


def _pocket() -> bytes:
    def text(value: str) -> bytes:
        return bytes((0x60 | len(value),)) + value.encode()

    crew = b"\x83" + text("Bo") + text("Cass") + text("Ada")
    return (
        b"\xa8" + text("format") + b"\x02" + text("captain") + text("Tobias Quill")
        + text("coins") + b"\x19\x04\xd2" + text("peat") + b"\xfa" + struct.pack(">f", 12.5)
        + text("crew") + crew + text("at") + text("7,4") + text("days") + text("41")
        + text("moor") + b"\x02"
    )  # fmt: skip


_TABLES = b"""<?xml version="1.0" encoding="UTF-8"?>
<!-- the routes of this server; times in minutes -->
<server name="Bog &amp; Reed" slots="12">
  <route id="morning" fare='3'>
    <stop quay="Ashwater" minutes="0"/>
    <stop quay="Cold Lantern" minutes="25" />
    <stop quay="Eelgate" minutes="70"/>
  </route>
  <route id="night" fare='5'>   <!-- by lantern -->
    <stop quay="Fenwick Hythe" minutes="0"/>
    <stop quay="Dunlin Steps" minutes="55"/>
  </route>
  <notice>No peat on deck.</notice>
</server>
"""

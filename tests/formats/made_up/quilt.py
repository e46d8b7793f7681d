"""Quilt: a map of computed size, runs, packed bits, and numbers that mean more: ids, times, colours."""

from __future__ import annotations

import random
import struct
import uuid
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from typing import Any

LAYOUT = """
layout quilt
little endian
versions 1 to 3 from version
version    u8
id         uuid
twin       uuid little
wide       u128
saved      time u32 seconds
born       time i64 ticks from "1601-01-01"
day        time u16 days from "2000-01-01"               since 2 default 0
place { x fixed i32 over 65536, y fixed i16 over 100 }
tint       colour bgra
sky        colour rgb                                    until 2 default "#102030"
w          u8
h          u8
ground     table (w * h) u16
deep       bytes (w * h // 2) if (w > 1 and h > 1)
moss       runs u16 of u8 i16
lamps      packed u8 of 5 bits
masts      packed 7 of 12 bits high                      since 3 default 0
count      u16 = (length(ground) + 1)
sum        fnv1a-32 of id to count
"""


def made(rng: random.Random, version: int) -> bytes:
    """Write a random file; runs are not the longest there could be."""
    w, h = rng.randrange(5), rng.randrange(5)
    moss = [(rng.randrange(4), rng.randrange(-3, 3)) for _ in range(rng.randrange(5))]
    lamps = [rng.randrange(32) for _ in range(rng.randrange(9))]
    masts = [rng.randrange(4096) for _ in range(7)]
    out = bytes((version,)) + rng.randbytes(16) + rng.randbytes(16) + rng.randbytes(16)
    out += struct.pack("<Iq", rng.randrange(2**32), rng.randrange(2**60))
    out += struct.pack("<H", rng.randrange(2**16)) if version >= 2 else b""
    out += struct.pack("<ih", rng.randrange(-(2**31), 2**31), rng.randrange(-(2**15), 2**15))
    out += rng.randbytes(4 + 3 * (version <= 2)) + bytes((w, h))
    out += b"".join(struct.pack("<H", rng.randrange(2**16)) for _ in range(w * h))
    out += rng.randbytes(w * h // 2) if w > 1 and h > 1 else b""
    out += struct.pack("<H", len(moss)) + b"".join(struct.pack("<Bh", *run) for run in moss)
    out += bytes((len(lamps),)) + _low(lamps, 5)
    out += _high(masts, 12) if version >= 3 else b""
    out += struct.pack("<H", w * h + 1)
    return out + struct.pack("<I", _fnv(out[1:]))


def _low(numbers: list[int], bits: int) -> bytes:
    total = sum(number << at * bits for at, number in enumerate(numbers))
    return total.to_bytes((len(numbers) * bits + 7) // 8, "little")


def _high(numbers: list[int], bits: int) -> bytes:
    total, size = 0, (len(numbers) * bits + 7) // 8
    for number in numbers:
        total = total << bits | number
    return (total << size * 8 - len(numbers) * bits).to_bytes(size, "big")


def _fnv(data: bytes) -> int:
    number = 0x811C9DC5
    for byte in data:
        number = ((number ^ byte) * 0x01000193) % 2**32
    return number


def read(data: bytes) -> dict[str, Any]:
    """Read a file by hand."""
    version = data[0]
    out: dict[str, Any] = {"version": version, "id": str(uuid.UUID(bytes=data[1:17]))}
    out["twin"] = str(uuid.UUID(bytes_le=data[17:33]))
    out["wide"] = int.from_bytes(data[33:49], "little")
    saved, born = struct.unpack_from("<Iq", data, 49)
    out["saved"] = _time(datetime(1970, 1, 1, tzinfo=UTC), saved, 0, 0)
    out["born"] = _time(datetime(1601, 1, 1, tzinfo=UTC), *divmod(born, 10**7), 7)
    at = 61
    if version >= 2:
        (day,) = struct.unpack_from("<H", data, at)
        out["day"] = str((datetime(2000, 1, 1) + timedelta(days=day)).date())
        at += 2
    x, y = struct.unpack_from("<ih", data, at)
    out["place"] = {"x": Decimal(x) / 65536, "y": Decimal(y) / 100}
    b, g, r, a = data[at + 6 : at + 10]
    out["tint"] = f"#{r:02x}{g:02x}{b:02x}{a:02x}"
    at += 10
    if version <= 2:
        out["sky"] = "#" + data[at : at + 3].hex()
        at += 3
    w, h = out["w"], out["h"] = data[at], data[at + 1]
    at += 2
    out["ground"] = list(struct.unpack_from(f"<{w * h}H", data, at))
    at += 2 * w * h
    if w > 1 and h > 1:
        out["deep"] = data[at : at + w * h // 2]
        at += w * h // 2
    (runs,) = struct.unpack_from("<H", data, at)
    out["moss"] = [value for n in range(runs)
                   for times, value in [struct.unpack_from("<Bh", data, at + 2 + 3 * n)]
                   for _ in range(times)]  # fmt: skip
    at += 2 + 3 * runs
    count = data[at]
    size = (count * 5 + 7) // 8
    total = int.from_bytes(data[at + 1 : at + 1 + size], "little")
    out["lamps"] = [total >> 5 * n & 31 for n in range(count)]
    at += 1 + size
    if version >= 3:
        total = int.from_bytes(data[at : at + 11], "big") >> 4
        out["masts"] = [total >> 12 * (6 - n) & 4095 for n in range(7)]
        at += 11
    out["count"], out["sum"] = struct.unpack_from("<HI", data, at)
    assert out["count"] == w * h + 1
    assert out["sum"] == _fnv(data[1 : at + 2])
    assert at + 6 == len(data)
    return out


def _time(epoch: datetime, seconds: int, rest: int, digits: int) -> Any:
    try:
        moment = epoch + timedelta(seconds=seconds)
    except OverflowError:
        return seconds * 10**digits + rest
    text = moment.isoformat().split("+")[0]
    return f"{text}{f'.{rest:0{digits}}' if rest else ''}Z"

"""RFC 3284 once more, straight from its text: slow, simple, and with no code of the library's.

`read` decodes a delta; `Writer` puts one together from instructions, with whatever modes it is told.
"""

from __future__ import annotations

import random
import zlib
from typing import Any

NOOP, ADD, RUN, COPY = 0, 1, 2, 3
Entry = tuple[tuple[int, int, int], tuple[int, int, int]]


def default_table() -> list[Entry]:
    """Section 5.6, row by row."""
    none = (NOOP, 0, 0)
    table: list[Entry] = [((RUN, 0, 0), none)]
    table += [((ADD, size, 0), none) for size in [0, *range(1, 18)]]
    for mode in range(9):
        table += [((COPY, size, mode), none) for size in [0, *range(4, 19)]]
    for mode in range(6):
        table += [((ADD, a, 0), (COPY, c, mode)) for a in range(1, 5) for c in range(4, 7)]
    for mode in range(6, 9):
        table += [((ADD, a, 0), (COPY, 4, mode)) for a in range(1, 5)]
    table += [((COPY, 4, mode), (ADD, 1, 0)) for mode in range(9)]
    assert len(table) == 256
    return table


def number(value: int) -> bytes:
    """Section 2."""
    digits = [value % 128]
    while value >= 128:
        value //= 128
        digits.insert(0, value % 128 + 128)
    return bytes(digits)


class Stream:
    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def byte(self) -> int:
        self.at += 1
        return self.data[self.at - 1]

    def bytes(self, count: int) -> bytes:
        self.at += count
        assert self.at <= len(self.data)
        return self.data[self.at - count : self.at]

    def number(self) -> int:
        value = 0
        while True:
            byte = self.byte()
            value = value * 128 + byte % 128
            if byte < 128:
                return value

    def done(self) -> bool:
        return self.at >= len(self.data)


class Cache:
    """Section 5.1 and 5.3."""

    def __init__(self, near: int, same: int) -> None:
        self.near, self.same, self.slot = [0] * near, [0] * (same * 256), 0

    def update(self, address: int) -> None:
        if self.near:
            self.near[self.slot] = address
            self.slot = (self.slot + 1) % len(self.near)
        if self.same:
            self.same[address % len(self.same)] = address

    def decode(self, mode: int, here: int, addresses: Stream) -> int:
        if mode == 0:
            address = addresses.number()
        elif mode == 1:
            address = here - addresses.number()
        elif mode - 2 < len(self.near):
            address = self.near[mode - 2] + addresses.number()
        else:
            address = self.same[(mode - 2 - len(self.near)) * 256 + addresses.byte()]
        self.update(address)
        return address

    def encode(self, address: int, here: int, rng: random.Random) -> tuple[int, bytes]:
        """Return any mode that can say an address, and how it says it."""
        ways = [(0, number(address)), (1, number(here - address))]
        ways += [(2 + n, number(address - a)) for n, a in enumerate(self.near) if a <= address]
        slot = address % len(self.same) if self.same else 0
        if self.same and self.same[slot] == address:
            ways.append((2 + len(self.near) + slot // 256, bytes((slot % 256,))))
        self.update(address)
        return rng.choice(ways)


def read(delta: bytes, base: bytes) -> bytes:
    """Decode a delta without compression (section 4)."""
    stream = Stream(delta)
    assert stream.bytes(4) == b"\xd6\xc3\xc4\x00"
    flags = stream.byte()
    table, near, same = default_table(), 4, 3
    if flags & 2:
        inner = Stream(stream.bytes(stream.number()))
        near, same = inner.byte(), inner.byte()
        table = parsed(read(inner.data[inner.at :], plain(default_table())))
    out = b""
    while not stream.done():
        out += read_window(stream, base, out, table, Cache(near, same))
    return out


def read_window(stream: Stream, base: bytes, out: bytes, table: list[Entry], cache: Cache) -> bytes:
    flags = stream.byte()
    segment = b""
    if flags & 3:
        size, position = stream.number(), stream.number()
        segment = (base if flags & 1 else out)[position : position + size]
        assert len(segment) == size
    stream.number()
    length = stream.number()
    assert stream.byte() == 0
    sizes = [stream.number() for _ in range(3)]
    checksum = stream.bytes(4) if flags & 4 else None
    data, instructions, addresses = (Stream(stream.bytes(size)) for size in sizes)
    whole = bytearray(segment)  # U of section 3: the segment, then the target
    while not instructions.done():
        for kind, size, mode in table[instructions.byte()]:
            if kind == NOOP:
                continue
            count = size or instructions.number()
            if kind == ADD:
                whole += data.bytes(count)
            elif kind == RUN:
                whole += bytes((data.byte(),)) * count
            else:
                address = cache.decode(mode, len(whole), addresses)
                for at in range(count):
                    whole.append(whole[address + at])
    target = bytes(whole[len(segment) :])
    assert len(target) == length and data.done() and addresses.done()
    assert checksum is None or zlib.adler32(target).to_bytes(4, "big") == checksum
    return target


def plain(table: list[Entry]) -> bytes:
    """Section 7: the string of a code table."""
    columns = [[entry[half][field] for entry in table] for field in range(3) for half in range(2)]
    return bytes(value for column in columns for value in column)


def parsed(text: bytes) -> list[Entry]:
    rows = zip(*(text[at : at + 256] for at in range(0, 1536, 256)), strict=True)
    return [((k1, s1, m1), (k2, s2, m2)) for k1, k2, s1, s2, m1, m2 in rows]


class Writer:
    """Puts windows together from instructions: ("add", bytes), ("run", byte, n), ("copy", address, n)."""

    def __init__(
        self, rng: random.Random, table: list[Entry] | None = None, caches: tuple[int, int] = (4, 3)
    ) -> None:
        self.rng, self.caches = rng, caches
        self.table = table or default_table()
        self.out = bytearray(b"\xd6\xc3\xc4\x00")
        if table is None:
            self.out.append(0)
            return
        inner = Writer(rng)
        inner.window(0, 0, 0, [("add", plain(table))])
        told = bytes(caches) + bytes(inner.out)
        self.out += b"\x02" + number(len(told)) + told

    def window(
        self, flags: int, size: int, position: int, steps: list[Any], *, checked: bytes = b""
    ) -> None:
        cache = Cache(*self.caches)
        data, instructions, addresses = bytearray(), bytearray(), bytearray()
        made = 0
        for kind, what, *rest in steps:
            count = rest[0] if rest else len(what)
            mode = 0
            if kind == "copy":
                mode, told = cache.encode(what, size + made, self.rng)
                addresses += told
            else:
                data += what
            instructions += self.code({"add": ADD, "run": RUN, "copy": COPY}[kind], count, mode)
            made += count
        self.out.append(flags | (4 if checked else 0))
        if flags & 3:
            self.out += number(size) + number(position)
        sections = bytes(data + instructions + addresses)
        told = (
            number(made) + b"\0" + b"".join(map(number, map(len, (data, instructions, addresses))))
        )
        told += zlib.adler32(checked).to_bytes(4, "big") if checked else b""
        self.out += number(len(told) + len(sections)) + told + sections

    def code(self, kind: int, size: int, mode: int) -> bytes:
        """Return any code of one instruction that says this one."""
        none = (NOOP, 0, 0)
        ways = [
            bytes((at,)) + (number(size) if told == 0 else b"")
            for at, ((found, told, how), other) in enumerate(self.table)
            if other == none and found == kind and told in (0, size) and how == mode
        ]
        return self.rng.choice(ways)

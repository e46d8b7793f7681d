"""Reading a delta (RFC 3284, sections 4 to 6): windows, each held against what it says of itself.

What always holds: nothing is taken on trust. Sizes are checked before memory is given for them, every
section must be used up to its end, and a window becomes exactly as long as it said. Memory is that of
one window and its source segment.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from io import BytesIO
from typing import Any, BinaryIO, NamedTuple
from zlib import adler32

from ...errors import FormatError
from .codes import ADD, DEFAULT, RUN, CodeTable
from .numbers import read_number

__all__ = ["LARGEST", "MAGIC", "Window", "decode", "windows_of"]

MAGIC = b"\xd6\xc3\xc4\x00"
LARGEST = 256 << 20  # bytes of a window; no writer makes such, and memory is given for it
_COMPRESSED, _OWN_TABLE, _ABOUT = 1, 2, 4  # header; the last is in general use, not in the RFC
_SOURCE, _TARGET, _ADLER32 = 1, 2, 4  # window; the last is in general use, not in the RFC
_MOST_ABOUT = 1 << 20  # bytes an application may say about the delta


class Window(NamedTuple):
    """A window as it was read: which part of what it copies from, how large it becomes, its sections."""

    from_target: bool
    position: int
    size: int  # of the segment it copies from; 0: of none
    target_size: int
    data: bytes
    instructions: bytes
    addresses: bytes
    checksum: int | None


def decode(patch: BinaryIO, base: Any, out: BinaryIO, *, largest: int = LARGEST) -> int:
    """Write to `out` what a delta makes of `base`; return how many bytes that is.

    `base` is bytes, or anything that is sliced like them, such as a mapped file. `out` is read, too,
    where a window copies from what was written before; it must be empty.

    Raises:
        FormatError: the delta is damaged, compressed in a way nobody standardised, or does not fit the
            base; what was written until then is of no use.
    """
    written = 0
    with memoryview(base) as source:
        for number, (table, window) in enumerate(windows_of(patch, largest=largest)):
            try:
                if window.from_target:
                    segment = memoryview(_written_before(out, window, written))
                else:
                    segment = _of_base(source, window)
                with segment:  # released, whatever happens: a mapped file could not be closed
                    made = _carried_out(table, window, segment)
                if window.checksum is not None and adler32(made) != window.checksum:
                    raise FormatError(
                        "what comes out has not the checksum it should have",
                        remedy="The delta is damaged, or for another base.",
                    )
            except FormatError as error:
                raise error.inside(f"window {number + 1}") from None
            out.write(made)
            written += len(made)
    return written


def windows_of(patch: BinaryIO, *, largest: int = LARGEST) -> Iterator[tuple[CodeTable, Window]]:
    """Yield the windows of a delta, each with the code table that holds; nothing is carried out.

    Raises:
        FormatError: it is no delta, cut short, or says impossible things of itself.
    """
    reader = _Reader(patch)
    try:
        table = _header(reader)
    except FormatError as error:
        raise error.inside("header") from None
    number = 0
    while not reader.at_end():
        number += 1
        try:
            yield table, _window(reader, largest)
        except FormatError as error:
            raise error.inside(f"window {number}") from None


def _header(reader: _Reader) -> CodeTable:
    if reader.take(4) != MAGIC:
        raise FormatError("this is no VCDIFF delta of version 0", where="byte 0")
    flags = reader.byte()
    if flags & ~(_COMPRESSED | _OWN_TABLE | _ABOUT):
        raise FormatError(f"the header has unknown flags: {flags:#x}", where="byte 4")
    if flags & _COMPRESSED:
        raise FormatError(
            f"it is compressed once more, by the compressor {reader.byte()}, which is not read",
            where="byte 5",
            remedy="Make it again without secondary compression.",
        )
    table = DEFAULT
    if flags & _OWN_TABLE:
        length = reader.number()
        if not 2 < length <= _MOST_ABOUT:
            raise FormatError(f"a code table of {length:,} bytes is none")
        told = reader.take(length)
        made = BytesIO()
        try:
            decode(BytesIO(told[2:]), DEFAULT.text(), made, largest=_MOST_ABOUT)
            table = CodeTable.read(made.getvalue(), told[0], told[1])
        except FormatError as error:
            raise error.inside("code table") from None
    if flags & _ABOUT:
        length = reader.number()
        if length > _MOST_ABOUT:
            raise FormatError(f"{length:,} bytes about the delta are too many")
        reader.take(length)
    return table


def _window(reader: _Reader, largest: int) -> Window:
    flags = reader.byte()
    if flags & ~(_SOURCE | _TARGET | _ADLER32) or flags & 3 == 3:
        raise FormatError(f"the window has impossible flags: {flags:#x}")
    size = position = 0
    if flags & (_SOURCE | _TARGET):
        size, position = reader.number(), reader.number()
    length = reader.number()
    if length > reader.left:
        raise FormatError(
            f"{length:,} bytes should follow, {reader.left:,} do", remedy="It was cut short."
        )
    end = reader.left - length
    target_size = reader.number()
    if target_size > largest:
        raise FormatError(
            f"it becomes {target_size:,} bytes at once; at most {largest:,} are given memory"
        )
    if compressed := reader.byte():
        raise FormatError(
            f"its sections are compressed once more ({compressed:#x}), which is not read"
        )
    sizes = [reader.number() for _ in range(3)]
    checksum = int.from_bytes(reader.take(4), "big") if flags & _ADLER32 else None
    if sum(sizes) != reader.left - end:
        raise FormatError(
            f"its sections have {sum(sizes):,} bytes, {reader.left - end:,} are there"
        )
    data, instructions, addresses = map(reader.take, sizes)
    return Window(
        bool(flags & _TARGET), position, size, target_size, data, instructions, addresses, checksum
    )


def _of_base(source: memoryview, window: Window) -> memoryview:
    end = window.position + window.size
    if end > len(source):
        raise FormatError(
            f"it copies from bytes {window.position:,} to {end:,}, the base has {len(source):,}",
            remedy="The delta is for another base.",
        )
    return source[window.position : end]


def _written_before(out: BinaryIO, window: Window, written: int) -> bytes:
    if window.position + window.size > written:
        raise FormatError(f"it copies from what comes later: {written:,} bytes are made until now")
    out.seek(window.position)
    segment = out.read(window.size)
    out.seek(0, os.SEEK_END)
    return segment


def _carried_out(table: CodeTable, window: Window, segment: Any) -> bytearray:
    """Return the bytes that a window becomes."""
    data, instructions = window.data, window.instructions
    total, before = window.target_size, window.size
    codes = table.codes
    address_of = _Addresses(table, window.addresses)
    target = bytearray()
    at = used = made = 0
    end = len(instructions)
    while at < end:
        code = instructions[at]
        at += 1
        for kind, told, mode in codes[code]:
            size = told
            if not told:
                size, at = read_number(instructions, at)
            after = made + size
            if after > total:
                raise FormatError(f"it becomes more than the {total:,} bytes it should")
            if kind == ADD:
                target += data[used : used + size]
                used += size
            elif kind == RUN:
                target += data[used : used + 1] * size
                used += 1
            else:
                here = before + made
                begin = address_of(mode, here)
                stop = begin + size
                if stop <= before:
                    target += segment[begin:stop]
                else:
                    _copy_on(target, segment, begin, size, before)
            made = after
            if len(target) != made:
                raise FormatError("the bytes to be added are cut short")
    if made != total or used != len(data) or address_of.left:
        raise FormatError(
            f"it becomes {made:,} bytes instead of {total:,}, or leaves bytes of its sections unused"
        )
    return target


def _copy_on(target: bytearray, segment: Any, begin: int, size: int, before: int) -> None:
    """Copy from the segment into the target, or from the target, which may grow meanwhile."""
    if begin < before:
        size -= before - begin
        target += segment[begin:]
        begin = before
    begin -= before
    there = len(target) - begin
    if size <= there:
        target += target[begin : begin + size]
        return
    pattern = bytes(target[begin:])
    whole, rest = divmod(size, there)
    target += pattern * whole + pattern[:rest]


class _Addresses:
    """The addresses of copies, with their caches (section 5.3)."""

    def __init__(self, table: CodeTable, section: bytes) -> None:
        self._section = section
        self._at = 0
        self._near = [0] * table.near
        self._same = [0] * (256 * table.same)
        self._slot = 0

    @property
    def left(self) -> int:
        """How many bytes of the section were not used."""
        return len(self._section) - self._at

    def __call__(self, mode: int, here: int) -> int:
        near, same = self._near, self._same
        if mode >= 2 + len(near):
            if self._at >= len(self._section):
                raise FormatError("an address is cut short")
            address = same[(mode - 2 - len(near)) * 256 + self._section[self._at]]
            self._at += 1
        else:
            number, self._at = read_number(self._section, self._at)
            if mode == 0:
                address = number
            elif mode == 1:
                address = here - number
            else:
                address = near[mode - 2] + number
        if not 0 <= address < here:
            raise FormatError(f"it copies from {address:,}, of {here:,} bytes that there are")
        if near:
            near[self._slot] = address
            self._slot = (self._slot + 1) % len(near)
        if same:
            same[address % len(same)] = address
        return address


class _Reader:
    """Takes numbers and bytes off the front of a file, and knows how much is left."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        begin = file.tell()
        self.left = file.seek(0, os.SEEK_END) - begin
        file.seek(begin)
        self._size = self.left

    def at_end(self) -> bool:
        return not self.left

    def take(self, count: int) -> bytes:
        data = self._file.read(count) if count <= self.left else b""
        if len(data) != count:
            raise FormatError(
                f"it ends where {count:,} bytes should follow",
                where=f"byte {self._size - self.left:,}",
                remedy="The delta was cut short, or is none.",
            )
        self.left -= count
        return data

    def byte(self) -> int:
        return self.take(1)[0]

    def number(self) -> int:
        told = bytearray()
        while True:
            told += self.take(1)
            if told[-1] < 128 or len(told) > 10:
                return read_number(told, 0)[0]

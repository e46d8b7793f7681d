"""VCDIFF: what one writes the other reads, by an independent decoder and writer; damage is named."""

from __future__ import annotations

import io
import random
import tracemalloc
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.errors import FormatError
from kindred_ledger.formats.vcdiff import DEFAULT, CodeTable, decode, encode, windows_of
from kindred_ledger.formats.vcdiff.numbers import packed, packed_all, read_number
from tests.formats import rfc3284
from tests.support import law, side_law


def made(base: bytes, target: bytes, *, window: int = 1 << 20) -> bytes:
    out = io.BytesIO()
    size = encode(base, target, out, window=window)
    assert size == len(out.getvalue())
    return out.getvalue()


def read(delta: bytes, base: bytes, **options: Any) -> bytes:
    out = io.BytesIO()
    size = decode(io.BytesIO(delta), base, out, **options)
    assert size == len(out.getvalue())
    return out.getvalue()


@st.composite
def pairs(draw: Any) -> tuple[bytes, bytes]:
    """Return a base and a target: edited, shifted, reordered, repetitive, unrelated, empty."""
    rng = random.Random(draw(st.integers(0, 1 << 20)))
    size = draw(st.sampled_from((0, 1, 40, 3_000, 40_000)))
    base = rng.randbytes(size) if draw(st.booleans()) else (b"reed and peat, " * size)[:size]
    target = bytearray(base)
    for way in draw(
        st.lists(st.sampled_from(("edit", "put in", "cut", "move", "twice", "zeros")), max_size=5)
    ):
        at = rng.randrange(len(target) + 1)
        other = rng.randrange(len(target) + 1)
        low, high = sorted((at, other))
        if way == "edit":
            target[at : at + 9] = rng.randbytes(9)
        elif way == "put in":
            target[at:at] = rng.randbytes(rng.randrange(400))
        elif way == "cut":
            del target[at : at + 300]
        elif way == "move":
            target = target[low:high] + target[:low] + target[high:]
        elif way == "twice":
            target += target[low : low + 2_000]
        else:
            target[at:at] = bytes(rng.randrange(3_000))
    return base, bytes(target) if draw(st.integers(0, 9)) else rng.randbytes(200)


@st.composite
def steps(draw: Any, before: int) -> list[tuple[Any, ...]]:
    """Return instructions of a window whose segment has `before` bytes; copies may reach into themselves."""
    out: list[tuple[Any, ...]] = []
    made = 0
    for kind in draw(st.lists(st.sampled_from(("add", "run", "copy")), max_size=12)):
        count = draw(st.one_of(st.integers(1, 20), st.integers(21, 700)))
        if kind == "add":
            out.append(("add", draw(st.binary(min_size=count, max_size=count))))
        elif kind == "run":
            out.append(("run", draw(st.binary(min_size=1, max_size=1)), count))
        elif before + made:
            out.append(("copy", draw(st.integers(0, before + made - 1)), count))
        else:
            continue
        made += count
    return out


class BothWays(unittest.TestCase):
    @law
    @given(pairs(), st.sampled_from((700, 1 << 14, 1 << 20)))
    def test_what_is_written_is_read(self, pair: tuple[bytes, bytes], window: int) -> None:
        """By the library, and by a decoder straight from the RFC; the same input is the same delta."""
        base, target = pair
        delta = made(base, target, window=window)
        self.assertEqual(read(delta, base), target)
        self.assertEqual(rfc3284.read(delta, base), target)
        self.assertEqual(made(base, target, window=window), delta)

    @side_law
    @given(st.data(), st.integers(0, 1 << 30))
    def test_what_others_write_is_read(self, data: st.DataObject, seed: int) -> None:
        """All codes and address modes, windows of the base and of what was made before, checksums."""
        rng = random.Random(seed)
        base = rng.randbytes(600)
        writer = rfc3284.Writer(rng)
        out = b""
        for number in range(3):
            flags = rng.choice((0, 1, 2) if out else (0, 1))
            held = base if flags == 1 else out if flags == 2 else b""
            position = rng.randrange(len(held) + 1)
            size = rng.randrange(len(held) - position + 1)
            told = data.draw(steps(size), label=f"window {number + 1}")
            before = bytes(writer.out)
            writer.window(flags, size, position, told)
            made_of = rfc3284.read(bytes(writer.out), base)
            if number == 1 and made_of[len(out) :]:  # once more, with a checksum
                writer.out = bytearray(before)
                writer.window(flags, size, position, told, checked=made_of[len(out) :])
            out = made_of
        self.assertEqual(read(bytes(writer.out), base), out)

    def test_a_table_of_ones_own(self) -> None:
        """Section 7: a code table and caches of the application's own are read, and held against it."""
        rng = random.Random(4)
        table = rfc3284.default_table()
        rng.shuffle(table)
        base = rng.randbytes(300)
        writer = rfc3284.Writer(rng, [*table[:-1], ((3, 0, 9), (0, 0, 0))], (5, 3))
        writer.window(
            1, 300, 0, [("copy", 5, 9), ("add", b"reeds"), ("copy", 301, 40), ("run", b"z", 7)]
        )
        delta = bytes(writer.out)
        self.assertEqual(read(delta, base), rfc3284.read(delta, base))
        bad = rfc3284.Writer(rng, [((7, 0, 0), (0, 0, 0)), *table[1:]])
        with self.assertRaisesRegex(FormatError, "code table: .*code 0 is no instruction"):
            read(bytes(bad.out), base)


class Rules(unittest.TestCase):
    """Each rule of the RFC by its section."""

    def test_numbers(self) -> None:
        """Section 2: 123456789 is 186 239 154 21; cut short or beyond 64 bits it is none."""
        self.assertEqual(packed(123456789), bytes((186, 239, 154, 21)))
        some = [0, 1, 127, 128, 16_383, 16_384, 1 << 40, (1 << 62) - 1]
        import numpy as np

        out, lengths = packed_all(np.array(some))
        self.assertEqual(out.tobytes(), b"".join(map(packed, some)))
        self.assertEqual(lengths.tolist(), [len(packed(each)) for each in some])
        for number in some:
            self.assertEqual(
                read_number(packed(number) + b"\xff", 0), (number, len(packed(number)))
            )
        for data in (b"", b"\x80\x80", b"\xff" * 10):
            with self.assertRaises(FormatError):
                read_number(data, 0)

    def test_the_example(self) -> None:
        """Section 3: abcdwxyzefghefghefghefghzzzz of abcdefghijklmnop, a copy reaching into itself."""
        writer = rfc3284.Writer(random.Random(1))
        writer.window(
            1, 16, 0,
            [("copy", 0, 4), ("add", b"wxyz"), ("copy", 4, 4), ("copy", 24, 12), ("run", b"z", 4)],
        )  # fmt: skip
        told = read(bytes(writer.out), b"abcdefghijklmnop")
        self.assertEqual(told, b"abcdwxyzefghefghefghefghzzzz")

    def test_the_default_table(self) -> None:
        """Section 5.6: row by row, and as the string of section 7 and back."""
        text = rfc3284.plain(rfc3284.default_table())
        self.assertEqual(DEFAULT.text(), text)
        self.assertEqual(CodeTable.read(text, 4, 3), DEFAULT)

    def test_headers(self) -> None:
        """Section 4.1: what is no delta; compressed once more; what an application says is passed over."""
        plain = made(b"", b"reed")
        told = plain[:4] + b"\x04\x03new" + plain[5:]
        self.assertEqual(read(told, b""), b"reed")
        for data, words in (
            (b"PK\3\4", "no VCDIFF delta"),
            (plain[:3], "ends where 4 bytes"),
            (plain[:4] + b"\x01\x02" + plain[5:], "compressor 2.*not read"),
            (plain[:4] + b"\x40" + plain[5:], "unknown flags"),
            (plain[:5] + b"\x03" + plain[6:], "impossible flags"),
        ):
            with self.subTest(words), self.assertRaisesRegex(FormatError, words):
                read(data, b"")

    def test_codes_of_two_instructions(self) -> None:
        """Section 5.4 and 5.6: each code that adds and copies, or copies and adds, at once."""
        base = bytes(range(16))
        for code in range(163, 256):
            halves = rfc3284.default_table()[code]
            added = next(size for kind, size, _ in halves if kind == rfc3284.ADD)
            count, mode = next((size, how) for kind, size, how in halves if kind == rfc3284.COPY)
            data = b"reed"[:added]
            addresses = packed(16) if mode == 1 else b"\0"  # from here; else the first byte of all
            total = added + count
            told = bytes((total, 0, len(data), 1, len(addresses)))
            body = told + data + bytes((code,)) + addresses
            delta = b"\xd6\xc3\xc4\0\0\x01\x10\0" + packed(len(body)) + body
            adds_first = halves[0][0] == rfc3284.ADD
            first = added if mode == 1 and adds_first else 0
            copied = base[first : first + count]
            with self.subTest(code=code):
                self.assertEqual(read(delta, base), data + copied if adds_first else copied + data)

    def test_windows(self) -> None:
        """Section 4.2: of the base, or of what was made before, never of both; or of neither."""
        writer = rfc3284.Writer(random.Random(1))
        writer.window(1, 4, 2, [("copy", 0, 4)])
        writer.window(2, 3, 1, [("copy", 0, 3), ("copy", 3, 2)])
        writer.window(0, 0, 0, [("add", b"!")])
        self.assertEqual(read(bytes(writer.out), b"..reed"), b"reed" + b"eedee" + b"!")
        both = bytes(writer.out).replace(b"\x01\x04\x02", b"\x03\x04\x02", 1)
        with self.assertRaisesRegex(FormatError, "window 1.*|impossible flags"):
            read(both, b"..reed")

    def test_sections_are_not_compressed(self) -> None:
        """Section 4.3: a window whose sections are compressed once more is refused, and named."""
        delta = bytearray(made(b"", b"reed"))
        delta[8] = 1  # flags, length, and size of the window go before
        with self.assertRaisesRegex(FormatError, "compressed once more"):
            read(bytes(delta), b"")

    def test_addresses(self) -> None:
        """Section 5.3: itself, from here, near the last four, the same as one before; each by hand."""
        base = bytes(range(256)) * 4
        copies = ((0, 700), (1, 4), (2, 700 + 3), (8, 700 % 256))  # mode, address meant or told
        codes = b"".join(bytes((19 + 16 * mode, 5)) for mode, _ in copies)
        told = packed(700) + packed(1024 + 5 - 4) + packed(3) + bytes((700 % 256,))
        body = (
            packed(20) + b"\0" + packed(0) + packed(len(codes)) + packed(len(told)) + codes + told
        )
        delta = b"\xd6\xc3\xc4\0\0\x01" + packed(1024) + packed(0) + packed(len(body)) + body
        wanted = b"".join(base[at : at + 5] for at in (700, 4, 703, 700))
        self.assertEqual(rfc3284.read(delta, base), wanted)
        self.assertEqual(read(delta, base), wanted)

    def test_windows_are_told_without_carrying_them_out(self) -> None:
        """Section 4.2 and 4.3: which part of the base, how much it becomes."""
        base = random.Random(2).randbytes(9_000)
        delta = made(base, base[4_000:] + b"more", window=4_096)
        found = [window for _, window in windows_of(io.BytesIO(delta))]
        self.assertEqual([each.target_size for each in found], [4_096, 908])
        self.assertEqual(
            (found[0].position, found[0].size, found[0].from_target), (4_000, 4_096, False)
        )


class Damage(unittest.TestCase):
    def test_every_cut_and_every_flipped_bit(self) -> None:
        """An error that names the window, or the right bytes after all; never others, nor another error."""
        rng = random.Random(8)
        base = rng.randbytes(900)
        target = base[:300] + b"reeds" + base[500:] + bytes(60)
        delta = made(base, target, window=500)
        for end in range(len(delta)):
            with self.subTest(cut=end):
                try:
                    self.assertTrue(target.startswith(read(delta[:end], base)))
                except FormatError as error:
                    self.assertTrue(error.where)
        for bit in range(len(delta) * 8):
            damaged = bytearray(delta)
            damaged[bit // 8] ^= 1 << bit % 8
            with self.subTest(bit=bit):
                try:
                    told = read(bytes(damaged), base)
                    self.assertEqual(told, target)
                except FormatError as error:
                    self.assertTrue(error.what)

    def test_what_lies(self) -> None:
        """Sizes, copies from outside or from ahead, endless runs, another base: refused, in little memory."""
        huge = packed(1 << 40)

        def window(flags: int, *parts: bytes) -> bytes:
            body = b"".join(parts)
            return rfc3284.Writer(random.Random(1)).out + bytes((flags,)) + body

        def plain(target: int, data: bytes, codes: bytes, addresses: bytes = b"") -> bytes:
            told = (
                packed(target) + b"\0" + b"".join(map(packed, map(len, (data, codes, addresses))))
            )
            body = told + data + codes + addresses
            return packed(len(body)) + body

        for delta, words in (
            (window(1, huge, b"\0", plain(4, b"reed", b"\5")), "for another base"),
            (window(1, b"\4", huge, plain(4, b"reed", b"\5")), "for another base"),
            (window(2, b"\4\0", plain(4, b"reed", b"\5")), "copies from what comes later"),
            (window(0, huge), "bytes should follow"),
            (window(0, plain(1 << 40, b"", b"\0" + huge)), "at most 268,435,456"),
            (window(0, plain(4, b"z", b"\0" + huge)), "more than the 4 bytes"),
            (window(0, plain(9, b"reed", b"\5")), "becomes 4 bytes instead of 9"),
            (window(0, plain(4, b"re", b"\5")), "to be added are cut short"),
            (window(0, plain(4, b"reed!", b"\5")), "unused"),
            (window(0, plain(4, b"", b"\x14", b"\x00")), "copies from 0, of 0"),
            (window(1, b"\4\0", plain(4, b"", b"\x14", b"\x7f")), "copies from 127, of 4"),
            (window(1, b"\4\0", plain(4, b"", b"\x24", b"\x05")), "copies from -1"),
            (window(1, b"\4\0", plain(4, b"", b"\x14")), "cut short"),
        ):
            tracemalloc.start()
            with self.subTest(words), self.assertRaisesRegex(FormatError, words):
                read(delta, b"base" * 9)
            _, peak = tracemalloc.get_traced_memory()
            tracemalloc.stop()
            self.assertLess(peak, 1 << 20)

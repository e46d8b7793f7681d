"""Writing a delta (RFC 3284): windows of copies and additions, with the default code table.

Instructions are arrays, and so are the numbers in them: nothing is done for one instruction in Python.
The same base and target give the same delta.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, BinaryIO
from zlib import adler32

from .codes import NEAR
from .decoding import MAGIC
from .matching import Anchors, Found, Matches, repeats
from .numbers import packed, packed_all

__all__ = ["WINDOW", "encode"]

WINDOW = 8 << 20  # bytes of the target in a window
_SOURCE, _ADLER32 = 1, 4
_ADD, _COPY, _MODES = (
    1,
    19,
    16,
)  # codes of an addition and of a copy with their size after them; codes a mode


def encode(base: Any, target: Any, out: BinaryIO, *, window: int = WINDOW) -> int:
    """Write to `out` how `target` is made of `base`; return how many bytes that took.

    Both are bytes, or mapped files. Besides them, memory is given for the anchors of the base (16 bytes
    for 256 of it) and a few times a window.
    """
    import numpy as np

    written = out.write(MAGIC + b"\0")
    whole = np.frombuffer(target, np.uint8)
    anchors = Anchors(base, min(len(whole), window))
    for start in range(0, len(whole), window):
        part = whole[start : start + window]
        found = anchors.of(part)
        for piece in _window(part, anchors.matches(part, found), found):
            written += out.write(piece)
    return written


def _window(target: Any, matches: Matches, anchors: Found) -> Iterator[bytes]:
    """Yield the bytes of a window."""
    has_source = len(matches.lengths) > 0
    low = int(matches.source.min()) if has_source else 0
    size = int((matches.source + matches.lengths).max()) - low if has_source else 0
    copies = _with_repeats(target, matches, anchors, low, size)
    data, instructions, addresses = _sections(target, copies, size)
    told = b"".join(
        map(packed, (len(target), 0, len(data), len(instructions), len(addresses)))
    ) + adler32(target).to_bytes(4, "big")
    yield bytes((_SOURCE * has_source | _ADLER32,))
    if has_source:
        yield packed(size) + packed(low)
    yield packed(len(told) + len(data) + len(instructions) + len(addresses)) + told
    yield from (data, instructions, addresses)


def _with_repeats(target: Any, matches: Matches, anchors: Found, low: int, size: int) -> Matches:
    """Return all copies of a window, with their addresses: first the segment, then the target itself."""
    import numpy as np

    ends = np.concatenate(([0], matches.target + matches.lengths))
    again = repeats(target, anchors, ends, np.append(matches.target, len(target)))
    start = np.concatenate((matches.target, again.target))
    order = np.argsort(start, kind="stable")
    address = np.concatenate((matches.source - low, again.source + size))
    lengths = np.concatenate((matches.lengths, again.lengths))
    return Matches(start[order], address[order], lengths[order])


def _sections(target: Any, copies: Matches, size: int) -> tuple[bytes, bytes, bytes]:
    """Return the three sections: what is added, the instructions, the addresses."""
    import numpy as np

    count = len(copies.lengths)
    begins = np.concatenate(([0], copies.target + copies.lengths))
    ends = np.append(copies.target, len(target))
    added = ends - begins  # before each copy, and after the last
    modes, addresses = _addresses(copies.source, size + copies.target)
    kinds = np.empty(2 * count + 1, np.int64)  # by turns: what is added, what is copied
    sizes = np.empty(2 * count + 1, np.int64)
    told = np.empty(2 * count + 1, bool)  # whether the size comes after the code
    sizes[0::2], sizes[1::2] = added, copies.lengths
    told[0::2], told[1::2] = added > 17, copies.lengths > 18
    kinds[0::2] = _ADD + np.where(told[0::2], 0, added)
    kinds[1::2] = _COPY + _MODES * modes + np.where(told[1::2], 0, copies.lengths - 3)
    there = sizes > 0
    data = _gathered(target, begins, ends)
    return data, _codes(kinds[there], sizes[there], told[there]), addresses


def _gathered(target: Any, begins: Any, ends: Any) -> bytes:
    """Return the bytes of stretches one after another."""
    view = memoryview(target)
    return b"".join(
        [
            view[begin:end]
            for begin, end in zip(begins.tolist(), ends.tolist(), strict=True)
            if end > begin
        ]
    )


def _codes(kinds: Any, sizes: Any, told: Any) -> bytes:
    """Return codes with their sizes where those are told."""
    import numpy as np

    numbers, lengths = packed_all(sizes[told])
    widths = np.ones(len(kinds), np.intp)
    widths[told] += lengths
    out = np.empty(int(widths.sum()), np.uint8)
    at = np.cumsum(widths) - widths
    is_code = np.zeros(len(out), bool)
    is_code[at] = True
    out[is_code] = kinds
    out[~is_code] = numbers
    return out.tobytes()


def _addresses(addresses: Any, here: Any) -> tuple[Any, bytes]:
    """Return the modes of addresses `(n,)`, each the one that takes the fewest bytes, and the section.

    The near cache holds the last four addresses, that of copy `i` in slot `i % 4` (section 5.1).
    """
    import numpy as np

    count = len(addresses)
    best = addresses.copy()
    modes = np.zeros(count, np.int64)
    tried = [(np.ones(count, np.int64), here - addresses)]
    for back in range(1, NEAR + 1):
        earlier = np.concatenate((np.zeros(back, np.int64), addresses))[:count]
        tried.append((2 + (np.arange(count) - back) % NEAR, addresses - earlier))
    for mode, number in tried:
        fewer = (number >= 0) & (_width(np.maximum(number, 0)) < _width(best))
        best = np.where(fewer, number, best)
        modes = np.where(fewer, mode, modes)
    section, _ = packed_all(best)
    return modes, section.tobytes()


def _width(numbers: Any) -> Any:
    """Return how many bytes numbers take."""
    import numpy as np

    width = np.ones(len(numbers), np.int8)
    for bits in range(7, 63, 7):
        width += numbers >> bits > 0
    return width

"""Finding what two contents share: anchors both have, and the stretches around them that are equal.

An anchor is a position that the bytes after it choose, so the same bytes have the same anchors wherever
they stand. Anchors of both whose next 32 bytes are the same, and that the base has once, lie on diagonals:
the distance between where they are here and there. Along a diagonal the bytes are compared, all at
once. What the base has not may stand earlier in the target.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

__all__ = ["Anchors", "Found", "Matches", "anchor_hashes", "repeats"]

_PASSES = ((0x6D, 1), (0xB5, 3), (0x9B, 8))  # odd multiplier, distance: 13 bytes are mixed into one
_MIXED = 1 + sum(distance for _, distance in _PASSES)
_CHOSEN = 0x5A
_SPARSE, _DENSE, _DENSEST = 0xFF, 0x0F, 0x03  # bits that choose: one position in 256, in 16, in 4
_SMALL, _SMALLEST = (
    4 << 20,
    64 << 10,
)  # bytes of a content, up to which anchors are dense, and densest
_STRONG = 32  # bytes that must be the same
_PIECE = 256 << 10  # bytes mixed at a time: the scratch stays in the processor's cache
_WORTH = 16  # bytes; a shorter copy costs as much as what it saves
_PERIODS = (1, 2, 3, 4, 6, 8, 12, 16)  # bytes; patterns so short may hold no anchor
_LONG = 96  # bytes that the base has not, from which on it is looked whether they repeat something


class Matches(Struct, frozen=True):
    """Stretches of the target that stand elsewhere, too, in order, none over another: `(n,) int64` each."""

    target: Any  # where they begin in the target
    source: Any  # and where else
    lengths: Any


class Found(Struct, frozen=True):
    """The anchors of some bytes: their positions `(m,) int64`, ascending, and hashes `(m,) uint64`."""

    positions: Any
    hashes: Any


class Anchors:
    """The anchors of a base that stand in it once, by the hash of their bytes.

    `size` is that of the target: the larger of both says how dense anchors are.
    """

    def __init__(self, base: Any, size: int) -> None:
        import numpy as np

        self._base = np.frombuffer(base, np.uint8)
        self._bits = _bits(max(size, len(self._base)))
        found = _anchors(self._base, self._bits)
        order = np.argsort(found.hashes, kind="stable")
        hashes, positions = found.hashes[order], found.positions[order]
        new = np.ones(len(hashes) + 1, bool)
        new[1:-1] = hashes[1:] != hashes[:-1]
        once = new[:-1] & new[1:]
        self._hashes, self._positions = hashes[once], positions[once]

    def of(self, target: Any) -> Found:
        """Return the anchors of a part of the target `(n,) uint8`."""
        return _anchors(target, self._bits)

    def matches(self, target: Any, found: Found) -> Matches:
        """Return what a part of the target shares with the base."""
        import numpy as np

        at = np.searchsorted(self._hashes, found.hashes)
        at[at == len(self._hashes)] = 0
        if not len(self._hashes):
            return _apart([])
        known = self._hashes[at] == found.hashes
        here, there = found.positions[known], self._positions[at[known]]
        return _on_diagonals(target, self._base, here, there, 0, len(target))


def anchor_hashes(data: Any) -> Any:
    """Return the hashes of all anchors of bytes: `(n,) uint64`, for telling what contents have in common."""
    import numpy as np

    return _anchors(np.frombuffer(data, np.uint8), _DENSE).hashes


def repeats(target: Any, anchors: Found, begins: Any, ends: Any) -> Matches:
    """Return what stands in some stretches of a target and earlier in it, too.

    What is found may reach into itself, as a run of one byte does, or a pattern that is repeated.
    """
    import numpy as np

    long = ends - begins >= _LONG
    begins, ends = begins[long], ends[long]
    if not len(begins):
        return _apart([])
    order = np.argsort(anchors.hashes, kind="stable")
    hashes, positions = anchors.hashes[order], anchors.positions[order]
    again = np.flatnonzero(hashes[1:] == hashes[:-1])
    here, there = positions[again + 1], positions[again]
    by_place = np.argsort(here, kind="stable")
    here, there = here[by_place], there[by_place]
    found = []
    for begin, end in zip(begins.tolist(), ends.tolist(), strict=True):
        first, last = np.searchsorted(here, (begin, end - _STRONG))
        pairs = here[first:last], there[first:last]
        found.append(_on_diagonals(target, target, *pairs, begin, end))
        found += [_along(target, target, -each, begin + each, end) for each in _PERIODS]
    return _apart(found)


def _on_diagonals(target: Any, base: Any, here: Any, there: Any, low: int, high: int) -> Matches:
    """Return the equal stretches along the diagonals of anchors, between two places of the target."""
    import numpy as np

    shifts = there - here
    new = np.ones(len(shifts), bool)
    new[1:] = shifts[1:] != shifts[:-1]
    first = np.flatnonzero(new)
    last = np.append(first[1:], len(shifts)) - 1
    begins, ends = here[first].tolist(), (here[last] + _STRONG).tolist() if len(first) else []
    found = [
        _along(target, base, shift, ends[at - 1] if at else low,
               begins[at + 1] if at + 1 < len(begins) else high)
        for at, shift in enumerate(shifts[first].tolist())
    ]  # fmt: skip
    return _apart(found)


def _along(target: Any, base: Any, shift: int, low: int, high: int) -> Matches:
    """Return the equal stretches on a diagonal between two places of the target."""
    import numpy as np

    low, high = max(low, -shift), min(high, len(base) - shift)
    if high <= low:
        none = np.zeros(0, np.int64)
        return Matches(none, none, none)
    other = np.flatnonzero(target[low:high] != base[low + shift : high + shift])
    begin = np.concatenate(([0], other + 1)) + low
    length = np.concatenate((other + low, [high])) - begin
    worth = length >= _WORTH
    begin = begin[worth].astype(np.int64)
    return Matches(begin, begin + shift, length[worth].astype(np.int64))


def _apart(found: list[Matches]) -> Matches:
    """Return stretches so that none lies over another: what comes later gives way at its front."""
    import numpy as np

    none = np.zeros(0, np.int64)
    start, source, length = (
        np.concatenate([none, *(getattr(each, name) for each in found)])
        for name in ("target", "source", "lengths")
    )
    order = np.argsort(start, kind="stable")
    start, source, length = start[order], source[order], length[order]
    reached = np.maximum.accumulate(np.concatenate(([0], start + length)))[:-1]
    cut = np.clip(reached - start, 0, length)
    start, source, length = start + cut, source + cut, length - cut
    worth = length >= _WORTH
    return Matches(start[worth], source[worth], length[worth])


def _bits(size: int) -> int:
    """Return which bits choose anchors: in a small content more positions are one."""
    return _DENSEST if size <= _SMALLEST else _DENSE if size <= _SMALL else _SPARSE


def _anchors(data: Any, bits: int) -> Found:
    """Return the anchors of bytes `(n,) uint8`; `bits` of their mix choose them."""
    import numpy as np

    chosen = np.uint8(_CHOSEN & bits)
    pieces = []
    scratch = np.empty((3, _PIECE), np.uint8)
    last = len(data) - _STRONG
    step = _PIECE - _MIXED
    for start in range(0, max(0, last), step):
        mixed = data[start : start + _PIECE]
        if len(mixed) < _MIXED:
            break
        for number, (multiplier, distance) in enumerate(_PASSES):
            further = scratch[number & 1][: len(mixed) - distance]
            np.multiply(mixed[distance:], np.uint8(multiplier), out=further)
            np.subtract(further, mixed[:-distance], out=further)
            mixed = further
        if bits != _SPARSE:
            mixed = np.bitwise_and(mixed, np.uint8(bits), out=scratch[2][: len(mixed)])
        here = np.flatnonzero(mixed[:step] == chosen)
        pieces.append(here[np.diff(here, prepend=-9) > 1] + start)  # the first of a run
    positions = np.concatenate([np.zeros(0, np.int64), *pieces])
    positions = positions[positions <= last]
    if not len(positions):
        return Found(positions, np.zeros(0, np.uint64))
    windows = np.lib.stride_tricks.sliding_window_view(data, _STRONG)[positions]
    words = windows.view(np.uint64)
    hashes = np.zeros(len(words), np.uint64)
    for column in range(words.shape[1]):
        hashes = (hashes ^ words[:, column]) * np.uint64(0x9E3779B97F4A7C15)
        hashes ^= hashes >> np.uint64(29)
    return Found(positions, hashes)

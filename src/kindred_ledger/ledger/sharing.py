"""Sharing: what of a new content need not be stored, because it stood in the one it replaces.

Where bytes changed in place, the exclusive or of the two is all zeros but for them and packs to
almost nothing; its base is always a chunk that is stored whole, so two readings put it together.
Where bytes were put in or taken out, both are cut by what is in them (see `chunking`), equal chunks
are joined to stretches, and each stretch is grown byte by byte into what lies between: an insertion
costs itself, not the chunk around it. Whichever leaves fewer new bytes is taken.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from itertools import accumulate, zip_longest
from typing import NamedTuple

from blake3 import blake3

from .index import Span
from .packs import Slice
from .reading import Frames

__all__ = ["New", "Old"]

_LEAST = 64 << 10  # bytes; smaller contents are stored whole
_SPARSE = 64  # with fewer new bytes than one in this many a difference is not worth beating
_WORTH = 4  # a difference must have fewer new bytes than one in this many
_BITS = 4  # that differ in a byte that is another, in the mean
_SHARED = 8  # slices must save at least one byte in this many


class New(NamedTuple):
    """What is to be stored: some bytes, or their exclusive or with a base."""

    stored: bytes
    base: bytes = b""


class _Stretch(NamedTuple):
    """Bytes of the new content, and where the same stand in the old one."""

    start: int
    stop: int
    old: int


class Old:
    """What a content replaces; its bytes are read when they are asked for.

    All methods raise `LedgerDamaged` when what is stored of it is damaged.
    """

    def __init__(self, spans: Sequence[Span], frames: Frames) -> None:
        self._spans = spans
        self._frames = frames
        self._offsets = list(accumulate((span.length for span in spans), initial=0))
        self._digests: dict[int, bytes] | None = None  # of its chunks, by offset
        self._first: dict[bytes, int] = {}  # the first offset of each
        self._moved = False  # what came last stood elsewhere: what comes next will have moved too

    def express(self, data: bytes, at: int) -> list[Slice | New]:
        """Return new content that stands at `at` as slices of the old and what is new.

        A single `New` is the whole of it, maybe as a difference.
        """
        small = min(len(data), self._offsets[-1]) < _LEAST
        if not self._moved or small:
            whole, changed = self._difference(data, at)
            if small or changed * _SPARSE < len(data):
                return [whole]
        stretches = list(self._grown(data, self._joined(data)))
        missing = len(data) - sum(stop - start for start, stop, _ in stretches)
        if self._moved and missing * _SPARSE >= len(data):
            whole, changed = self._difference(data, at)
        self._moved = missing * _SPARSE < len(data)
        if not self._moved and missing >= min(changed, len(data) - len(data) // _SHARED):
            return [whole]
        found: list[Slice | New] = []
        done = 0
        for start, stop, old in stretches:
            if done < start:
                found.append(New(data[done:start]))
            found += self._slices(old, stop - start)
            done = stop
        return [*found, New(data[done:])] if done < len(data) else found

    def _difference(self, data: bytes, at: int) -> tuple[New, int]:
        """Return new content as a difference, if it is worth it, and about how many bytes it changes."""
        number = bisect_right(self._offsets, at) - 1
        if number >= len(self._spans) or self._offsets[number] != at:
            return New(data), len(data)
        span = self._spans[number]
        if span.length != span.chunk.size:
            return New(data), len(data)
        base = self._frames.base_of(span.chunk)
        # Whole numbers of any length do this at memory speed, and NumPy takes longer to import.
        old = int.from_bytes(self._frames.chunk(base)[: len(data)], "little")
        both = int.from_bytes(data, "little") ^ old
        changed = both.bit_count() // _BITS
        if changed * _WORTH >= len(data):
            return New(data), len(data)
        return New(both.to_bytes(len(data), "little"), base.digest), changed

    def _joined(self, data: bytes) -> list[_Stretch]:
        """Return the stretches that equal chunks make up, in order."""
        if self._digests is None:
            self._digests = {}
            self._frames.announce(span.chunk for span in self._spans)
            for offset, _, digest in _cut(self._frames.span(span) for span in self._spans):
                self._digests[offset] = digest
                self._first.setdefault(digest, offset)
        joined: list[_Stretch] = []
        for start, stop, digest in _cut([data]):
            last = joined[-1] if joined and joined[-1].stop == start else None
            follows = last.old + last.stop - last.start if last else -1
            if last and self._digests.get(follows) == digest:
                joined[-1] = last._replace(stop=stop)
            elif digest in self._first:
                joined.append(_Stretch(start, stop, self._first[digest]))
        return joined

    def _grown(self, data: bytes, joined: Sequence[_Stretch]) -> Iterator[_Stretch]:
        """Grow stretches forwards, then backwards, into the bytes between them."""
        import numpy as np

        new = np.frombuffer(data, np.uint8)

        def equal(start: int, length: int, old: int, step: int) -> int:
            """Count the equal bytes of both contents, from the front (step 1) or back (-1)."""
            there = np.frombuffer(self._read(old, length), np.uint8)
            differ = (there != new[start : start + there.size])[::step]
            return int(differ.argmax()) if differ.any() else there.size

        free = 0  # the first byte that is in no stretch yet
        for stretch, following in zip_longest(joined, joined[1:]):
            start, stop, old = stretch
            if reach := min(start - free, old):
                more = equal(start - reach, reach, old - reach, -1)
                start, old = start - more, old - more
            limit = following.start if following else len(data)
            stop += equal(stop, limit - stop, old + stop - start, 1)
            yield _Stretch(start, stop, old)
            free = stop

    def _read(self, offset: int, length: int) -> bytes:
        """Return up to `length` bytes from `offset`."""
        length = max(0, min(length, self._offsets[-1] - offset))
        return b"".join(self._frames.span(span) for span in self._spans_of(offset, length))

    def _slices(self, offset: int, length: int) -> list[Slice]:
        return [
            Slice(chunk.digest, start, size)
            for chunk, start, size in self._spans_of(offset, length)
        ]

    def _spans_of(self, offset: int, length: int) -> Iterator[Span]:
        """Return the spans that make up `length` bytes from `offset`."""
        number = bisect_right(self._offsets, offset) - 1
        while length > 0:
            span = self._spans[number]
            skip = offset - self._offsets[number]
            size = min(span.length - skip, length)
            yield Span(span.chunk, span.start + skip, size)
            offset, length, number = offset + size, length - size, number + 1


def _cut(blocks: Iterable[bytes]) -> Iterator[tuple[int, int, bytes]]:
    """Cut a content by what is in it; yield start, stop and digest of each chunk."""
    from .chunking import Chunker

    at = 0
    for chunk in Chunker().chunks_of(blocks):
        yield at, at + len(chunk), blake3(chunk).digest()
        at += len(chunk)

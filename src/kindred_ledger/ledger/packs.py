"""Packs: the files contents are kept in.

A pack is a valid Zstandard stream (RFC 8878): frames of content, then one skippable frame that
holds the index. What always holds: a pack is written once, synced, and only then given its name,
which is derived from its index; so a pack that can be seen is whole. Content is addressed by its
place in the unpacked stream (`at`), so `zstd -dc`, `tail` and `head` are enough to get it out.
See docs/ledger-format.md.
"""

from __future__ import annotations

import contextlib
import errno
import os
import struct
import threading
from bisect import bisect_right
from collections.abc import Sequence
from functools import cached_property
from itertools import accumulate
from typing import Annotated, BinaryIO, NamedTuple

import msgspec
from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ..errors import LedgerDamaged
from ..places import BLOCK, new_file
from ..small_files import open_regular
from . import zstd
from .encryption import PLAIN, Encryption
from .storage import Storage

__all__ = [
    "PACK_SUFFIX",
    "Chunk",
    "PackCheck",
    "PackIndex",
    "PackWriter",
    "Piece",
    "Recipe",
    "Slice",
    "check_pack",
    "name_of",
    "packed",
    "read_frame",
    "read_index",
]

_POSITION = threading.Lock()  # of all packs that are open

PACK_SUFFIX = ".pack.zst"
_INDEX, _CONTENT = b"index", b"content"  # what a frame is for
_TRAILER = struct.Struct("<32sQ8s")  # digest of the index, its length, signature
_HEAD = struct.Struct("<II")  # of the skippable frame: magic, size of what follows
_DIGEST = 32  # bytes
_SIGNATURE = b"KLPACK\x00\x01"


class Piece(NamedTuple):
    """A chunk on its way into a frame: its digest, its size, and the digest of its base if any."""

    digest: bytes
    size: int
    base: bytes = b""


class Chunk(NamedTuple):
    """Some content in a pack: its digest, where it starts in the unpacked stream, its size.

    With a `base`, what is stored is the exclusive or with that chunk, which is stored whole; it is
    cut or padded with zeros to the size of this one.
    """

    digest: bytes
    at: int
    size: int
    base: bytes = b""


class Slice(NamedTuple):
    """Some bytes of a chunk, which may lie in another pack."""

    digest: bytes
    start: int
    length: int


class Recipe(NamedTuple):
    """A content made of slices of chunks, in order."""

    digest: bytes
    size: int
    slices: tuple[Slice, ...]


class PackIndex(Struct, frozen=True, dict=True):
    """What a pack holds; `starts` and `lengths` are the frames in the file, `sizes` unpacked.

    `stored` is the BLAKE3 digest of all frames as they stand in the file, one after the other;
    `again` tells packs apart that hold the same, as one may be about to be deleted.
    """

    starts: Sequence[int]
    lengths: Sequence[int]
    sizes: Sequence[int]
    chunks: Sequence[Chunk] = ()
    recipes: Sequence[Recipe] = ()
    stored: bytes = b""
    again: int = 0

    @cached_property
    def offsets(self) -> list[int]:
        """Where each frame begins in what is unpacked, and where the last one ends."""
        return list(accumulate(self.sizes, initial=0))

    def frame_at(self, at: int) -> int:
        """Return the number of the frame that holds the unpacked offset `at`."""
        return bisect_right(self.offsets, at) - 1

    def encode(self, encryption: Encryption) -> bytes:
        """Return the index as stored: one frame of JSON columns."""
        columns = {
            "format": 1,
            "stored": self.stored.hex(),
            "again": self.again,
            "frames": {"start": self.starts, "length": self.lengths, "size": self.sizes},
            "chunks": {
                "digest": b"".join(chunk.digest for chunk in self.chunks).hex(),
                "at": [chunk.at for chunk in self.chunks],
                "size": [chunk.size for chunk in self.chunks],
            },
            "differences": {
                "chunk": [row for row, chunk in enumerate(self.chunks) if chunk.base],
                "base": b"".join(chunk.base for chunk in self.chunks).hex(),
            },
            "recipes": [
                {
                    "digest": recipe.digest.hex(),
                    "size": recipe.size,
                    "chunks": b"".join(part.digest for part in recipe.slices).hex(),
                    "start": [part.start for part in recipe.slices],
                    "length": [part.length for part in recipe.slices],
                }
                for recipe in self.recipes
            ],
        }
        return encryption.wrapped(zstd.compress(msgspec.json.encode(columns) + b"\n"), _INDEX)

    @staticmethod
    def decode(stored: bytes, encryption: Encryption) -> PackIndex:
        """Read what `encode` wrote; raise `LedgerDamaged` if it cannot be read."""
        line, _ = encryption.content(stored, _INDEX)
        try:
            columns = msgspec.json.decode(line, type=_Columns)
            frames, chunks, differences = columns.frames, columns.chunks, columns.differences
            bases = dict(zip(differences.chunk, _cut(differences.base), strict=True))
            if max(bases, default=-1) >= len(chunks.at):
                raise ValueError("a difference of no chunk")
            index = PackIndex(
                frames.start,
                frames.length,
                frames.size,
                [
                    Chunk(*row, bases.get(number, b""))
                    for number, row in enumerate(
                        zip(_cut(chunks.digest), chunks.at, chunks.size, strict=True)
                    )
                ],
                [
                    Recipe(
                        bytes.fromhex(recipe.digest),
                        recipe.size,
                        tuple(
                            Slice(*part)
                            for part in zip(
                                _cut(recipe.chunks), recipe.start, recipe.length, strict=True
                            )
                        ),
                    )
                    for recipe in columns.recipes
                ],
                bytes.fromhex(columns.stored),
                columns.again,
            )
        except (msgspec.MsgspecError, ValueError) as error:
            raise LedgerDamaged(f"the pack's index cannot be read: {error}") from error
        if fault := _fault(index):
            raise LedgerDamaged(f"the pack's index cannot be: {fault}")
        return index


_Number = Annotated[int, msgspec.Meta(ge=0, le=1 << 53)]
_Size = Annotated[int, msgspec.Meta(ge=0, le=zstd.MOST)]  # of a frame


class _Frames(Struct):
    start: list[_Number]
    length: list[_Size]
    size: list[_Size]


class _Chunks(Struct):
    digest: str
    at: list[_Number]
    size: list[_Number]


class _Differences(Struct):
    chunk: list[_Number]
    base: str


class _Recipe(Struct):
    digest: str
    size: _Number
    chunks: str
    start: list[_Number]
    length: list[_Number]


class _Columns(Struct):
    """An index as it is stored."""

    stored: str
    again: int
    frames: _Frames
    chunks: _Chunks
    differences: _Differences
    recipes: list[_Recipe]


def _fault(index: PackIndex) -> str:
    """Say what in an index contradicts itself; "" if nothing does."""
    if not len(index.starts) == len(index.lengths) == len(index.sizes):
        return "its frames are of different numbers"
    ends = [start + length for start, length in zip(index.starts, index.lengths, strict=True)]
    if list(index.starts) != [0, *ends][: len(ends)]:
        return "its frames do not follow each other"
    held = {chunk.digest: chunk for chunk in index.chunks}
    for chunk in index.chunks:
        if chunk.at + chunk.size > index.offsets[-1]:
            return "a chunk lies behind its frames"
        if len(chunk.digest) != _DIGEST or len(chunk.base) not in (0, _DIGEST):
            return "a digest is of another length"
        if chunk.base in held and held[chunk.base].base:
            return "a difference is one from another difference"
    for recipe in index.recipes:
        if sum(part.length for part in recipe.slices) != recipe.size:
            return "a recipe is of another size than its parts"
    return ""


def _cut(digests: str) -> list[bytes]:
    raw = bytes.fromhex(digests)
    return [raw[at : at + 32] for at in range(0, len(raw), 32)]


class PackWriter:
    """Writes one pack: frames in order, then `finalize`."""

    def __init__(self, part: str) -> None:
        self._path = part
        self._file = new_file(part)  # closed by finalize or abandon
        self._starts: list[int] = []
        self._lengths: list[int] = []
        self._sizes: list[int] = []
        self._chunks: list[Chunk] = []
        self._recipes: list[Recipe] = []
        self._at = 0
        self._stored = blake3()
        self._failed = False
        self.stored_bytes = 0

    def write(self, frame: bytes) -> None:
        """Append a frame to the file; each must be announced with `add_frame`, in the same order.

        Raises:
            OSError: the disk refuses, or an earlier frame was not written whole.
        """
        if self._failed:
            raise OSError(errno.EIO, "an earlier frame was not written whole", self._path)
        self._failed = True  # until it is written: what follows a failure must not be finalized
        self._file.write(frame)
        self._stored.update(frame)
        self._failed = False

    def add_frame(self, length: int, pieces: Sequence[Piece]) -> None:
        """Note that a frame of `length` bytes holds these chunks, one after the other."""
        self._starts.append(self.stored_bytes)
        self._lengths.append(length)
        self._sizes.append(sum(piece.size for piece in pieces))
        self.stored_bytes += length
        for piece in pieces:
            self._chunks.append(Chunk(piece.digest, self._at, piece.size, piece.base))
            self._at += piece.size

    def add_recipe(self, recipe: Recipe) -> None:
        """Note how a large content is made of chunks."""
        self._recipes.append(recipe)

    def sync(self) -> None:
        """Have what was written so far on the disk; may run beside `add_frame`."""
        self._file.flush()
        os.fsync(self._file.fileno())

    def finalize(self, storage: Storage, *, over: bool = False) -> tuple[str, PackIndex]:
        """Write the index, sync, and give the pack its name in a storage; return name and index.

        A pack of that name is replaced if `over`; else this one gets another.

        Raises:
            OSError: a frame was not written whole; the pack gets no name.
        """
        try:
            return self._finalized(storage, over)
        except BaseException:
            self.abandon()
            raise

    def _finalized(self, storage: Storage, over: bool) -> tuple[str, PackIndex]:
        if self._failed or self._file.tell() != self.stored_bytes:
            raise OSError(errno.EIO, "a frame was not written whole", self._path)
        index = PackIndex(
            self._starts,
            self._lengths,
            self._sizes,
            self._chunks,
            self._recipes,
            self._stored.digest(),
        )
        stored = index.encode(storage.encryption)
        while storage.exists("packs", _name(stored) + PACK_SUFFIX) and not over:
            index = replace(index, again=index.again + 1)
            stored = index.encode(storage.encryption)
        payload = stored + _TRAILER.pack(blake3(stored).digest(), len(stored), _SIGNATURE)
        self._file.write(_HEAD.pack(zstd.SKIPPABLE, len(payload)) + payload)
        self._file.flush()
        os.fsync(self._file.fileno())
        self._file.close()
        name = _name(stored)
        storage.place("packs", name + PACK_SUFFIX, self._path)
        return name, index

    def abandon(self) -> None:
        """Close and remove the unfinished file."""
        with contextlib.suppress(OSError):  # what is left in its buffer may find no room
            self._file.close()
        with contextlib.suppress(FileNotFoundError):
            os.remove(self._path)


def _name(stored: bytes) -> str:
    return blake3(stored).hexdigest()[:32]


def name_of(path: str) -> str:
    """Return the name a pack was given by its index; empty if that is damaged."""
    try:
        return _name(_stored_index(path))
    except (LedgerDamaged, OSError):
        return ""


def read_index(path: str, encryption: Encryption = PLAIN) -> PackIndex:
    """Read the index at the end of a pack.

    Raises:
        LedgerDamaged: the pack is cut short, its index is damaged, or it is under another's name.
    """
    stored = _stored_index(path)
    name, own = _name(stored), os.path.basename(path).removesuffix(PACK_SUFFIX)
    if own != name:
        raise LedgerDamaged(f"this is pack {name} under another name", where=path)
    try:
        return PackIndex.decode(stored, encryption)
    except LedgerDamaged as error:
        raise error.inside(path) from None


def _stored_index(path: str) -> bytes:
    """Return the index of a pack as it is stored, held against its digest."""
    try:
        file = open_regular(path, follow=False)
    except OSError as error:
        if error.errno != errno.EINVAL:
            raise
        raise LedgerDamaged(error.strerror or str(error), where=path) from error
    with file:
        size = file.seek(0, os.SEEK_END)
        if size < _TRAILER.size:
            raise LedgerDamaged("the pack is cut short", where=path)
        file.seek(size - _TRAILER.size)
        digest, length, signature = _TRAILER.unpack(file.read(_TRAILER.size))
        if signature != _SIGNATURE or length > size - _TRAILER.size:
            raise LedgerDamaged("the pack is cut short or no pack of this format", where=path)
        file.seek(size - _TRAILER.size - length)
        stored = file.read(length)
    if blake3(stored).digest() != digest:
        raise LedgerDamaged("the pack's index is damaged", where=path)
    return stored


class PackCheck(Struct, frozen=True):
    """What is wrong with a pack, what it says it holds if that can be read, and what is damaged.

    Of that each part is given by where it starts and ends in what is unpacked.
    """

    faults: list[str]
    found: PackIndex | None = None
    damaged: list[tuple[int, int]] = []  # a struct copies it


def check_pack(path: str, cached: PackIndex | None, encryption: Encryption) -> PackCheck:
    """Hold every byte of a pack against its digests. Safe to call from any thread.

    `cached` is what is known of its frames, to tell what is left where its own index is damaged.
    """
    faults: list[str] = []
    index = None
    try:
        try:
            index = read_index(path, encryption)
        except LedgerDamaged as error:
            faults.append(error.what)
        frames = index or cached
        if frames is None:
            return PackCheck(faults)
        with open_regular(path, buffering=0, follow=False) as file:
            if index is not None and _is_as_written(file, index):
                return PackCheck(faults, index)
            bad = [
                n
                for n in range(len(frames.starts))
                if not _is_whole(file.fileno(), frames, n, encryption)
            ]
    except OSError as error:
        whole = [(0, cached.offsets[-1])] if cached else []
        return PackCheck([f"it cannot be read: {error.strerror}"], None, whole)
    if bad:
        verb = "is" if len(bad) == 1 else "are"
        faults.append(f"{len(bad)} of its {len(frames.starts)} frames {verb} damaged")
    elif not faults:
        faults.append("bytes that carry no content are not as they were written")
    return PackCheck(faults, index, [(frames.offsets[n], frames.offsets[n + 1]) for n in bad])


def _is_as_written(file: BinaryIO, index: PackIndex) -> bool:
    """Tell whether the frames, and the head of the skippable frame behind them, are as written."""
    left = index.starts[-1] + index.lengths[-1] if index.starts else 0
    rest = file.seek(0, os.SEEK_END) - left - _HEAD.size
    file.seek(0)
    digest = blake3()
    while left and (block := file.read(min(BLOCK, left))):
        digest.update(block)
        left -= len(block)
    return digest.digest() == index.stored and file.read(_HEAD.size) == _HEAD.pack(
        zstd.SKIPPABLE, max(rest, 0)
    )


def _is_whole(fd: int, frames: PackIndex, number: int, encryption: Encryption) -> bool:
    try:
        span = frames.starts[number], frames.lengths[number], frames.sizes[number]
        read_frame(fd, *span, encryption)
    except LedgerDamaged:
        return False
    return True


def packed(content: bytes | bytearray | memoryview, encryption: Encryption) -> bytes:
    """Return a frame of content as it is stored. Safe to call from any thread."""
    return encryption.wrapped(zstd.compress(content), _CONTENT)


def read_frame(fd: int, start: int, length: int, size: int, encryption: Encryption) -> bytes:
    """Return the content of one frame of an open pack. Safe to call from any thread.

    Raises:
        LedgerDamaged: the frame is not what was written.
    """
    if hasattr(os, "pread"):
        stored = os.pread(fd, length, start)
    else:  # Windows has no pread, and all who have the file open share its position
        with _POSITION:
            os.lseek(fd, start, os.SEEK_SET)
            stored = b""
            while len(stored) < length and (part := os.read(fd, length - len(stored))):
                stored += part
    content, _ = encryption.content(stored, _CONTENT, size=max(size, 1))
    if len(content) != size:
        raise LedgerDamaged(f"a frame holds {len(content)} bytes where the index says {size}")
    return content

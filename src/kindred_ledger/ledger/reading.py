"""Reading contents: through the packs in order, each frame unpacked once, a few ahead of need.

What always holds: no byte is handed on whose digest was not checked. A chunk that is stored as a
difference is put together with its base, which is stored whole, and then checked like any other.
"""

from __future__ import annotations

import os
from collections import OrderedDict
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from blake3 import blake3

from ..errors import LedgerDamaged
from ..small_files import open_regular
from .index import Index, Location, Span
from .packs import PACK_SUFFIX, read_frame

if TYPE_CHECKING:
    from concurrent.futures import Future

__all__ = ["EMPTY", "Frames", "read_contents"]

EMPTY = blake3(b"").digest()  # the digest of nothing, which is stored nowhere
_WORKERS = max(2, os.cpu_count() or 2)
_AHEAD = 4  # frames unpacked ahead of need
_TRIES = 5  # to follow a chunk from pack to pack while others retire
_HELD = 10  # frames kept after use, of up to 4 MiB: bases are needed again a little later

_Key = tuple[int, int]  # a pack's number in the index, a frame's in the pack
# Where a content begins (pack and offset), its name, its digest, and its chunks if all are there.
_Wanted = tuple[tuple[int, int], str, bytes, tuple[Span, ...] | None]


def read_contents(
    index: Index, wanted: Iterable[tuple[str, bytes]], *, where: str
) -> Iterator[tuple[str, Iterable[bytes]]]:
    """Yield (name, blocks) for each wanted (name, digest), in the order they lie in the packs.

    `where` is what the names are names in, for errors. One content that is damaged or missing
    does not keep the others from being read.

    Raises:
        LedgerDamaged: while the blocks are taken: the content is missing, or its bytes do not
            have its digest.
    """
    plan: list[_Wanted] = []
    asked = list(wanted)
    digests = {digest for _, digest in asked} - {EMPTY}
    found = index.locate_all(digests)
    if len(found) < len(digests):  # others may have written, or moved, what is asked for
        index.sync()
        found = index.locate_all(digests)
    for name, digest in asked:
        places = () if digest == EMPTY else found.get(digest)
        first = (places[0].chunk.pack, places[0].chunk.at) if places else (0, 0)
        plan.append((first, name, digest, places))
    plan.sort(key=lambda item: item[:2])
    with Frames(index, [span.chunk for item in plan for span in item[3] or ()]) as frames:
        for _, name, digest, places in plan:
            if places and places[0].chunk.digest == digest and not places[0].chunk.base:
                try:
                    blocks: Iterable[bytes] = (frames.chunk(places[0].chunk),)
                except LedgerDamaged as error:
                    blocks = _raising(error.inside(f"{where}/{name}"))
            else:
                blocks = _verified(frames, f"{where}/{name}", digest, places)
            yield name, blocks


def _verified(
    frames: Frames, name: str, digest: bytes, places: tuple[Span, ...] | None
) -> Iterator[bytes]:
    if places is None:
        raise frames.missing(digest).inside(name)
    whole = blake3()
    for span in places:
        try:
            part = frames.span(span)
        except LedgerDamaged as error:
            raise error.inside(name) from None
        whole.update(part)
        yield part
    if whole.digest() != digest:
        raise LedgerDamaged("its chunks do not add up to its digest", where=name)


def _raising(error: Exception) -> Iterator[bytes]:
    raise error
    yield b""


class Frames:
    """Unpacked frames; those of `announced` chunks are fetched a few ahead, in that order."""

    def __init__(self, index: Index, announced: Iterable[Location] = ()) -> None:
        self._index = index
        self._lost = index.packs_lost()  # before what is asked for was looked for, or soon after
        self._fds: dict[str, int] = {}
        self.announce(announced)
        self._last: _Key = (-1, -1)
        self._current = (-1, 0, b"")  # the frame read last: its pack, its offset there, its content
        self._held: OrderedDict[_Key, Future[bytes]] = OrderedDict()
        self._checked: tuple[bytes, bytes] = (b"", b"")  # the last chunk: its digest and bytes
        from concurrent.futures import ThreadPoolExecutor

        self._pool = ThreadPoolExecutor(_WORKERS)

    def announce(self, parts: Iterable[Location]) -> None:
        """Have chunks fetched ahead from here on, in this order."""
        self._coming = self._keys(parts)
        self._fetched = self._asked = 0

    def __enter__(self) -> Frames:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of threads and files."""
        self._pool.shutdown(cancel_futures=True)
        for fd in self._fds.values():
            os.close(fd)
        self._fds.clear()

    def chunk(self, part: Location) -> bytes:
        """Return the bytes of a chunk, whose digest was checked.

        Raises:
            LedgerDamaged: with the pack's path.
        """
        digest = part.digest
        if digest == self._checked[0]:
            return self._checked[1]
        for tries_left in range(_TRIES, -1, -1):
            try:
                chunk = self._put_together(part)
                break
            except LedgerDamaged:
                moved = self._moved(part)
                if moved is None or not tries_left:
                    raise
                part = moved
        self._checked = digest, chunk
        return chunk

    def _put_together(self, part: Location) -> bytes:
        chunk = self._stored(part)
        if part.base:
            chunk = _combined(chunk, self._stored(self.base_of(part)))
        if blake3(chunk).digest() != part.digest:
            raise LedgerDamaged("a chunk does not have its digest", where=self._file(part.pack))
        return chunk

    def _moved(self, part: Location) -> Location | None:
        """Return where a chunk lies now if packs went away since it was looked for: some were rewritten."""
        self._index.sync()
        before, self._lost = self._lost, self._index.packs_lost()
        found = self._index.chunk(part.digest)
        return found if found != part or self._lost != before else None

    def span(self, span: Span) -> bytes:
        """Return some bytes of a chunk, whose digest was checked; see `chunk`."""
        chunk = self.chunk(span.chunk)
        whole = span.length == len(chunk)
        return chunk if whole else chunk[span.start : span.start + span.length]

    def missing(self, digest: bytes) -> LedgerDamaged:
        """Return the error for a content that no pack holds."""
        unread = [str(error) for error in self._index.damaged.values()]
        return LedgerDamaged(
            f"its content {digest.hex()[:16]}… is not in the ledger",
            remedy="\n".join([*unread, "Bring the pack back from a copy of the ledger."])
            if unread
            else "A pack may be missing; bring it back from a copy of the ledger.",
        )

    def base_of(self, part: Location) -> Location:
        """Return the chunk another is a difference from; a chunk that is stored whole is its own.

        Raises:
            LedgerDamaged: with the pack's path: the base is missing.
        """
        if not part.base:
            return part
        base = self._index.chunk(part.base)
        if base is None or base.base:
            raise LedgerDamaged(
                f"the base {part.base.hex()[:16]}… of a chunk is missing",
                where=self._file(part.pack),
            )
        return base

    def _stored(self, part: Location) -> bytes:
        pack, offset, content = self._current
        if pack == part.pack and offset <= part.at < offset + len(content):
            start = part.at - offset
            return content if len(content) == part.size else content[start : start + part.size]
        _, frames = self._index.frames(part.pack)
        number = frames.frame_at(part.at)
        try:
            content = self._frame((part.pack, number))
        except (
            LedgerDamaged
        ) as error:  # the frame's own, raised for every chunk in it: a new one each
            where = self._file(part.pack)
            raise LedgerDamaged(error.what, where=where, remedy=error.remedy) from None
        self._current = part.pack, frames.offsets[number], content
        start = part.at - frames.offsets[number]
        return content if len(content) == part.size else content[start : start + part.size]

    def _frame(self, key: _Key) -> bytes:
        if key != self._last:
            self._last = key
            self._asked += 1
            while self._fetched - self._asked < _AHEAD and (coming := next(self._coming, None)):
                self._fetched += 1
                self._fetch(coming)
        return self._fetch(key).result()

    def _fetch(self, key: _Key) -> Future[bytes]:
        future = self._held.get(key)
        if future is None:
            # here, not in the thread: SQLite stays on its own
            name, frames = self._index.frames(key[0])
            future = self._pool.submit(
                self._unpack,
                name,
                (frames.starts[key[1]], frames.lengths[key[1]], frames.sizes[key[1]]),
            )
            self._held[key] = future
            if len(self._held) > _HELD:
                self._held.popitem(last=False)
        else:
            self._held.move_to_end(key)
        return future

    def _keys(self, parts: Iterable[Location]) -> Iterator[_Key]:
        last: _Key = (-1, -1)
        for part in parts:
            bases = (self._index.chunk(part.base),) if part.base else ()
            for one in (part, *bases):
                if one is None:
                    continue
                try:
                    key = one.pack, self._index.frames(one.pack)[1].frame_at(one.at)
                except LedgerDamaged:  # it went away: whoever needs it looks where it is now
                    continue
                if key != last:
                    last = key
                    yield key

    def _unpack(self, name: str, span: tuple[int, int, int]) -> bytes:
        if name not in self._fds:
            path = self._index.pack_path(name)
            try:
                with open_regular(path, buffering=0, follow=False) as file:
                    fd = os.dup(file.fileno())
            except OSError as error:
                raise LedgerDamaged(f"the pack cannot be opened: {error}", where=path) from error
            if self._fds.setdefault(name, fd) != fd:
                os.close(fd)
        return read_frame(self._fds[name], *span, self._index.storage.encryption)

    def _file(self, pack: int) -> str:
        """Return how to name a pack in an error."""
        name, _ = self._index.frames(pack)
        return f"{self._index.storage.location}/packs/{name}{PACK_SUFFIX}"


def _combined(difference: bytes, base: bytes) -> bytes:
    """Return the bytes of which `difference` is the exclusive or with `base`, cut or padded."""
    # Whole numbers of any length are the one type without imports that does this at memory speed.
    both = int.from_bytes(difference, "little") ^ int.from_bytes(base[: len(difference)], "little")
    return both.to_bytes(len(difference), "little")

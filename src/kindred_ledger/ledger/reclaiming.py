"""Reclaiming: space of what no entry needs any more, given back by rewriting packs.

What always holds: a pack goes only when all that any entry needs of it lies, durably, in others; and
what packs hold is taken from their own indexes, never from the cache. Packs that are to go are
condemned before writers that were at work are waited for, so none can come to need them (see
`sessions`). A cut at any moment leaves more than is needed, and the next run takes it away.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Mapping

from msgspec import Struct, field

from ..errors import LedgerDamaged
from ..progress import Progress
from ..small_files import open_regular
from .ledger import Ledger
from .manifest import digests_of
from .packs import (
    PACK_SUFFIX,
    Chunk,
    PackIndex,
    PackWriter,
    Piece,
    Recipe,
    check_pack,
    packed,
    read_frame,
    read_index,
)
from .reading import EMPTY

__all__ = ["Reclaimable", "Reclaimed", "reclaim", "reclaimable"]

_WORTH = 0.1  # of a pack's content must be of no use for it to be rewritten: less is not worth the reading
_FRAME = 1 << 20  # as writers make them
_PACK = 64 << 20
_PATIENCE_SECONDS = 60.0  # for writers that were at work


class Reclaimable(Struct, frozen=True):
    """What would be given back: packs that go, packs that are rewritten, about how many bytes."""

    unused: tuple[str, ...]
    sparse: tuple[str, ...]
    size_bytes: int


class Reclaimed(Struct, frozen=True):
    """What was done: packs deleted and written, bytes given back, packs that wait for a writer."""

    deleted: int
    written: int
    size_bytes: int
    waiting: int = 0


class _Needs(Struct):
    """What is needed of each pack, by name: chunks and recipes, by digest; and what no pack has."""

    chunks: dict[str, set[bytes]] = field(default_factory=dict)
    recipes: dict[str, set[bytes]] = field(default_factory=dict)
    missing: set[bytes] = field(default_factory=set)

    def of(self, name: str) -> bool:
        return name in self.chunks or name in self.recipes


class _Packs:
    """What packs hold, by their own indexes. Those in `condemned` are the last to be chosen."""

    def __init__(self, indexes: Mapping[str, PackIndex], condemned: frozenset[str]) -> None:
        self.indexes = indexes
        self._chunks: dict[bytes, tuple[bool, bool, str, bytes]] = {}
        self._recipes: dict[bytes, list[tuple[str, Recipe]]] = {}
        for name in sorted(indexes, key=lambda name: (name in condemned, name)):
            for chunk in indexes[name].chunks:
                found = bool(chunk.base), name in condemned, name, chunk.base
                known = self._chunks.get(chunk.digest)
                if known is None or found < known:
                    self._chunks[chunk.digest] = found
            for recipe in indexes[name].recipes:
                self._recipes.setdefault(recipe.digest, []).append((name, recipe))

    def needs(self, contents: Iterable[bytes]) -> _Needs:
        """Return what of which pack some contents need."""
        needs = _Needs()
        for digest in contents:
            if digest == EMPTY or self._take(digest, needs):
                continue
            for name, recipe in self._recipes.get(digest, ()):
                if all(self._take(part.digest, needs) for part in recipe.slices):
                    needs.recipes.setdefault(name, set()).add(digest)
                    break
            else:
                needs.missing.add(digest)
        return needs

    def _take(self, digest: bytes, needs: _Needs) -> bool:
        """Note that a chunk is needed, and its base; tell whether both are there."""
        found = self._chunks.get(digest)
        if found is None:
            return False
        _, _, name, base = found
        if base and (base not in self._chunks or self._chunks[base][3]):
            return False
        needs.chunks.setdefault(name, set()).add(digest)
        return not base or self._take(base, needs)


def reclaimable(ledger: Ledger, *, without: Iterable[str] = ()) -> Reclaimable:
    """Return what would be given back if the entries of some ids were gone.

    Raises:
        LedgerDamaged: something that an entry needs is in no pack that can be read.
    """
    plan = _Plan(ledger, frozenset(without))
    sizes = plan.sizes
    unused = [name for name in plan.doomed if not plan.needs.of(name)]
    sparse = [name for name in plan.doomed if plan.needs.of(name)]
    saved = sum(sizes[name] for name in unused)
    saved += sum(round(sizes[name] * (1 - plan.used_share(name))) for name in sparse)
    return Reclaimable(tuple(unused), tuple(sparse), saved)


def reclaim(
    ledger: Ledger,
    *,
    patience_seconds: float = _PATIENCE_SECONDS,
    progress: Progress | None = None,
) -> Reclaimed:
    """Rewrite packs that hold much that no entry needs, and delete what no entry needs.

    To be called by one process at a time (`Storage.deleting`). Packs that a writer at work may rely
    on are left, and counted as `waiting`, if that does not end within the patience.

    Raises:
        LedgerDamaged: something that an entry needs is in no pack that can be read; nothing was
            deleted.
    """
    sessions = ledger.sessions
    with sessions.hold() as session:
        plan = _Plan(ledger, frozenset())
        rewriting = _Rewriting(ledger, session, progress or Progress())
        written = rewriting.run(plan)
        doomed = [name for name in plan.doomed if name not in written]
        sessions.condemn(doomed)
        ended = sessions.await_end(sessions.under_way(), patience_seconds=patience_seconds)
        if not ended:
            return Reclaimed(0, len(written), 0, len(doomed))
        needed = _needed_now(ledger, plan, frozenset(doomed))
        sessions.acquit(name for name in doomed if needed.of(name))
        gone = [name for name in doomed if not needed.of(name)]
        ledger.storage.remove("packs", [name + PACK_SUFFIX for name in gone])
        sessions.acquit(sessions.condemned())
        ledger.index.sync(avoid=frozenset())
    saved = sum(plan.sizes[name] for name in gone) - sum(written.values())
    return Reclaimed(len(gone), len(written), saved)


def _needed_now(ledger: Ledger, plan: _Plan, doomed: frozenset[str]) -> _Needs:
    """Return what is needed of which pack, now that no writer is left who does not know the doomed."""
    ledger.storage.refresh()
    new = frozenset(ledger.manifest_stores["entries"].ids()) - plan.entries
    contents = plan.contents | _contents(ledger, new)
    indexes = dict(plan.packs.indexes)
    for name in _names(ledger):  # after the entries: what they need was there before them
        if name not in indexes:
            with contextlib.suppress(LedgerDamaged, FileNotFoundError):
                indexes[name] = read_index(
                    ledger.storage.tail(name + PACK_SUFFIX), ledger.storage.encryption
                )
    needs = _Packs(indexes, doomed).needs(contents)
    if needs.missing:
        raise _lost(needs.missing)
    return needs


class _Plan:
    """Which packs are to go, and what is needed of them."""

    def __init__(self, ledger: Ledger, without: frozenset[str]) -> None:
        # Entries before packs: what they need was there before them.
        ledger.storage.refresh()
        began = [ledger.sessions.began(name) for name in ledger.sessions.under_way()]
        self.entries = frozenset(ledger.manifest_stores["entries"].ids()) - without
        indexes: dict[str, PackIndex] = {}
        self.sizes: dict[str, int] = {}
        young = set()
        for name in _names(ledger):
            with contextlib.suppress(LedgerDamaged):  # what is damaged is for `heal`
                indexes[name] = read_index(
                    ledger.storage.tail(name + PACK_SUFFIX), ledger.storage.encryption
                )
                self.sizes[name], changed = ledger.storage.stat("packs", name + PACK_SUFFIX)
                if any(changed >= start for start in began):
                    young.add(name)  # likely a writer's at work, which has not entered it yet
        self.packs = _Packs(indexes, ledger.sessions.condemned())
        self.contents = _contents(ledger, self.entries)
        self.needs = self.packs.needs(self.contents)
        if self.needs.missing:
            raise _lost(self.needs.missing)
        self.doomed = [
            name for name in indexes if name not in young and self.used_share(name) <= 1 - _WORTH
        ]

    def used_share(self, name: str) -> float:
        """Return how much of a pack's content is needed, from 0 to 1."""
        if not self.needs.of(name):
            return 0.0
        index = self.packs.indexes[name]
        needed = self.needs.chunks.get(name, ())
        used = sum(chunk.size for chunk in index.chunks if chunk.digest in needed)
        return used / index.offsets[-1] if index.offsets[-1] else 1.0  # it holds recipes alone


class _Rewriting:
    """Writes what is needed of the packs that are to go into new ones."""

    def __init__(self, ledger: Ledger, session: str, progress: Progress) -> None:
        self._ledger = ledger
        self._session = session
        self._progress = progress
        self._writer: PackWriter | None = None
        self._number = 0
        self._written: dict[str, int] = {}
        self._plain = _Gathered()
        self._differences = _Gathered()

    def run(self, plan: _Plan) -> dict[str, int]:
        """Return the names of the packs that were written, with their sizes."""
        sparse = [name for name in plan.doomed if plan.needs.of(name)]
        total = sum(plan.sizes[name] for name in sparse)
        try:
            with self._progress.task("rewriting packs", total=total, unit="bytes") as task:
                for name in sparse:
                    self._take(name, plan)
                    task.advance(plan.sizes[name])
            self._flush(self._plain)
            self._flush(self._differences)
            self._finalize()
        except BaseException:
            if self._writer is not None:
                self._writer.abandon()
            raise
        return self._written

    def _take(self, name: str, plan: _Plan) -> None:
        path = self._ledger.index.pack_path(name)
        encryption = self._ledger.storage.encryption
        faults = check_pack(path, None, encryption).faults
        if faults:
            raise LedgerDamaged(faults[0], where=path, remedy=_HEAL)
        index = plan.packs.indexes[name]
        needed = plan.needs.chunks.get(name, set())
        frames: dict[int, list[Chunk]] = {}
        for chunk in index.chunks:
            frames.setdefault(index.frame_at(chunk.at), []).append(chunk)
        with open_regular(path, buffering=0, follow=False) as file:
            for number, chunks in sorted(frames.items()):
                live = [chunk for chunk in chunks if chunk.digest in needed]
                span = index.starts[number], index.lengths[number], index.sizes[number]
                if len(live) == len(chunks):
                    file.seek(span[0])
                    self._add_frame(file.read(span[1]), [_piece(chunk) for chunk in live])
                elif live:
                    self._gather(
                        read_frame(file.fileno(), *span, self._ledger.storage.encryption),
                        index.offsets[number],
                        live,
                    )
        wanted = plan.needs.recipes.get(name, ())
        for recipe in index.recipes:
            if recipe.digest in wanted:
                self._open().add_recipe(recipe)

    def _gather(self, content: bytes, offset: int, chunks: Iterable[Chunk]) -> None:
        for chunk in chunks:
            block = self._differences if chunk.base else self._plain
            block.data += content[chunk.at - offset : chunk.at - offset + chunk.size]
            block.pieces.append(_piece(chunk))
            if len(block.data) >= _FRAME:
                self._flush(block)

    def _flush(self, block: _Gathered) -> None:
        if block.pieces:
            self._add_frame(packed(block.data, self._ledger.storage.encryption), block.pieces)
            block.data, block.pieces = bytearray(), []

    def _add_frame(self, frame: bytes, pieces: list[Piece]) -> None:
        writer = self._open()
        writer.add_frame(len(frame), pieces)
        writer.write(frame)
        if writer.stored_bytes >= _PACK:
            self._finalize()

    def _open(self) -> PackWriter:
        if self._writer is None:
            self._number += 1
            self._writer = PackWriter(f"{self._session}-{self._number}")
        return self._writer

    def _finalize(self) -> None:
        if self._writer is not None:
            name, index = self._writer.finalize(self._ledger.storage)
            self._writer = None
            self._ledger.index.add(name, index)
            self._written[name], _ = self._ledger.storage.stat("packs", name + PACK_SUFFIX)


class _Gathered(Struct):
    """Chunks from frames of which others are not needed."""

    data: bytearray = field(default_factory=bytearray)
    pieces: list[Piece] = field(default_factory=list)


_HEAL = "Mend it first: kindred ledger heal. Nothing was deleted."


def _lost(missing: set[bytes]) -> LedgerDamaged:
    number = "1 content" if len(missing) == 1 else f"{len(missing):,} contents"
    return LedgerDamaged(f"{number} that entries need cannot be read from any pack", remedy=_HEAL)


def _contents(ledger: Ledger, entries: Iterable[str]) -> set[bytes]:
    """Return the digests of what entries hold."""
    contents: set[bytes] = set()
    for id in entries:
        try:
            contents.update(digests_of(ledger.manifest_stores["entries"].read(id)[1]["tree"]))
        except LedgerDamaged as error:
            if ledger.is_retired(id):
                continue  # just now
            raise LedgerDamaged(error.what, where=error.where, remedy=_HEAL) from error
    return contents


def _names(ledger: Ledger) -> list[str]:
    names = ledger.storage.names("packs")
    return [name.removesuffix(PACK_SUFFIX) for name in names if name.endswith(PACK_SUFFIX)]


def _piece(chunk: Chunk) -> Piece:
    return Piece(chunk.digest, chunk.size, chunk.base)

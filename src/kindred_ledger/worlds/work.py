"""The work on the files of a world: one by one, here or by any executor, in bounded memory.

What always holds: the result of a file depends on nothing but the file and the two lists, so that it can be
made again whenever it is needed. Large results that took long, those in compressed blocks, are kept in the
ledger's cache of results until they are in place, so that work that was cut off goes on where it stopped.
"""

from __future__ import annotations

import os
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future
from functools import lru_cache, partial
from typing import Any

import msgspec
from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ..cards import Card
from ..cards.worlds import WorldKind
from ..convert.bulk import ResultCache, results_of
from ..errors import BooksUnbalanced, FormatError
from ..ledger import Ledger
from ..places import Capable, FolderPlace, MemoryPlace, Place, Seen, Tree
from ..progress import Progress
from .file_ids import FileIds, Tally
from .opened import OpenedWorld
from .translation import Translation

__all__ = [
    "FileCall", "FileDone", "RemapWork", "Results", "run_all", "run_files", "tally_from", "told_of",
]  # fmt: skip

_IN_MEMORY = 64 << 20  # bytes of a world whose results are kept in memory
_AHEAD = 2  # files read for each worker

Counted = tuple[tuple[str, str, int, int], ...]  # a tally as plain values


class RemapWork(Struct, frozen=True):
    """How worlds are looked at and remapped: by which executor, with so many workers; None: here.

    Worlds of up to `in_memory` bytes are kept in memory until they are in place. Processes are worth it for
    large worlds in compressed blocks; plain arrays are as fast as they can be read.

    >>> kl.RemapWork(in_memory=0).workers
    1
    """

    executor: Executor | None = None
    workers: int = 1
    in_memory: int = _IN_MEMORY


class FileCall(Struct, frozen=True):
    """What is done with one file; it goes to other processes, so it is a value.

    `card` is the path of the card, which was changed at `changed_ns`, and `kind` the kind of world.
    """

    card: str
    changed_ns: int
    kind: str
    any_case: bool

    def __call__(self, path: str, data: bytes) -> Any:
        """Do it in a process that does not have the card yet."""
        card, kind = _kind(self.card, self.changed_ns, self.kind, self.any_case)
        return self.here(card, kind, path, data)

    def here(self, card: Card, kind: WorldKind, path: str, data: bytes) -> Any:
        """Do it with a card that was read."""
        raise NotImplementedError


def told_of(opened: OpenedWorld) -> tuple[str, int, str, bool]:
    """Return the first four fields of a call for the files of a world."""
    path = opened.card.path
    return path, os.stat(path).st_mtime_ns, opened.kind.name, opened.kind.any_case


def run_files(
    opened: OpenedWorld,
    call: FileCall,
    paths: Iterable[str],
    *,
    work: RemapWork,
    progress: Progress,
) -> Iterator[Any]:
    """Yield what a call gives for files of a world, in the order they are read."""
    contents = opened.contents(paths, progress)
    if work.executor is None:
        for path, data in contents:
            progress.check()
            yield call.here(opened.card, opened.kind, path, data)
        return
    waiting: deque[Future[Any]] = deque()
    try:
        for path, data in contents:
            progress.check()
            waiting.append(work.executor.submit(call, path, data))
            while len(waiting) >= _AHEAD * work.workers:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        for future in waiting:
            future.cancel()


class FileDone(Struct, frozen=True):
    """A file that was remapped, or stays as it is; its ids before and after, and what went with rows.

    `how` says where the result is: in "memory", in the "cache", or made "again" when it is needed.
    """

    path: str
    changed: bool
    how: str = ""
    key: str = ""
    size_bytes: int = 0
    digest: bytes = b""
    before: Counted = ()
    after: Counted = ()
    gone_with: Counted = ()
    data: bytes = b""


class Results:
    """What became of the files of a world, and where the new ones are."""

    def __init__(self, done: Iterator[FileDone], again: Place, cache: ResultCache) -> None:
        self._memory = MemoryPlace({})
        self._places: dict[str, Place] = {
            "memory": self._memory, "again": again, "cache": FolderPlace(cache.folder)
        }  # fmt: skip
        self._cache, self._taken = cache, list[str]()
        self.done = self._noting(done)

    def _noting(self, done: Iterator[FileDone]) -> Iterator[FileDone]:
        for each in done:
            if each.how == "memory":
                self._memory.contents[each.path] = each.data
            elif each.how == "cache":
                self._taken.append(each.key)
            yield each

    def source_of(self, done: FileDone) -> tuple[Place, str]:
        """Return where the content of a file is, and under which path."""
        return self._places[done.how], done.key if done.how == "cache" else done.path

    @property
    def clear(self) -> Callable[[], None] | None:
        """What removes results that are in place; None if there is nothing to remove."""
        return partial(self._cache.clear, self._taken) if self._taken else None


def tally_from(counted: Counted) -> Tally:
    """Return plain values as a tally again."""
    return Counter({(name, kind, number): many for name, kind, number, many in counted})


def _plain(tally: Tally) -> Counted:
    return tuple((*item, many) for item, many in sorted(tally.items()))


def run_all(
    opened: OpenedWorld,
    translations: Mapping[str, Translation],
    paths: Sequence[str],
    *,
    work: RemapWork,
    ledger: Ledger,
    progress: Progress,
) -> Results:
    """Remap files of a world, one after another as they are asked for."""
    cache = results_of(ledger, opened.world.place)
    total = sum(opened.tree[opened.full(path)].size for path in paths)
    small = total <= work.in_memory
    if not small:
        cache.tidy()
    folder = "" if small else cache.folder
    call = _Remap(*told_of(opened), dict(translations), folder, _digest_of(translations))
    done = run_files(opened, call, paths, work=work, progress=progress)
    return Results(done, _Again(opened, call), cache)


class _Remap(FileCall, frozen=True):
    """Remaps one file."""

    translations: dict[str, Translation]
    folder: str  # of the cache; "": results are handed back
    meant: bytes  # digest of what the translations mean

    def here(self, card: Card, kind: WorldKind, path: str, data: bytes) -> FileDone:
        ids = self.opened(card, kind, path, data)
        if ids is None:
            return FileDone(path, False)
        packed = bool(self.folder) and ids.is_packed
        cache, key = ResultCache(self.folder), self._key(path, data) if packed else ""
        if packed and (found := cache.find(key, FileDone)) is not None:
            return found
        before = ids.tally()
        made = ids.translated(self.translations)
        after = before if made.data == data else self._after(card, kind, path, made.data)
        old = {name: each.found.old for name, each in self.translations.items()}
        new = {name: each.found.new for name, each in self.translations.items()}
        before = before + ids.names_in_texts(old)
        if made.data == data:  # the same names, by the new numbers
            after = after + ids.names_in_texts(new)
        done = FileDone(
            path,
            made.data != data,
            "memory" if not self.folder else "cache" if packed else "again",
            key,
            len(made.data),
            blake3(made.data).digest(),
            _plain(before),
            _plain(after),
            _plain(made.gone_with),
        )
        if done.changed and packed:
            cache.put(done, made.data)
        return replace(done, data=made.data) if done.how == "memory" else done

    def made(self, card: Card, kind: WorldKind, path: str, data: bytes) -> bytes:
        """Return the result of a file alone."""
        ids = self.opened(card, kind, path, data)
        return data if ids is None else ids.translated(self.translations).data

    @staticmethod
    def opened(card: Card, kind: WorldKind, path: str, data: bytes) -> FileIds | None:
        try:
            return FileIds.open(path, data, kind, card)
        except FormatError as error:
            raise error.inside(path) from None

    def _after(self, card: Card, kind: WorldKind, path: str, data: bytes) -> Tally:
        """Return the ids of a file that was made, read anew."""
        try:
            again = FileIds.open(path, data, kind, card)
        except FormatError as error:
            raise BooksUnbalanced(
                f"what was made of it cannot be read again: {error.what}", where=path
            ) from error
        assert again is not None
        lists = {name: each.found.new for name, each in self.translations.items()}
        return again.tally() + again.names_in_texts(lists)

    def _key(self, path: str, data: bytes) -> str:
        told = ["remap", self.kind, self.changed_ns, path, blake3(data).digest(), self.meant]
        return blake3(msgspec.json.encode(told)).hexdigest()[:40]


def _digest_of(translations: Mapping[str, Translation]) -> bytes:
    lists = {
        name: [
            dict(each.found.old.numbers),
            dict(each.found.new.numbers),
            sorted(each.numbers.items()),
            sorted(each.removed),
        ]
        for name, each in translations.items()
    }
    return blake3(msgspec.json.encode(lists)).digest()


@lru_cache(maxsize=4)
def _kind(path: str, changed_ns: int, name: str, any_case: bool) -> tuple[Card, WorldKind]:
    card = Card.load(path).bound(None, any_case=any_case)
    return card, card.worlds[name]


class _Again(Capable):
    """The files of a world as they will be, each made again when it is read."""

    def __init__(self, opened: OpenedWorld, call: _Remap) -> None:
        self._opened, self._call = opened, call

    @property
    def location(self) -> str:
        return self._opened.world.place.location

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return nothing: what it holds is asked for by name."""
        return Tree()

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield files as they will be."""
        opened = self._opened
        for path, data in opened.contents(paths):
            yield path, (self._call.made(opened.card, opened.kind, path, data),)

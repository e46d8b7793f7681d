"""Storing: making the contents of a tree durable, as they are when they hold still.

Files that change while they are read are read again; those that went away leave the tree, and those
that became something else enter it as that. A database in use is read as SQLite hands it out. What
the ledger is known to hold is not even looked up, let alone read.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import NamedTuple

from ..os_names import as_text
from ..places import (
    FILE,
    Node,
    Place,
    Seen,
    Tree,
    discard,
    folders_of,
    parents,
    refusals,
    roots_of,
)
from ..places.databases import COMPANIONS, steady
from ..progress import Progress
from .index import Index
from .preparing import Batch, Ended
from .reading import EMPTY
from .sessions import Sessions
from .writing import ContentWriter

__all__ = ["Stored", "Storing", "key_of"]

_LARGE = 64 << 10  # bytes; what was kept under the paths of larger files is remembered
_TRIES = 3  # readings of a file that will not hold still


class Stored(NamedTuple):
    """A tree with every digest, what of it did not settle, and the databases that were captured."""

    tree: Tree
    unsettled: tuple[str, ...] = ()
    captured: tuple[str, ...] = ()


class Storing:
    """Stores contents in the packs of the ledger at `root`."""

    def __init__(self, root: str, index: Index, sessions: Sessions) -> None:
        self._root = root
        self._index = index
        self._sessions = sessions
        self._condemned: frozenset[str] = frozenset()

    @contextlib.contextmanager
    def session(self) -> Iterator[Callable[[], bool]]:
        """Store what something is to refer to, in this block and as long as what is given says so.

        It gives True at first, and again each time packs were condemned meanwhile: then what was
        stored already, or taken for stored, may have to be stored once more.
        """
        with self._sessions.hold():
            first = True

            def again() -> bool:
                nonlocal first
                condemned = self._sessions.condemned()
                if not first and condemned <= self._condemned:
                    return False
                if first:
                    self._index.storage.refresh()
                first, self._condemned = False, condemned
                self._index.sync(avoid=condemned)
                return True

            yield again

    def store_live(
        self, place: Place, tree: Tree, seen: Seen, whole: Tree, watch: Progress
    ) -> Stored:
        """Store what of a place is in `tree`, its databases in use as SQLite hands them out.

        `whole` is all the place holds: what lies beside a database may be left out of `tree`.
        """
        databases = [path for path in _databases_in_use(whole) if path in tree]
        torn: tuple[str, ...] = ()
        if not databases:
            tree, torn, _ = self.store(place, tree, seen, watch)
            databases = list(torn)  # those that are databases can still be had whole
            if not databases:
                return Stored(tree)
        with self._sessions.hold() as session:
            scratch = f"{session}-captured"
            try:
                source, captured, moving = steady(place, databases, scratch)
                now = source.survey()
                companions = {path + end for path in captured for end in COMPANIONS}
                tree = tree.select(lambda path: path not in companions)
                tree = tree.overlay({path: now[path] for path in captured if path in now})
                tree, unsettled, _ = self.store(source, tree, seen, watch, key=key_of(place))
                seen.forget(captured)  # what is kept of them is not what lies there
            finally:
                discard(scratch)
        doubtful = {*torn, *unsettled, *(path for path in moving if path in tree)}
        return Stored(tree, tuple(sorted(doubtful - set(captured))), tuple(captured))

    def store(
        self, place: Place, tree: Tree, seen: Seen | None, watch: Progress, *, key: str = ""
    ) -> Stored:
        """Store what of a place is in `tree`, byte for byte; `key` is what it is remembered under."""
        key = key or key_of(place)
        left = self._missing(tree, seen)
        if not left:
            return Stored(tree)
        total = sum(tree[path].size for path in left)
        before = self._stood_before(key, (path for path in left if tree[path].size > _LARGE))
        stored: dict[str, Node] = {}
        unsettled: set[str] = set()
        with self._writer() as writer, watch.task("keeping", total=total, unit="bytes") as task:
            for attempt in range(_TRIES):
                last = attempt == _TRIES - 1
                found: dict[str, Node] = {}
                again: list[str] = []
                for some in _by_size(place, tree, left):
                    sizes = {path: tree[path].size for path in some}
                    storing = writer.add(place.read(some), sizes, before, as_read=last)
                    with contextlib.closing(storing) as ends:
                        for end in ends:
                            task.advance(_take_over(end, tree, found, again, seen, last))
                stored |= found
                if last:
                    unsettled = {path for path in again if path in found}
                    again = [path for path in again if path not in found]
                tree = _without(tree, again).overlay(found)
                if not again or last:
                    break
                time.sleep(0.05)
                now = place.survey(seen=seen)
                there = {path: now[path] for path in _at_or_under(now, again)}
                tree = tree.overlay(there)
                left = [path for path, node in there.items() if node.kind == FILE]
        large = {p: n.digest for p, n in stored.items() if n.digest and n.size > _LARGE}
        self._index.remember_stored(key, large)
        return Stored(tree, tuple(sorted(unsettled)))

    def _missing(self, tree: Tree, seen: Seen | None) -> list[str]:
        """Return the files whose content the ledger does not hold, or is not known to hold."""
        unread = [p for p, node in tree.items() if node.digest is None and node.kind == FILE]
        doubted = seen.not_kept(tree) if seen is not None and not self._condemned else set(tree)
        names = sorted(doubted.union(unread))
        doubtful = {path: tree[path] for path in names if tree[path].kind == FILE}
        digests = (node.digest for node in doubtful.values() if node.digest)
        held = {EMPTY, *self._index.locate_all(digests, lasting=True)}
        return [path for path, node in doubtful.items() if node.digest not in held]

    def _stood_before(self, key: str, paths: Iterable[str]) -> Mapping[str, bytes]:
        """Return what was kept last under paths of a place, else under the same of another."""
        before = self._index.stored(key)
        return before | self._index.stored_elsewhere(path for path in paths if path not in before)

    @contextlib.contextmanager
    def _writer(self) -> Iterator[ContentWriter]:
        with self._sessions.hold() as session, refusals(self._root):
            writer = ContentWriter(self._index, part=session)
            try:
                yield writer
                writer.close()
            except BaseException:
                writer.abandon()
                raise


def key_of(place: Place) -> str:
    """Return what a place's digests are remembered under: paths differ with its parts."""
    return as_text("\n".join(f"{name}={root}" for name, root in sorted(roots_of(place).items())))


def _databases_in_use(tree: Tree) -> list[str]:
    beside = [path for path in tree.files if path.endswith(COMPANIONS)]
    found = {path.removesuffix(end) for path in beside for end in COMPANIONS if path.endswith(end)}
    return sorted(found & tree.keys())


def _by_size(place: Place, tree: Tree, paths: list[str]) -> list[list[str]]:
    """Return the small files and the large ones, which are read in different ways, where one may choose."""
    if not folders_of(place):
        return [paths]
    small = [path for path in paths if tree[path].size <= _LARGE]
    large = [path for path in paths if tree[path].size > _LARGE]
    return [some for some in (small, large) if some]


def _take_over(
    end: Ended | Batch,
    tree: Tree,
    found: dict[str, Node],
    again: list[str],
    seen: Seen | None,
    last: bool,
) -> int:
    """Sort what was stored into `found` and what is to be read `again`; return the bytes taken.

    The `last` time what did not settle is in both.
    """
    ends: Iterable[tuple[str, bytes | None, int, bool]]
    taken = 0
    learned = []
    if isinstance(end, Batch):
        ends = []
        for path, digest, data in end.files:
            size, node = len(data), tree[path]
            if size == node.size:
                found[path] = node.with_digest(digest)
                learned.append((path, digest))
                taken += size
            else:
                ends.append((path, digest, size, False))
    else:
        ends = [(end.path, end.digest, end.size, end.held_still)]
    for path, whole, size, held_still in ends:
        node = tree[path]
        if whole is not None and held_still and size == node.size:
            found[path] = node.with_digest(whole)
            learned.append((path, whole))
        else:
            again.append(path)
            if last and whole is not None:
                found[path] = node._replace(size=size, digest=whole)
        taken += size
    if seen is not None:
        seen.learn(learned, end.read_at_ns)
    return taken


def _without(tree: Tree, paths: Iterable[str]) -> Tree:
    gone = set(paths)
    return Tree({path: node for path, node in tree.items() if path not in gone}) if gone else tree


def _at_or_under(tree: Tree, paths: Iterable[str]) -> list[str]:
    """Return what stands at some paths now, and below them where they became folders."""
    wanted = set(paths)
    return [p for p in tree if p in wanted or any(folder in wanted for folder in parents(p))]

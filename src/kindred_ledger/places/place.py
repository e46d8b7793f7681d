"""Place: somewhere files live. Three members are all a place needs to be read.

`survey` looks without reading contents, `read` streams contents in the order that is fastest for
the place, and `location` says where it is. Everything else is built on these, so a new kind of
place is one new module.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from typing import Protocol

from blake3 import blake3

from ..errors import PlaceChanged, UsageError
from ..progress import Progress, Task
from .seen import Seen
from .tree import FILE, Node, Tree

__all__ = ["BLOCK", "Place", "digest_of", "digested", "read_bytes", "scan"]

BLOCK = (
    4 << 20
)  # bytes streamed at a time: large enough for the hash and the compressor to run free
_BATCH = 256  # files whose digests are handed over at once
_THREADS = 2  # more fight over the interpreter lock in the work between the hashes
_WORTH_THREADS = 32 << 20
_LARGE = 64 << 10  # bytes a file: below, most of the time goes into what threads cannot share


class Place(Protocol):
    """What every place offers.

    >>> place = kl.open_place("downloads/mossferry-1.4.zip")
    >>> "mossferry-1.4/version.txt" in kl.scan(place)
    True
    """

    @property
    def location(self) -> str:
        """Where the place is, as shown to people."""
        ...

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree with the digests that need no reading; None for the others."""
        ...

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield each file with its content in blocks, in the place's own fastest order.

        The blocks of a file must be consumed before the next is asked for. Of one that changes
        while it is read, all that was read is given before `PlaceChanged` is raised.
        """
        ...


def scan(
    place: Place, *, seen: Seen | None = None, progress: Progress | None = None, tries: int = 3
) -> Tree:
    """Return the tree of a place with all digests, reading only what `seen` does not know.

    Raises:
        PlaceError: a file cannot be read.
        PlaceChanged: a file still changes while it is read after `tries` readings.

    >>> tree = kl.scan(kl.FolderPlace("server"))
    >>> len(tree.files)
    9
    """
    return digested(
        place, lambda: place.survey(seen=seen), seen=seen, progress=progress, tries=tries
    )


def digested(
    place: Place,
    survey: Callable[[], Tree],
    *,
    seen: Seen | None,
    progress: Progress | None,
    tries: int = 3,
) -> Tree:
    """Return what `survey` finds in a place with all digests; see `scan`.

    Raises:
        PlaceChanged: a file still changes while it is read.
        PlaceError: one cannot be read.
    """
    tree = survey()
    unread = [path for path, node in tree.items() if node.kind == FILE and node.digest is None]
    if not unread:
        return tree
    found: dict[str, Node] = {}
    watch = progress or Progress()
    total = sum(tree[path].size for path in unread)
    with watch.task("reading", total=total, unit="bytes") as task:
        from concurrent.futures import ThreadPoolExecutor

        slices = _slices(unread, tree, total)
        with ThreadPoolExecutor(len(slices)) as pool:
            for part in pool.map(lambda some: _digests(place, tree, some, task), slices):
                for read_at, learned in part:
                    found.update((path, tree[path].with_digest(digest)) for path, digest in learned)
                    if seen is not None:
                        seen.learn(learned, read_at)
    whole = tree.overlay(found)
    moving = [path for path in unread if path not in found]
    if not moving:
        return whole
    if tries <= 1:
        raise still_changing(moving[0], place.location)
    time.sleep(0.05)
    return digested(place, survey, seen=seen, progress=progress, tries=tries - 1)


def still_changing(path: str, location: str) -> PlaceChanged:
    """Return the error for a file that does not hold still."""
    return PlaceChanged(
        f"{path} changes while it is read",
        where=location,
        remedy="Something is writing there. Close the game and its launcher, then run this again.",
    )


def digest_of(blocks: Iterable[bytes]) -> tuple[bytes, int]:
    """Return the BLAKE3 digest and the number of bytes of some content."""
    hasher, size = blake3(), 0
    for block in blocks:
        hasher.update(block)
        size += len(block)
    return hasher.digest(), size


def read_bytes(place: Place, path: str) -> bytes:
    """Return the whole content of one file.

    Raises:
        UsageError: there is no such file.
    """
    for _, blocks in place.read([path]):
        return b"".join(blocks)
    raise UsageError(f"there is no file {path}", where=place.location)


def _slices(paths: list[str], tree: Tree, total: int) -> list[list[str]]:
    """Cut the paths into runs of about equal bytes, one a thread, if that is worth it."""
    large = total > max(_WORTH_THREADS, len(paths) * _LARGE)
    count = _THREADS if large and len(paths) > 1 else 1
    out: list[list[str]] = [[] for _ in range(count)]
    so_far = 0
    for path in paths:
        out[min(count - 1, so_far * count // max(total, 1))].append(path)
        so_far += tree[path].size
    return [some for some in out if some]


def _digests(
    place: Place, tree: Tree, paths: list[str], task: Task
) -> list[tuple[int, list[tuple[str, bytes]]]]:
    """Return the digests of files that held still, in batches, each with when its reading began."""
    out: list[tuple[int, list[tuple[str, bytes]]]] = []
    learned: list[tuple[str, bytes]] = []
    began, done = time.time_ns(), 0
    for path, blocks in place.read(paths):
        try:
            if type(blocks) is list and len(blocks) == 1:
                digest, size = blake3(blocks[0]).digest(), len(blocks[0])
            else:
                digest, size = digest_of(blocks)
        except PlaceChanged:
            continue
        if size == tree[path].size:
            learned.append((path, digest))
        done += size
        if done >= BLOCK or len(learned) >= _BATCH:
            task.advance(done)
            out.append((began, learned))
            learned, began, done = [], time.time_ns(), 0
    task.advance(done)
    out.append((began, learned))
    return out

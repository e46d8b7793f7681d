"""Databases in use: SQLite files whose newest content may lie in the files beside them.

While a program has one open, `-wal`, `-shm` and `-journal` hold what is on its way into it; copying
the file alone, or the files one after the other, may give what never was. SQLite's own backup
interface gives one moment of it, with all that was committed (https://www.sqlite.org/backup.html).
"""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import closing

from ..errors import PlaceChanged, PlaceError
from .capabilities import Capable
from .durable import refusals, remove_tree
from .folder import FolderPlace
from .place import Place
from .seen import Seen
from .tree import Tree
from .views import disk_path

__all__ = ["COMPANIONS", "SteadyPlace", "capture", "is_database", "steady"]

COMPANIONS = ("-wal", "-shm", "-journal")
_SIGNATURE = b"SQLite format 3\0"  # https://www.sqlite.org/fileformat.html, 1.3
_PATIENCE_SECONDS = 1.0  # for a writer to let a reader in
_TRIES = 3
_COPIED = ("", "-wal", "-journal")  # -shm is only an index of -wal, rebuilt by whoever opens it


def is_database(path: str) -> bool:
    """Tell whether a file is on disk and begins as SQLite databases do."""
    try:
        with refusals(path), open(path, "rb") as file:
            return file.read(len(_SIGNATURE)) == _SIGNATURE
    except PlaceError as error:
        if isinstance(error.__cause__, FileNotFoundError):
            return False
        raise


def capture(path: str, into: str, scratch: str) -> None:
    """Write one moment of a database to the file `into`; nothing beside `path` is touched.

    It is asked from SQLite while other programs work on it. Where that cannot be (a writer does
    not let go, or died in the middle), the files are copied into the empty folder `scratch` and
    opened there: if they hold still meanwhile they are what a crash would leave, which SQLite mends.

    Raises:
        PlaceChanged: the files do not hold still.
        sqlite3.DatabaseError: it is damaged, or no database.
    """
    try:
        _back_up(f"{_uri(path)}?mode=ro&readonly_shm=1", into)
        return
    except (sqlite3.OperationalError, TimeoutError):
        pass
    import shutil

    copy = os.path.join(scratch, "copy")
    before = _stats(path)
    for suffix in _COPIED:
        if before[suffix] is not None:
            with refusals(path + suffix):
                shutil.copyfile(path + suffix, copy + suffix)
    if _stats(path) != before:
        raise PlaceChanged("the database changed while it was read", where=path)
    _back_up(_uri(copy), into)


def _back_up(uri: str, into: str) -> None:
    if os.path.exists(into):
        os.remove(into)
    with closing(sqlite3.connect(uri, uri=True, timeout=_PATIENCE_SECONDS)) as source:
        with closing(sqlite3.connect(into)) as target:
            source.backup(target, progress=_until(time.monotonic() + _PATIENCE_SECONDS), sleep=0.05)
        source.execute("SELECT 1 FROM sqlite_schema LIMIT 1").fetchone()


def _until(end: float) -> Callable[[int, int, int], None]:
    def check(status: int, remaining: int, total: int) -> None:
        if time.monotonic() > end and status in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
            raise TimeoutError("a writer does not let go of the database")

    return check


def _stats(path: str) -> dict[str, tuple[int, int] | None]:
    found: dict[str, tuple[int, int] | None] = {}
    for suffix in _COPIED:
        try:
            stat = os.stat(path + suffix)
            found[suffix] = stat.st_size, stat.st_mtime_ns
        except FileNotFoundError:
            found[suffix] = None
    return found


def _uri(path: str) -> str:
    """Return the URI of a file as SQLite reads it (https://www.sqlite.org/uri.html, 3.1)."""
    from urllib.parse import quote

    path = path.replace(os.sep, "/")
    return "file://" + quote(path if path.startswith("/") else f"/{path}", safe="/:")


class SteadyPlace(Capable):
    """A place of which some databases are read from captured copies, the rest as it is."""

    def __init__(self, place: Place, copies: Place, names: Mapping[str, str]) -> None:
        self._place = place
        self._copies = copies
        self._names = dict(names)  # path -> name of its copy
        self._paths = {name: path for path, name in names.items()}

    @property
    def location(self) -> str:
        return self._place.location

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the place's tree, with the copies' sizes and without what they made one of."""
        tree = self._place.survey(seen=seen)
        gone = {path + suffix for path in self._names for suffix in COMPANIONS}
        copies = self._copies.survey()
        captured = {
            path: tree[path]._replace(size=copies[name].size, digest=None)
            for path, name in self._names.items()
            if path in tree
        }
        return tree.select(lambda path: path not in gone).overlay(captured)

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield the place's own files, then the copies."""
        wanted = list(paths)
        yield from self._place.read(path for path in wanted if path not in self._names)
        copied = [self._names[path] for path in wanted if path in self._names]
        for name, blocks in self._copies.read(copied):
            yield self._paths[name], blocks


def steady(
    place: Place, paths: Iterable[str], scratch: str
) -> tuple[SteadyPlace, list[str], list[str]]:
    """Capture databases of a place into the folder `scratch`, which is made here.

    Return the place to read from, the paths that were captured, and those that would not hold
    still. One that is damaged is neither: it is read as it is, like any other file.
    """
    captured: dict[str, str] = {}
    moving = []
    copies = os.path.join(scratch, "copies")
    os.makedirs(copies)
    for path in paths:
        full = disk_path(place, path)
        if full is None or not is_database(full):
            continue
        name = str(len(captured))
        for attempt in range(_TRIES):
            room = os.path.join(scratch, f"{name}-{attempt}")
            os.mkdir(room)
            try:
                with refusals(scratch):
                    capture(full, os.path.join(copies, name), room)
                captured[path] = name
                break
            except sqlite3.DatabaseError:
                break
            except PlaceChanged:
                if attempt == _TRIES - 1:
                    moving.append(path)
            finally:
                remove_tree(room)
    for leftover in set(os.listdir(copies)) - set(captured.values()):
        os.remove(os.path.join(copies, leftover))
    return SteadyPlace(place, FolderPlace(copies), captured), list(captured), moving

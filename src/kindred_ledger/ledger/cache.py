"""Cache: the SQLite file behind the index, which nothing depends on.

Damaged, it is made anew; where it cannot be written, or the disk gives errors, memory takes its place
for this process. Either way `refill` brings back what the packs say, so that nothing changes but time.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

from ..errors import PlaceError
from ..places import new_file
from .cache_sum import ENDS, SUM, is_as_noted, write_sum

__all__ = ["Cache", "Rows"]

_BUSY = ("locked", "busy")  # what SQLite says of another process at work
_MEMORY = ":memory:"
_PATIENCE_SECONDS = 30


class Rows(list[tuple[Any, ...]]):
    """What a statement gave; `changed` is how many rows it changed."""

    changed: int = 0

    def first(self) -> Any:
        """Return the first row, None if there is none."""
        return self[0] if self else None


class Cache:
    """See the module. `make` makes the tables in a connection whose format is another, `anew` in any.

    Raises:
        PlaceError: another process keeps it locked.
    """

    def __init__(
        self,
        path: str,
        make: Callable[[sqlite3.Connection], None],
        anew: Callable[[sqlite3.Connection], None],
        refill: Callable[[], None],
    ) -> None:
        self._path = path
        self._make = make
        self._anew = anew
        self._refill = refill
        self._db = self._opened()

    @property
    def is_on_disk(self) -> bool:
        """Whether there is a file: not where memory takes its place."""
        return self._path != _MEMORY

    def execute(self, statement: str, values: Sequence[Any] = ()) -> Rows:
        """Carry a statement out, on a new cache if this one fails."""
        try:
            return self._rows(statement, values)
        except sqlite3.DatabaseError as error:
            self._replaced(error)
            return self._rows(statement, values)

    def execute_many(self, statement: str, rows: Iterable[Sequence[Any]]) -> None:
        """Carry a statement out for many rows."""
        rows = list(rows)
        try:
            self._db.executemany(statement, rows)
        except sqlite3.DatabaseError as error:
            self._replaced(error)
            self._db.executemany(statement, rows)

    @contextlib.contextmanager
    def together(self) -> Iterator[None]:
        """Have what is carried out in the block stand together, or not at all."""
        try:
            yield
        except BaseException:
            with contextlib.suppress(sqlite3.Error):
                self._db.rollback()
            raise
        try:
            self._db.commit()
        except sqlite3.DatabaseError as error:
            self._replaced(error)  # filled again from the packs: what was to be written is in there

    def remember(self, statement: str, rows: Iterable[Sequence[Any]]) -> None:
        """Write what only saves time, if that can be."""
        try:
            self._db.executemany(statement, list(rows))
            self._db.commit()
        except sqlite3.Error:
            with contextlib.suppress(sqlite3.Error):
                self._db.rollback()

    def renew(self) -> None:
        """Make the tables anew, whatever is there; in place, as others may have it open."""
        try:
            self._anew(self._db)
        except sqlite3.DatabaseError as error:
            self._replaced(error)

    def close(self) -> None:
        """Close it, and note what it is like."""
        self.note_sum()
        self._db.close()

    def note_sum(self) -> None:
        """Note what the cache is like now, if it was written to."""
        if self.is_on_disk:
            with contextlib.suppress(sqlite3.Error):
                if self._db.total_changes or not os.path.exists(self._path + SUM):
                    write_sum(self._path)

    def _rows(self, statement: str, values: Sequence[Any]) -> Rows:
        cursor = self._db.execute(statement, values)
        rows = Rows(cursor.fetchall())
        rows.changed = cursor.rowcount
        return rows

    def _opened(self) -> sqlite3.Connection:
        """Open the file; one that is damaged is made anew, and what cannot be opened is done without."""
        if any(os.path.islink(self._path + end) for end in ENDS):
            return self._instead(sqlite3.DatabaseError("it is a link"))
        known = is_as_noted(self._path)
        make = self._anew if known is False else self._make  # in place: others may have it open
        try:
            return _connected(self._path, make, check=not known)
        except (OSError, sqlite3.DatabaseError) as error:
            return self._instead(error)

    def _replaced(self, error: sqlite3.DatabaseError) -> None:
        """Take another cache for one that fails, and fill it."""
        if not self.is_on_disk:
            raise self._refused(error) from error
        with contextlib.suppress(sqlite3.Error):
            self._db.close()
        self._db = self._instead(error)
        self._refill()

    def _instead(self, error: OSError | sqlite3.DatabaseError) -> sqlite3.Connection:
        """Return a new cache for one that is damaged, or memory where the disk refuses."""
        if isinstance(error, sqlite3.OperationalError) and _is_busy(error):
            raise self._refused(error) from error
        if not isinstance(error, (OSError, sqlite3.OperationalError)):
            with contextlib.suppress(OSError, sqlite3.DatabaseError):
                self._remove()
                return _connected(self._path, self._make, check=False)
        return self._in_memory()

    def _in_memory(self) -> sqlite3.Connection:
        self._path = _MEMORY
        return _connected(_MEMORY, self._make, check=False)

    def _remove(self) -> None:
        for end in ENDS:
            with contextlib.suppress(FileNotFoundError):
                os.remove(self._path + end)

    def _refused(self, error: sqlite3.DatabaseError) -> PlaceError:
        return PlaceError(
            f"the ledger's index cannot be used: {error}",
            where=self._path,
            remedy="Another command is writing to it. Wait, then run this again.",
        )


def _connected(
    path: str, make: Callable[[sqlite3.Connection], None], *, check: bool
) -> sqlite3.Connection:
    """Open a cache, make its tables if they are not there, and look whether it is whole if asked."""
    if path != _MEMORY:
        with contextlib.suppress(FileExistsError):
            new_file(path).close()  # for nobody else to read, nor what SQLite puts beside it
    db = sqlite3.connect(path, timeout=_PATIENCE_SECONDS, check_same_thread=False)
    try:
        db.execute("PRAGMA synchronous = OFF")  # a cache: durability is the packs' business
        if check and db.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
            raise sqlite3.DatabaseError("it is damaged")
        make(db)
    except sqlite3.DatabaseError:
        db.close()
        raise
    return db


def _is_busy(error: sqlite3.OperationalError) -> bool:
    return any(word in str(error) for word in _BUSY)

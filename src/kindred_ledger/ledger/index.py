"""The index: a cache in SQLite of where each content lies and what each entry says of itself.

It may be deleted at any time: `sync` brings it in line with the packs and entries that are there,
and what it says of a file's digest (`seen`) is only ever used to save a reading.
"""

from __future__ import annotations

import contextlib
import sqlite3
import struct
from collections.abc import Iterable, Iterator, Sequence
from typing import Any, NamedTuple

import msgspec
from blake3 import blake3
from msgspec.structs import replace

from ..errors import LedgerDamaged
from ..places import Seen
from . import zstd
from .cache import Cache
from .packs import PACK_SUFFIX, Chunk, PackIndex, Recipe, Slice, read_index
from .storage import Storage

__all__ = ["Index", "Location", "Span"]

_SCHEMA = """
CREATE TABLE packs (id INTEGER PRIMARY KEY, name TEXT UNIQUE, frames BLOB);
CREATE TABLE chunks (digest BLOB, pack INTEGER, at INTEGER, size INTEGER, base BLOB,
    PRIMARY KEY (digest, pack)) WITHOUT ROWID;
CREATE TABLE recipes (digest BLOB, pack INTEGER, slices BLOB,
    PRIMARY KEY (digest, pack)) WITHOUT ROWID;
CREATE TABLE headers (noun TEXT, id TEXT, header BLOB, PRIMARY KEY (noun, id))
    WITHOUT ROWID;
CREATE TABLE stored (place TEXT, path TEXT, digest BLOB, PRIMARY KEY (place, path))
    WITHOUT ROWID;
CREATE INDEX stored_by_path ON stored (path);
CREATE TABLE seen (place TEXT PRIMARY KEY, columns BLOB, lost INTEGER);
CREATE TABLE lost (pack INTEGER);
CREATE TABLE checked (name TEXT PRIMARY KEY, at REAL);
"""
_FORMAT = 9
_SLICE = struct.Struct("<32sII")  # of a recipe: chunk, start, length
# A chunk that is a difference is of no use without its base.
_USABLE = (
    "(base = x'' OR EXISTS (SELECT 1 FROM chunks AS whole WHERE whole.digest = chunks.base{}))"
)
_MANY, _SCAN = 10_000, 8  # asking for many chunks, an eighth of all, one reads them all faster
_AT_ONCE = 256  # digests asked for in one query


class Location(NamedTuple):
    """Where a chunk lies: the pack's number in the index, offset unpacked, size, base if any."""

    digest: bytes
    pack: int
    at: int
    size: int
    base: bytes = b""


class Span(NamedTuple):
    """Some bytes of a chunk."""

    chunk: Location
    start: int
    length: int


class Index:
    """The open cache of one ledger. Changed from one thread; others may read (SQLite serialises)."""

    def __init__(self, path: str, storage: Storage) -> None:
        self._path = path
        self.storage = storage
        self._frames: dict[int, tuple[str, PackIndex]] = {}
        self.damaged: dict[str, LedgerDamaged] = {}  # packs that cannot be read at all, by name
        self._seen = ("", 0, Seen())  # what was handed out last: place, packs lost, and it
        self._avoid = ""  # the numbers of packs that will go, for a query
        self._db = Cache(path, _make_if_other, _make_anew, self.sync)

    def note_sum(self) -> None:
        """Note what the cache is like now that a command has ended, if it wrote to it."""
        self._db.note_sum()

    def close(self) -> None:
        """Close the cache."""
        self._db.close()

    def renew(self) -> None:
        """Make the cache anew, whatever it says; in place, as others may have it open."""
        self._db.renew()
        self._frames.clear()
        self.damaged.clear()
        self._seen = ("", 0, Seen())
        self.sync()

    def sync(self, *, avoid: frozenset[str] | None = None) -> None:
        """Bring the cache in line with the packs that are there now.

        A pack whose own index cannot be read is left out, and noted in `damaged`. Contents in the
        packs to `avoid` count as not stored where `lasting` ones are asked for; None leaves that as
        it was.
        """
        # What is known comes first: packs that somebody writes and notes meanwhile are not gone.
        known: dict[str, int] = dict(self._db.execute("SELECT name, id FROM packs"))
        names = {
            name[: -len(PACK_SUFFIX)]
            for name in self.storage.names("packs")
            if name.endswith(PACK_SUFFIX)
        }
        for name in sorted(names - known.keys()):
            try:
                self.add(
                    name, read_index(self.storage.tail(name + PACK_SUFFIX), self.storage.encryption)
                )
            except FileNotFoundError:  # retired since it was listed
                continue
            except LedgerDamaged as error:
                self.damaged[name] = error
        # The new comes first: at no time is what was moved from pack to pack in none of them.
        self._drop([pack for name, pack in known.items() if name not in names])
        if avoid is not None:
            self._avoid = ",".join(str(_number_of(name)) for name in sorted(avoid))

    def add(self, name: str, index: PackIndex) -> None:
        """Note what a pack holds."""
        frames = zstd.compress(msgspec.json.encode([index.starts, index.lengths, index.sizes]))
        pack = _number_of(name)
        with self._db.together():
            added = self._db.execute(
                "INSERT OR IGNORE INTO packs VALUES (?, ?, ?)", (pack, name, frames)
            )
            if not added.changed:
                return
            self._db.execute_many(
                "INSERT OR IGNORE INTO chunks VALUES (?, ?, ?, ?, ?)",
                sorted((c.digest, pack, c.at, c.size, c.base) for c in index.chunks),
            )
            self._db.execute_many(
                "INSERT OR IGNORE INTO recipes VALUES (?, ?, ?)",
                ((recipe.digest, pack, _packed(recipe)) for recipe in index.recipes),
            )

    def _drop(self, packs: Sequence[int]) -> None:
        """Forget packs that went away."""
        if not packs:
            return
        numbers = ",".join(map(str, packs))
        with self._db.together():
            for table in ("chunks", "recipes"):
                self._db.execute(f"DELETE FROM {table} WHERE pack IN ({numbers})")
            self._db.execute(f"DELETE FROM packs WHERE id IN ({numbers})")
            self._db.execute_many("INSERT INTO lost VALUES (?)", [(0,)] * len(packs))
        for pack in packs:
            self._frames.pop(pack, None)

    def pack_path(self, name: str) -> str:
        """Return where a pack can be read on this machine."""
        return self.storage.path("packs", name + PACK_SUFFIX)

    def has(self, digest: bytes) -> bool:
        """Tell whether a content is stored to stay, with every chunk it is made of."""
        return digest in self.locate_all([digest], lasting=True)

    def is_empty(self) -> bool:
        """Tell whether nothing is stored at all."""
        return self._db.execute("SELECT 1 FROM chunks LIMIT 1").first() is None

    def chunks_among(self, digests: Sequence[bytes]) -> set[bytes]:
        """Return those of the digests that are stored to stay as one chunk."""
        found: set[bytes] = set()
        for some, marks in _in_parts(digests):
            query = f"SELECT digest FROM chunks WHERE digest IN ({marks}) AND {self._usable(True)}"
            found.update(row[0] for row in self._db.execute(query, some))
        return found

    def locate(self, digest: bytes, *, lasting: bool = False) -> tuple[Span, ...] | None:
        """Return the spans of chunks a content is made of, in order; None if any is not stored."""
        return self.locate_all([digest], lasting=lasting).get(digest)

    def locate_all(
        self, digests: Iterable[bytes], *, lasting: bool = False
    ) -> dict[bytes, tuple[Span, ...]]:
        """Return the spans of chunks that contents are made of, of those that are stored.

        `lasting` leaves out what is only in packs that will go (see `sync`).
        """
        wanted = list(dict.fromkeys(digests))
        chunks = self._chunks(wanted, lasting)
        found: dict[bytes, tuple[Span, ...]]
        found = {digest: (Span(chunk, 0, chunk.size),) for digest, chunk in chunks.items()}
        for digest in wanted if len(found) < len(wanted) else ():
            if digest not in found and (spans := self._of_recipe(digest, lasting)):
                found[digest] = spans
        return found

    def _of_recipe(self, digest: bytes, lasting: bool) -> tuple[Span, ...] | None:
        query = f"SELECT slices FROM recipes WHERE digest = ?{self._staying(lasting)}"
        for (packed,) in self._db.execute(query, (digest,)):
            slices = list(_SLICE.iter_unpack(packed))
            chunks = self._chunks([part for part, _, _ in slices], lasting)
            if all(part in chunks for part, _, _ in slices):
                return tuple(Span(chunks[part], start, length) for part, start, length in slices)
        return None

    def _chunks(self, digests: Sequence[bytes], lasting: bool) -> dict[bytes, Location]:
        """Return where chunks lie, of those that are stored."""
        found: dict[bytes, Location] = {}
        for some, marks in _in_parts(sorted(digests)):  # neighbours in the cache, too
            query = (
                "SELECT digest, pack, at, size, base FROM chunks"
                f" WHERE digest IN ({marks}) AND {self._usable(lasting)} ORDER BY base DESC"
            )
            for chunk in map(Location._make, self._db.execute(query, some)):
                found[chunk.digest] = chunk  # the last is stored whole, if any is
        return found

    def _usable(self, lasting: bool) -> str:
        """Return the condition under which a row of `chunks` is of use."""
        whole = f" AND whole.pack NOT IN ({self._avoid})" if lasting and self._avoid else ""
        return _USABLE.format(whole) + self._staying(lasting)

    def _staying(self, lasting: bool) -> str:
        return f" AND pack NOT IN ({self._avoid})" if lasting and self._avoid else ""

    def chunk(self, digest: bytes, *, lasting: bool = False) -> Location | None:
        """Return where a chunk lies; None if it is not stored."""
        return self._chunks([digest], lasting).get(digest)

    def frames(self, pack: int) -> tuple[str, PackIndex]:
        """Return the name of a pack and its frames (no chunks).

        Raises:
            LedgerDamaged: it went away since what lies in it was asked for.
        """
        if pack not in self._frames:
            query = "SELECT name, frames FROM packs WHERE id = ?"
            row = self._db.execute(query, (pack,)).first()
            if row is None:
                raise LedgerDamaged("a pack went away")
            name, stored = row
            content, _ = zstd.decompress(stored)
            self._frames[pack] = name, PackIndex(*msgspec.json.decode(content))
        return self._frames[pack]

    def frames_of(self, name: str) -> PackIndex | None:
        """Return what is known of the frames of a pack (no chunks)."""
        row = self._db.execute("SELECT id FROM packs WHERE name = ?", (name,)).first()
        with contextlib.suppress(LedgerDamaged):  # it goes away just now
            return self.frames(row[0])[1] if row else None
        return None

    def known(self, name: str) -> PackIndex | None:
        """Return what is known of a pack: all that its own index says."""
        row = self._db.execute("SELECT id FROM packs WHERE name = ?", (name,)).first()
        if row is None:
            return None
        query = "SELECT digest, at, size, base FROM chunks WHERE pack = ? ORDER BY at"
        chunks = list(map(Chunk._make, self._db.execute(query, row)))
        recipes = [
            Recipe(digest, sum(part.length for part in slices), slices)
            for digest, packed in self._db.execute(
                "SELECT digest, slices FROM recipes WHERE pack = ?", row
            )
            for slices in (tuple(map(Slice._make, _SLICE.iter_unpack(packed))),)
        ]
        return replace(self.frames(row[0])[1], chunks=chunks, recipes=recipes)

    def mirrors(self, name: str, pack: PackIndex, damaged: Sequence[tuple[int, int]]) -> bool:
        """Tell whether what is known of a pack's chunks and recipes is what the pack says.

        Of what is `damaged`, parts of its unpacked stream, nothing need be known.
        """
        row = self._db.execute("SELECT id FROM packs WHERE name = ?", (name,)).first()
        if row is None:
            return False
        if damaged or not self._has_these(row[0], pack.chunks):
            expected = set(pack.chunks)
            known = self._rows_of(row[0], [chunk.digest for chunk in expected])
            for chunk in expected.difference(known):
                if not any(start <= chunk.at < end for start, end in damaged):
                    return False
        query = "SELECT slices FROM recipes WHERE digest = ? AND pack = ?"
        return all(
            self._db.execute(query, (recipe.digest, *row)).first() == (_packed(recipe),)
            for recipe in pack.recipes
        )

    def _has_these(self, pack: int, chunks: Sequence[Chunk]) -> bool:
        """Tell at once whether a pack's chunks are known as they are, if they are much of all."""
        count = self._db.execute("SELECT count(*) FROM chunks")[0][0]
        if len(chunks) < max(_MANY, count / _SCAN):
            return False
        query = "SELECT digest, at, size, base FROM chunks WHERE pack = ? ORDER BY at"
        return bool(self._db.execute(query, (pack,)) == chunks)

    def _rows_of(self, pack: int, digests: list[bytes]) -> Iterator[tuple[Any, ...]]:
        """Yield digest, at, size and base of chunks of a pack as they are known."""
        query = "SELECT digest, at, size, base FROM chunks WHERE pack = ?"
        count = "SELECT count(*) FROM chunks"
        if len(digests) > _MANY and len(digests) > self._db.execute(count)[0][0] / _SCAN:
            yield from self._db.execute(query, (pack,))
            return
        digests.sort()
        for some, marks in _in_parts(digests):
            yield from self._db.execute(f"{query} AND digest IN ({marks})", (pack, *some))

    def forget(self, name: str, parts: Iterable[tuple[int, int]]) -> None:
        """Forget the chunks in damaged parts of a pack: they are not kept any more."""
        with self._db.together():
            row = self._db.execute("SELECT id FROM packs WHERE name = ?", (name,)).first()
            gone = 0
            for start, end in parts if row else ():
                query = "DELETE FROM chunks WHERE pack = ? AND at >= ? AND at < ?"
                gone += self._db.execute(query, (*row, start, end)).changed
            if gone:
                self._db.execute("INSERT INTO lost VALUES (?)", row)

    def readable(self, *, lasting: bool = False) -> set[bytes]:
        """Return all contents that can be put together from what is there; see `locate_all`."""
        staying = f"pack NOT IN ({self._avoid})" if lasting else "1"
        query = f"SELECT digest, base FROM chunks WHERE {staying}"
        rows = self._db.execute(query)
        there = {digest for digest, _ in rows}
        found = {digest for digest, base in rows if not base or base in there}
        contents = set(found)
        for digest, slices in self._db.execute(
            f"SELECT digest, slices FROM recipes WHERE {staying}"
        ):
            if all(part in found for part, _, _ in _SLICE.iter_unpack(slices)):
                contents.add(digest)
        return contents

    def checked(self) -> dict[str, float]:
        """Return when each pack was verified last, in seconds since 1970."""
        return dict(self._db.execute("SELECT name, at FROM checked"))

    def remember_checked(self, names: Iterable[str], at: float) -> None:
        """Note that packs were verified."""
        rows = [(name, at) for name in names]
        self._db.remember("INSERT OR REPLACE INTO checked VALUES (?, ?)", rows)

    def headers(self, noun: str, ids: Iterable[str]) -> dict[str, dict[str, Any]]:
        """Return the cached headers of those manifests of a kind that have one."""
        wanted = set(ids)
        rows = self._db.execute("SELECT id, header FROM headers WHERE noun = ?", (noun,))
        return {id: msgspec.json.decode(data) for id, data in rows if id in wanted}

    def ids(self, noun: str) -> set[str]:
        """Return the ids of the manifests of a kind whose headers are cached."""
        return {
            row[0] for row in self._db.execute("SELECT id FROM headers WHERE noun = ?", (noun,))
        }

    def remember_headers(self, noun: str, headers: dict[str, dict[str, Any]]) -> None:
        """Cache headers of manifests of a kind; they never change."""
        self._db.remember(
            "INSERT OR REPLACE INTO headers VALUES (?, ?, ?)",
            ((noun, id, msgspec.json.encode(header)) for id, header in headers.items()),
        )

    def stored(self, place: str) -> dict[str, bytes]:
        """Return the digest of what was last stored under each path of a place, for large files."""
        return dict(self._db.execute("SELECT path, digest FROM stored WHERE place = ?", (place,)))

    def stored_elsewhere(self, paths: Iterable[str]) -> dict[str, bytes]:
        """Return what was stored under the same paths of some other place, where there is one."""
        query = "SELECT digest FROM stored WHERE path = ? LIMIT 1"
        rows = ((path, self._db.execute(query, (path,)).first()) for path in paths)
        return {path: row[0] for path, row in rows if row}

    def remember_stored(self, place: str, digests: dict[str, bytes]) -> None:
        """Note what was stored under paths of a place."""
        self._db.remember(
            "INSERT OR REPLACE INTO stored VALUES (?, ?, ?)",
            ((place, path, digest) for path, digest in digests.items()),
        )

    def seen(self, place: str) -> Seen:
        """Return what was last read in a place."""
        lost = self.packs_lost()
        if self._seen[:2] != (place, lost):
            query = "SELECT columns, lost FROM seen WHERE place = ?"
            row = self._db.execute(query, (place,)).first()
            columns = _checked_columns(row[0]) if row else None
            if columns is not None and row[1] != lost:
                columns["kept"] = []
            self._seen = place, lost, Seen(columns)
        return self._seen[2].again()

    def packs_lost(self) -> int:
        """Return how many packs ever went away: what was in them is no longer known to be kept."""
        return int(self._db.execute("SELECT count(*) FROM lost")[0][0])

    def remember_seen(self, place: str, seen: Seen) -> None:
        """Save what was read in a place."""
        if seen.unchanged:
            return
        # As of when it was handed out: what was lost since then is not known to be kept.
        lost = self._seen[1] if self._seen[0] == place else self.packs_lost()
        if seen.is_soon_read:
            self._seen = place, lost, seen.with_news()
            return
        known = seen.worth_saving()
        self._seen = place, lost, known
        self._db.remember(
            "INSERT OR REPLACE INTO seen VALUES (?, ?, ?)",
            [(place, _with_digest(known.columns()), lost)],
        )


def _number_of(name: str) -> int:
    """Return the number a pack has in every index, whenever it was made: others may have it open."""
    return int(name[:15], 16)


def _in_parts(digests: Sequence[bytes]) -> Iterator[tuple[Sequence[bytes], str]]:
    """Yield digests in as many as one query takes, each with the marks that stand for them."""
    for at in range(0, len(digests), _AT_ONCE):
        some = digests[at : at + _AT_ONCE]
        yield some, ",".join("?" * len(some))


def _packed(recipe: Recipe) -> bytes:
    return b"".join(_SLICE.pack(*part) for part in recipe.slices)


def _with_digest(columns: dict[str, Any]) -> bytes:
    """Return what is remembered of files, behind its digest: it is believed without reading them."""
    data = msgspec.msgpack.encode(columns)
    return blake3(data).digest() + data


def _checked_columns(stored: bytes) -> dict[str, Any] | None:
    """Return what `_with_digest` wrote; None if any byte of it is another."""
    digest, data = stored[:32], stored[32:]
    if blake3(data).digest() != digest:
        return None
    columns: dict[str, Any] = msgspec.msgpack.decode(data)
    return columns


def _format_of(db: sqlite3.Connection) -> int:
    return int(db.execute("PRAGMA user_version").fetchone()[0])


def _make_if_other(db: sqlite3.Connection) -> None:
    """Make the tables unless they are there, in this format."""
    if _format_of(db) != _FORMAT:
        _make(db)


def _make_anew(db: sqlite3.Connection) -> None:
    _make(db, anew=True)


def _make(db: sqlite3.Connection, *, anew: bool = False) -> None:
    """Make the tables, all or nothing, unless somebody just did.

    `anew` makes them whatever is there, and says by one more row in `lost` to all who have the cache
    open that what they remember as kept is not known to be.
    """
    db.execute("BEGIN IMMEDIATE")
    try:
        if anew or _format_of(db) != _FORMAT:
            lost = db.execute("SELECT count(*) FROM lost").fetchone()[0] if anew else 0
            for (name,) in db.execute(
                "SELECT name FROM sqlite_master WHERE type = 'table'"
            ).fetchall():
                db.execute(f'DROP TABLE "{name}"')
            for statement in filter(str.strip, _SCHEMA.split(";")):
                db.execute(statement)
            db.executemany("INSERT INTO lost VALUES (?)", [(0,)] * (lost + 1))
            db.execute(f"PRAGMA user_version = {_FORMAT}")
        db.commit()
    except BaseException:
        db.rollback()
        raise

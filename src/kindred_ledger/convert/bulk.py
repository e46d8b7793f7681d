"""Bulk: many files converted one after another or by any executor, in bounded memory.

What is done is kept in a cache (a folder) under a name made of all that went into it: the file's
content, the card, its layouts, the target and the version of this program. So work that was cut off
goes on where it stopped, whoever did it, and what is read back is held against its digest.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import BrokenExecutor, Executor, Future
from functools import lru_cache
from importlib import import_module
from typing import Protocol, TypeVar

import msgspec
from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ..cards import Card, Format
from ..errors import KindredError, VersionUntold
from ..finding import Finding
from ..formats import Document
from ..formats.tables import COLUMN_THRESHOLD
from ..ledger import Ledger, Record
from ..places import Place, roots_of
from ..small_files import read_small
from ..statement import ALL_OTHERS, Line, Outcome, Statement
from ..versions import Version
from .converter import Converted, Converter

__all__ = [
    "Done",
    "Failed",
    "Job",
    "Left",
    "ResultCache",
    "clear_finished",
    "condensed",
    "convert_all",
    "results_of",
]

_AHEAD = 32  # jobs given out for each worker, so that memory does not grow with their number
_OLDEST_SECONDS = 7 * 24 * 3600.0
_UNFINISHED_SECONDS = 3600.0
_ACCOUNT = ".json"
_LARGEST_ACCOUNT = 256 << 20  # bytes
_NEW = ".new"  # what is being written


class Job(Struct, frozen=True):
    """One file: its path, its format's name, and the version it shall be in.

    `data` is its content, or "" with `location` where a worker on this machine reads it.
    """

    path: str
    format: str
    target: str
    data: bytes = b""
    location: str = ""
    source: str = ""  # the version it is in, where something else than the file tells it
    reads: tuple[str, ...] = ()  # in these it stays if no route leads to the target


class Done(Struct, frozen=True):
    """A file that was converted: where the result is, its digest, and its books."""

    path: str
    format: str
    source: str
    target: str
    key: str
    size_bytes: int
    digest: bytes
    statement: Statement
    findings: tuple[Finding, ...]
    data: bytes = b""  # where there is no cache


class Left(Struct, frozen=True):
    """A file that is in a version that fits, or that no route leads away from and the build reads."""

    path: str
    version: str


class Failed(Struct, frozen=True):
    """A file that could not be converted, and why."""

    path: str
    what: str
    where: str
    remedy: str
    is_untold: bool = False  # nothing in the file tells its version
    code: int = 0  # what the system said, if it was that


class Kept(Protocol):
    """The account of a result: the key it is kept under, and the digest of its bytes."""

    @property
    def key(self) -> str: ...

    @property
    def digest(self) -> bytes: ...


_Kept = TypeVar("_Kept", bound=Kept)


class _Account(Struct, frozen=True):
    digest: bytes


class ResultCache(Struct, frozen=True):
    """A folder for results: each under its key, its account beside it.

    Each place has one of its own, so that whoever is done with a place takes nothing from those at work on
    others, even where files are alike.
    """

    folder: str

    def tidy(self) -> None:
        """Make the folder, and delete what nobody came back for, here and beside."""
        os.makedirs(self.folder, mode=0o700, exist_ok=True)
        for beside in os.scandir(os.path.dirname(self.folder)):
            for entry in os.scandir(beside.path) if beside.is_dir() else ():
                patience = _UNFINISHED_SECONDS if entry.name.endswith(_NEW) else _OLDEST_SECONDS
                with contextlib.suppress(FileNotFoundError):  # whose it is cleared it meanwhile
                    if entry.stat().st_mtime < time.time() - patience:
                        os.unlink(entry.path)
            with contextlib.suppress(OSError):  # something is in it, or it went
                if beside.stat().st_mtime < time.time() - _OLDEST_SECONDS:
                    os.rmdir(beside.path)

    def clear_taken(self, records: Iterable[Record]) -> int:
        """Delete the results that recorded changes have put in place; return how many those were.

        A conversion that was cut off when it was done leaves them. `records` are read as they are asked
        for: none, if there are no results.
        """
        names = os.listdir(self.folder) if os.path.isdir(self.folder) else []
        keys = [name.removesuffix(_ACCOUNT) for name in names if name.endswith(_ACCOUNT)]
        taken = {
            node.digest for record in (records if keys else ()) for node in record.after.values()
        }
        found = []
        for key in keys if taken else ():
            with contextlib.suppress(OSError, msgspec.MsgspecError):
                account = read_small(self.path(key) + _ACCOUNT, most=_LARGEST_ACCOUNT, follow=False)
                if msgspec.json.decode(account, type=_Account).digest in taken:
                    found.append(key)
        self.clear(found)
        return len(found)

    def path(self, key: str) -> str:
        """Return where the result of a key is."""
        return os.path.join(self.folder, key)

    def find(self, key: str, kind: type[_Kept]) -> _Kept | None:
        """Return what was done before, if it is whole; `kind` is that of its account."""
        try:
            with open(self.path(key) + _ACCOUNT, "rb") as file:
                done = msgspec.json.decode(file.read(), type=kind)
            with open(self.path(key), "rb") as file:
                whole = blake3(file.read()).digest() == done.digest
        except (OSError, msgspec.DecodeError, msgspec.ValidationError):
            return None
        return done if whole else None

    def put(self, done: Kept, data: bytes) -> None:
        """Keep a result; the account comes last, and says that it is whole."""
        for path, content in (
            (self.path(done.key), data),
            (self.path(done.key) + _ACCOUNT, msgspec.json.encode(done)),
        ):
            beside = f"{path}.{os.getpid()}{_NEW}"
            with open(beside, "wb") as file:
                file.write(content)
            os.replace(beside, path)

    def clear(self, keys: Iterable[str]) -> None:
        """Delete results that were taken; what cannot be is deleted when it is old."""
        for key in keys:
            for path in (self.path(key), self.path(key) + _ACCOUNT):
                with contextlib.suppress(OSError):
                    os.unlink(path)


def results_of(ledger: Ledger, place: Place) -> ResultCache:
    """Return where a ledger's conversions of a place keep what they have done so far."""
    name = blake3("\n".join(sorted(roots_of(place).values())).encode("utf-8", "surrogateescape"))
    return ResultCache(os.path.join(_results(ledger), name.hexdigest()[:16]))


def clear_finished(ledger: Ledger) -> int:
    """Delete the results that recorded changes have put in place; return how many those were."""
    top = _results(ledger)
    folders = [entry.path for entry in os.scandir(top)] if os.path.isdir(top) else []
    return sum(ResultCache(folder).clear_taken(_conversions(ledger)) for folder in folders)


def _results(ledger: Ledger) -> str:
    return os.path.join(ledger.folder("work"), "converted")


def _conversions(ledger: Ledger) -> Iterator[Record]:
    """Yield the records of conversions, of files and of worlds, whole, the newest first."""
    for record in reversed(ledger.records()):
        if record.operation in ("convert", "remap"):
            yield ledger.record(record.id)


def convert_all(
    card: Card,
    jobs: Iterable[Job],
    *,
    cache: ResultCache | None = None,
    executor: Executor | None = None,
    workers: int = 1,
    column_threshold: int = COLUMN_THRESHOLD,
    check: Callable[[], None] = lambda: None,
) -> Iterator[Done | Left | Failed]:
    """Yield what became of each job, in their order; a file that fails stops no other.

    `executor` is any of `concurrent.futures`, or of a cluster, with `workers` of them; None converts
    here, one after another. `check` is called for each job, and may raise to stop.
    """
    folder = "" if cache is None else cache.folder
    call = _Call(card.path, folder, column_threshold)
    if executor is None:
        for job in jobs:
            check()
            yield call(job)
        return
    waiting: deque[tuple[Job, Future[Done | Left | Failed] | None]] = deque()

    def result() -> Done | Left | Failed:
        job, future = waiting.popleft()
        try:
            return future.result() if future is not None else call(job)
        except BrokenExecutor:  # a worker died: what it and the others had is done here
            return call(job)

    try:
        for job in jobs:
            check()
            try:
                waiting.append((job, executor.submit(call, job)))
            except BrokenExecutor:
                waiting.append((job, None))
            while len(waiting) >= _AHEAD * workers:
                yield result()
        while waiting:
            check()
            yield result()
    finally:
        for _, future in waiting:
            if future is not None:
                future.cancel()


class _Call(Struct, frozen=True):
    """What a worker runs; it goes to other processes, so it is a value of plain texts."""

    card: str
    cache: str
    column_threshold: int

    def __call__(self, job: Job) -> Done | Left | Failed:
        try:
            return _convert(
                _converters(self.card, os.stat(self.card).st_mtime_ns, self.column_threshold),
                job,
                self.cache,
            )
        except KindredError as error:
            untold = isinstance(error, VersionUntold)
            return Failed(job.path, error.what, error.where or "", error.remedy or "", untold)
        except OSError as error:
            what = error.strerror or str(error)
            return Failed(
                job.path, what, str(error.filename or job.path), "", code=error.errno or 0
            )


class _Converters:
    """The converters of a card, and what all of them depend on."""

    def __init__(self, card: Card, column_threshold: int) -> None:
        self.card = card
        self._column_threshold = column_threshold
        self._made: dict[str, Converter] = {}
        parts = [import_module(__name__.partition(".")[0]).__version__.encode()]
        for path in (card.path, *(f.layout_path for f in card.formats.values() if f.table.layout)):
            with open(path, "rb") as file:
                parts.append(file.read())
        self.digest = blake3(msgspec.json.encode([parts, column_threshold])).digest()

    def of(self, name: str) -> Converter:
        if name not in self._made:
            self._made[name] = Converter(
                self.card.formats[name], column_threshold=self._column_threshold
            )
        return self._made[name]


@lru_cache(maxsize=4)
def _converters(path: str, changed_ns: int, column_threshold: int) -> _Converters:
    return _Converters(Card.load(path), column_threshold)


def _convert(converters: _Converters, job: Job, folder: str) -> Done | Left | Failed:
    data = job.data
    if job.location:
        with open(job.location, "rb") as file:
            data = file.read()
    converter = converters.of(job.format)
    format = converter.format
    try:
        document: Document = format.decode(data)
        version = (
            format.scheme.parse(job.source)
            if job.source
            else format.sure_version_of(document, name=job.path)
        )
    except KindredError as error:
        raise error.inside(job.path) from None
    target: Version = format.scheme.parse(job.target)
    if version == target or (version.text in job.reads and not converter.leads(version, target)):
        return Left(job.path, version.text)
    key = blake3(
        msgspec.json.encode(
            [converters.digest, job.format, job.source, job.target, job.path, blake3(data).digest()]
        )
    ).hexdigest()[:40]
    cache = ResultCache(folder) if folder else None
    if cache is not None and (found := cache.find(key, Done)) is not None:
        return found
    made = converter.convert(document, data, target, name=job.path, source=version)
    return _done(job, format, key, made, cache)


def _done(job: Job, format: Format, key: str, made: Converted, cache: ResultCache | None) -> Done:
    done = Done(
        job.path, format.name, made.source.text, made.target.text, key, len(made.data),
        blake3(made.data).digest(), made.statement, made.findings,
        b"" if cache is not None else made.data,
    )  # fmt: skip
    if cache is not None:
        cache.put(done, made.data)
    return done


def condensed(statement: Statement, shown: Callable[[Line], bool]) -> Statement:
    """Return a statement with what was kept, and is not to be shown, as one line: of thousands of
    files, that is most."""

    def is_one_of_many(line: Line) -> bool:
        return line.outcome is Outcome.UNCHANGED and not line.became and not shown(line)

    as_it_was = [line for line in statement.lines if is_one_of_many(line)]
    if not as_it_was:
        return statement
    kept = Line(Outcome.UNCHANGED, ALL_OTHERS, count=sum(line.count for line in as_it_was))
    rest = [line for line in statement.lines if not is_one_of_many(line)]
    return replace(statement, lines=(kept, *rest))

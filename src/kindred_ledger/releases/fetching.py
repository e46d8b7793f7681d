"""Fetching: the parts of a release from a server or a folder, resumed and verified.

A server is believed in nothing: whatever it says of sizes and ranges, a file gets its name only
when it has the size and the digest that the release index gives. What was fetched stays, so that
the next run goes on there.
"""

from __future__ import annotations

import contextlib
import http.client
import os
import posixpath
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from typing import IO, Any
from urllib.parse import quote, urljoin, urlsplit

from blake3 import blake3
from msgspec import Struct

from ..errors import PlaceError, UsageError
from ..places import BLOCK, make_folders, refusals, sync_dir
from ..progress import Progress, Task
from .release_index import Part
from .sources import ASK, LARGEST_INDEX, RetryPolicy, check_part

__all__ = ["HttpSource", "fetch_part"]

_INDEX_SECONDS = 60
_SLOW_SECONDS, _SLOW_BYTES = (
    5,
    200,
)  # after so long, fewer bytes a second have no end worth waiting for
_CHUNK = 256 << 10  # bytes asked for at a time: often enough to tell that it grows
_PARTIAL, _OK, _NOT_SATISFIABLE = 206, 200, 416


class HttpSource:
    """An index at an http or https address, its parts below the same folder."""

    def __init__(self, url: str) -> None:
        self.location = url
        try:
            urlsplit(url)
        except ValueError as error:
            raise UsageError(
                f"{url!r} is no URL: {error}", remedy="Check the address, and the connection."
            ) from error
        self.name = posixpath.basename(urlsplit(url).path)
        self._base = urljoin(url, ".")
        self._opener = urllib.request.OpenerDirector()
        for handler in (
            urllib.request.ProxyHandler(),
            urllib.request.HTTPHandler(),
            urllib.request.HTTPSHandler(),
            urllib.request.HTTPRedirectHandler(),
            urllib.request.HTTPErrorProcessor(),
            urllib.request.HTTPDefaultErrorHandler(),
        ):  # no files, no data: a redirect cannot lead to this machine's own
            self._opener.add_handler(handler)

    def url(self, name: str) -> str:
        """Return the address of something below the index."""
        return urljoin(self._base, quote(name))

    def address(self, part: Part) -> str:
        return self.url(part.file)

    def read(self, name: str) -> bytes:
        url = self.location if name == self.name else self.url(name)
        patience = RetryPolicy(tries=2)
        for attempt in range(patience.tries):
            try:
                with self._opener.open(url, timeout=patience.quiet) as answer:
                    return _whole(answer, url)
            except (OSError, http.client.HTTPException, ValueError) as error:
                if attempt == patience.tries - 1 or isinstance(error, urllib.error.HTTPError):
                    raise _refused(error, url) from error
        raise AssertionError

    def fetch(self, part: Part, folder: str, *, patience: RetryPolicy, progress: Progress) -> str:
        return fetch_part(self, part, folder, patience=patience, progress=progress)

    @contextlib.contextmanager
    def open(self, name: str, start: int, mark: str, timeout: float) -> Iterator[_Answer]:
        """Ask for a file from a byte on; `mark` is what the server said it is, in an earlier answer."""
        request = urllib.request.Request(self.url(name), headers={"Accept-Encoding": "identity"})
        if start:
            request.add_header("Range", f"bytes={start}-")
            if mark:
                request.add_header("If-Range", mark)  # RFC 9110, 13.1.5: else all of it comes
        try:
            answer = self._opener.open(request, timeout=timeout)
        except urllib.error.HTTPError as error:
            if error.code != _NOT_SATISFIABLE:
                raise
            error.close()
            yield _Answer(None, -1, "")
            return
        with answer:
            at = 0 if answer.status == _OK else _start_of(answer.headers.get("Content-Range", ""))
            tag = answer.headers.get("ETag", "")
            yield _Answer(answer, at, "" if tag.startswith("W/") else tag)


class _Answer(Struct, frozen=True):
    """What a server sends: the stream, the byte it begins at (-1: none that is of use), its mark."""

    stream: IO[bytes] | None
    start: int
    mark: str


def _whole(answer: Any, url: str) -> bytes:
    """Return all of an answer that is small; one that comes a byte at a time ends with an error."""
    data, began = b"", time.monotonic()
    while len(data) < LARGEST_INDEX and (block := answer.read1(_CHUNK)):
        data += block
        seconds = time.monotonic() - began
        if seconds > _INDEX_SECONDS or (
            seconds > _SLOW_SECONDS and len(data) < _SLOW_BYTES * seconds
        ):
            raise PlaceError(
                f"the index comes too slowly: {len(data):,} bytes in {seconds:.0f} s",
                where=url,
                remedy="Try again later, or fetch the index yourself and give its path.",
            )
    return data


def _no_link(path: str, flags: int) -> int:
    """Open a file, which must not be a link: others may know the name."""
    return os.open(path, flags | getattr(os, "O_NOFOLLOW", 0), 0o666)


def _start_of(content_range: str) -> int:
    """Return the first byte of `bytes 5-9/20` (RFC 9110, 14.4); -1 if it says none."""
    unit, _, rest = content_range.strip().partition(" ")
    first = rest.partition("-")[0]
    return int(first) if unit == "bytes" and first.isdigit() else -1


def fetch_part(
    source: HttpSource, part: Part, folder: str, *, patience: RetryPolicy, progress: Progress
) -> str:
    """Fetch a part into a folder, going on where an earlier run stopped; return its path.

    Raises:
        PlaceError: nothing comes any more, or what came is not what the index describes. What was
            fetched of a good part stays as NAME.fetching.
    """
    make_folders(folder)
    path = os.path.join(folder, part.name)
    partial = f"{path}.fetching"
    with progress.task(f"fetching {part.name}", total=part.size, unit="bytes") as task:
        if os.path.isfile(path):
            check_part(part, path, task)
            return path
        with refusals(partial), open(partial, "a+b", opener=_no_link) as file:
            _Fetch(source, part, file, patience, task).run()
            file.flush()
            os.fsync(file.fileno())
        with refusals(path):
            os.replace(partial, path)
            sync_dir(folder)
    return path


class _Fetch:
    """The fetching of one part into an open file, over as many answers as it takes."""

    def __init__(
        self, source: HttpSource, part: Part, file: IO[bytes], patience: RetryPolicy, task: Task
    ) -> None:
        self._source = source
        self._part = part
        self._file = file
        self._retry_policy = patience
        self._task = task
        self._mark = ""
        self._hasher = blake3()
        self._have = 0
        self._spliced = False  # whether it was put together from several answers

    def run(self) -> None:
        self._take_stock()
        fruitless, again, furthest = 0, False, self._have
        while True:
            trouble = self._ask() if self._have < self._part.size else ""
            if self._have == self._part.size:
                if self._hasher.hexdigest() == self._part.digest:
                    return
                spliced = self._spliced
                self._begin_again()
                if again or not spliced:
                    raise self._wrong(trouble)
                again, furthest = True, 0  # a part of it may be of an older file, or another range
                continue
            fruitless = 0 if self._have > furthest else fruitless + 1
            furthest = max(furthest, self._have)
            if fruitless >= self._retry_policy.tries:
                raise self._dead(trouble)
            self._task.tell(f"quiet: {trouble}" if fruitless else "")
            time.sleep(self._retry_policy.pause * 2**fruitless if fruitless else 0)

    def _take_stock(self) -> None:
        """Hash what an earlier run fetched."""
        self._file.seek(0)
        while block := self._file.read(BLOCK):
            self._hasher.update(block)
            self._have += len(block)
        if self._have > self._part.size:
            self._begin_again()
        self._task.advance(self._have)

    def _begin_again(self) -> None:
        self._task.advance(-self._have)
        self._file.truncate(0)
        self._file.seek(0)
        self._hasher, self._have, self._mark, self._spliced = blake3(), 0, "", False

    def _ask(self) -> str:
        """Take one answer as far as it goes; return what was wrong with it."""
        try:
            with self._source.open(
                self._part.file, self._have, self._mark, self._retry_policy.quiet
            ) as answer:
                if answer.stream is None or answer.start not in (0, self._have):
                    where = "no range" if answer.start < 0 else f"byte {answer.start}"
                    asked = self._have
                    self._begin_again()
                    return f"from byte {asked} on was asked for, {where} came"
                if answer.start != self._have:
                    self._begin_again()
                self._spliced = self._spliced or self._have > 0
                self._mark = answer.mark
                return self._take(answer.stream)
        except TimeoutError:
            return f"nothing came for {self._retry_policy.quiet:g} s"
        except urllib.error.HTTPError as error:
            if error.code < 500:
                raise _refused(error, self._source.url(self._part.file)) from error
            return f"the server says {error.code} {error.reason}"
        except (http.client.HTTPException, ValueError) as error:  # led to what is no URL
            return f"the answer was cut short ({type(error).__name__})"
        except OSError as error:
            return str(getattr(error, "reason", "") or error.strerror or error)

    def _take(self, stream: IO[bytes]) -> str:
        read = getattr(stream, "read1", stream.read)
        while self._have < self._part.size:
            block = read(min(_CHUNK, self._part.size - self._have))
            if not block:
                return "the answer was cut short"
            self._file.write(block)
            self._hasher.update(block)
            self._have += len(block)
            self._task.advance(len(block))
        return "it sends more than the index says" if read(1) else ""

    def _wrong(self, trouble: str) -> PlaceError:
        return PlaceError(
            f"{self._part.name} is not what the release index describes: "
            + (trouble or "its digest is another"),
            where=self._source.url(self._part.file),
            remedy=f"It was not used. {ASK}",
        )

    def _dead(self, trouble: str) -> PlaceError:
        have, size = self._have, self._part.size
        return PlaceError(
            f"{self._part.name} is dead at {have:,} of {size:,} bytes: {trouble}",
            where=self._source.url(self._part.file),
            remedy="What came is kept; run this again to go on there.",
        )


def _refused(error: Exception, url: str) -> PlaceError:
    if isinstance(error, urllib.error.HTTPError):
        return PlaceError(f"the server says {error.code} {error.reason}", where=url, remedy=ASK)
    reason = getattr(error, "reason", "") or getattr(error, "strerror", "") or error
    return PlaceError(
        f"the server cannot be reached: {reason}",
        where=url,
        remedy="Check the address, and the connection.",
    )

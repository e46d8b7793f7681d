"""WebDAV (RFC 4918), with Python's own HTTP client and XML parser.

Nothing is taken from an answer but names, sizes and times; one with a document type is refused. A
collection is deleted with all in it, so one that is to go is moved aside first and looked at there.
"""

from __future__ import annotations

import base64
import contextlib
import http.client
import os
import ssl
from collections.abc import Iterable, Iterator, Mapping
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import SplitResult, quote, unquote, urlsplit
from xml.parsers import expat

from ...errors import PlaceError, Vanished
from ..place import BLOCK
from .credentials import Login
from .remote import Capabilities, Found, Inside
from .server import ServerRemote

__all__ = ["WebdavRemote"]

_TIMEOUT_SECONDS = 60
_ASKED = (
    b'<?xml version="1.0"?><propfind xmlns="DAV:"><prop><resourcetype/><getcontentlength/>'
    b"<getlastmodified/></prop></propfind>"
)
_LARGEST_ANSWER = 256 << 20  # bytes of a listing; more is no listing
_CLAIMS = 8  # tries for a claim that is released and taken while it is asked for
_MADE, _THERE, _NO_PARENT = 201, 405, 409  # what MKCOL answers (RFC 4918, section 9.3.1)


class WebdavRemote(ServerRemote):
    """`webdavs://host/path` (over TLS) and `webdav://host/path`."""

    capabilities = Capabilities(times=True)

    def __init__(self, parts: SplitResult, login: Login) -> None:
        super().__init__(parts, login)
        self._client: http.client.HTTPConnection | None = None

    def _connected(self) -> http.client.HTTPConnection:
        if self._client is None:
            host, port = self._parts.hostname or "", self._parts.port
            if self._parts.scheme == "webdavs":
                context = ssl.create_default_context(cafile=self._login.ca_file or None)
                self._client = http.client.HTTPSConnection(
                    host, port, timeout=_TIMEOUT_SECONDS, context=context
                )
            else:
                self._client = http.client.HTTPConnection(host, port, timeout=_TIMEOUT_SECONDS)
        return self._client

    def _ask(
        self,
        method: str,
        path: str,
        *,
        body: Any = None,
        headers: Mapping[str, str] | None = None,
        tries: int = 2,
    ) -> http.client.HTTPResponse:
        """Ask once, and once more over a new connection if the old one had gone; return the answer.

        Raises:
            Vanished: it is not there.
            PlaceError: the server refuses, or breaks off.
        """
        named = dict(headers or {})
        if self._login.user:
            known = f"{self._login.user}:{self._login.password}".encode()
            named["Authorization"] = f"Basic {base64.b64encode(known).decode()}"
        where = f"{self.location}/{path}"
        fresh = self._client is None
        try:
            client = self._connected()
            chunked = body is not None and not isinstance(body, bytes)
            if chunked:
                named["Transfer-Encoding"] = "chunked"
            address = quote(self._path(path))
            client.request(method, address, body, named, encode_chunked=chunked)
            answer = client.getresponse()
        except (OSError, http.client.HTTPException) as error:
            self.close()
            if tries > 1 and not fresh and not isinstance(error, ssl.SSLCertVerificationError):
                return self._ask(method, path, body=body, headers=headers, tries=1)
            raise self._broken(error, where) from error
        if answer.status in (404, 410):
            answer.read()
            raise Vanished("it is not there", where=where)
        return answer

    def _do(self, method: str, path: str, *wanted: int, **more: Any) -> int:
        """Ask for something that answers with no more than a status; return that.

        Raises:
            PlaceError: the status is neither a success nor one of those `wanted`.
        """
        answer = self._ask(method, path, **more)
        self._read(answer)
        return self._checked(answer, path, *wanted)

    def _checked(self, answer: http.client.HTTPResponse, path: str, *wanted: int) -> int:
        if answer.status // 100 == 2 or answer.status in wanted:
            return answer.status
        remedies = {
            401: "Check user and password; see docs/remotes.md.",
            403: "You may not do this there.",
            507: "The disk there is full, or your share of it. Make room, then run this again.",
        }
        raise PlaceError(
            f"the server refused: {answer.status} {answer.reason}",
            where=f"{self.location}/{path}",
            remedy=remedies.get(answer.status, "Check the address and what the server allows."),
        )

    def _broken(self, error: Exception, where: str) -> PlaceError:
        untrusted = isinstance(error, ssl.SSLCertVerificationError)
        return PlaceError(
            f"the server broke off: {error or 'the connection ended'}",
            where=where,
            remedy="If you know this certificate, name it as ca_file; see docs/remotes.md."
            if untrusted
            else "Check the connection, then run this again.",
        )

    def _read(self, answer: http.client.HTTPResponse) -> bytes:
        try:
            return answer.read(_LARGEST_ANSWER)
        except (OSError, http.client.HTTPException) as error:
            self.close()
            raise self._broken(error, self.location) from error

    def _properties(self, path: str, *, depth: str) -> list[tuple[str, Found | None]]:
        """Return what PROPFIND tells: the path on the server of each, and its file; None is a folder."""
        headers = {"Depth": depth, "Content-Type": 'application/xml; charset="utf-8"'}
        answer = self._ask("PROPFIND", path, body=_ASKED, headers=headers)
        data = self._read(answer)
        if answer.status == 500:  # so some say that a file went while they listed it
            raise Vanished("it cannot be listed now", where=f"{self.location}/{path}")
        self._checked(answer, path)
        try:
            return _Answer().parsed(data)
        except (expat.ExpatError, ValueError) as error:
            raise PlaceError(
                f"the server's listing cannot be read: {error}",
                where=f"{self.location}/{path}",
                remedy="Is this a WebDAV server?",
            ) from error

    def _inside(self, folder: str) -> Inside:
        own = self._path(folder).strip("/")
        found = Inside([], [])
        for path, file in self._properties(folder, depth="1"):
            if path.strip("/") == own:
                if file is not None:
                    raise Vanished("it is no folder", where=f"{self.location}/{folder}")
            elif file is None:
                found.folders.append(path.rstrip("/").rpartition("/")[2])
            else:
                found.files.append(file)
        return found

    def _is_folder(self, folder: str) -> bool:
        try:
            return any(file is None for _, file in self._properties(folder, depth="0"))
        except Vanished:
            return False

    def stat(self, path: str) -> Found | None:
        try:
            return next((file for _, file in self._properties(path, depth="0")), None)
        except Vanished:
            return None

    def read(self, path: str, *, start: int = 0, length: int | None = None) -> Iterator[bytes]:
        ranged = bool(start) or length is not None
        if length == 0:
            return
        end = "" if length is None else str(start + length - 1)
        headers = {"Range": f"bytes={start}-{end}"} if ranged else {}
        answer = self._ask("GET", path, headers=headers)
        if answer.status == 416:  # it begins behind the end
            self._read(answer)
            return
        if answer.status // 100 != 2:
            self._read(answer)
            self._checked(answer, path)
        skip = start if ranged and answer.status == 200 else 0  # it knows no ranges: all comes
        whole = False
        try:
            while block := answer.read(BLOCK):
                if skip:
                    block, skip = block[skip:], max(0, skip - len(block))
                if length is not None:
                    block, length = block[:length], length - len(block[:length])
                if block:
                    yield block
                if length == 0:
                    break
            whole = answer.isclosed()
        except (OSError, http.client.HTTPException) as error:
            raise self._broken(error, f"{self.location}/{path}") from error
        finally:
            if not whole:
                self.close()  # the rest would still come

    def write(self, path: str, blocks: Iterable[bytes], *, start: int = 0) -> None:
        filled = (block for block in blocks if block)  # an empty chunk would be the end
        self._do("PUT", path, body=filled, tries=1)

    def _claim(self, path: str) -> bool:
        for last in (*[False] * _CLAIMS, True):
            allowed = () if last else (500, 423)  # so some say that another was quicker just now
            status = self._do("MKCOL", path, _THERE, *allowed)
            if status in (_MADE, _THERE):
                return status == _MADE
            if self._is_folder(path):
                return False
        raise AssertionError("the last try returns or raises")

    def _release(self, path: str) -> None:
        with contextlib.suppress(PlaceError, Vanished):
            self._do("DELETE", path)

    def rename(self, source: str, target: str) -> None:
        scheme = "https" if self._parts.scheme == "webdavs" else "http"
        host = self._parts.netloc.rpartition("@")[2]
        to = f"{scheme}://{host}{quote(self._path(target))}"
        self._do("MOVE", source, headers={"Destination": to, "Overwrite": "T"})

    def delete(self, path: str) -> None:
        with contextlib.suppress(Vanished):
            self._do("DELETE", path)

    def make_folder(self, path: str) -> None:
        parts = [part for part in path.split("/") if part]
        try:
            if self._do("MKCOL", path, _THERE, _NO_PARENT) != _NO_PARENT:
                return
        except Vanished:
            pass
        for depth in range(len(parts) + 1):
            self._do("MKCOL", "/".join(parts[:depth]), _THERE)

    def remove_folder(self, path: str) -> None:
        aside = f"{path}.{os.urandom(4).hex()}.gone"
        try:
            self.rename(path, aside)
        except Vanished:
            return
        if self.inside(aside) != Inside([], []):
            self.rename(aside, path)
            raise PlaceError(
                "the folder cannot be removed: something is in it",
                where=f"{self.location}/{path}",
                remedy="Look what it is, then run this again.",
            )
        self._do("DELETE", aside)

    def set_time(self, path: str, seconds: float) -> None:
        pass  # a file's time is when it was put

    def close(self) -> None:
        if self._client is not None:
            self._client.close()
            self._client = None


class _Answer:
    """Reads a multistatus answer (RFC 4918, section 13)."""

    def __init__(self) -> None:
        self._found: list[tuple[str, Found | None]] = []
        self._text: list[str] = []
        self._values: dict[str, str] = {}

    def parsed(self, data: bytes) -> list[tuple[str, Found | None]]:
        parser = expat.ParserCreate(namespace_separator=" ")
        parser.StartDoctypeDeclHandler = self._refuse
        parser.StartElementHandler = self._start
        parser.EndElementHandler = self._end
        parser.CharacterDataHandler = self._text.append
        parser.Parse(data, True)
        return self._found

    def _refuse(self, *declared: object) -> None:
        raise ValueError("it has a document type")

    def _start(self, name: str, attributes: object) -> None:
        self._text.clear()
        if name == "DAV: response":
            self._values = {}
        elif name == "DAV: collection":
            self._values["folder"] = "yes"

    def _end(self, name: str) -> None:
        if name in ("DAV: href", "DAV: getcontentlength", "DAV: getlastmodified"):
            self._values.setdefault(name[5:], "".join(self._text).strip())
        elif name == "DAV: response":
            path = unquote(urlsplit(self._values["href"]).path, errors="surrogateescape")
            self._found.append((path, self._file(path)))
        self._text.clear()

    def _file(self, path: str) -> Found | None:
        if "folder" in self._values:
            return None
        changed = None
        with contextlib.suppress(ValueError):
            changed = parsedate_to_datetime(self._values.get("getlastmodified", "")).timestamp()
        size = int(self._values.get("getcontentlength") or 0)
        return Found(path.rpartition("/")[2], size, changed)

"""FTP (RFC 959, 3659) and FTP over TLS (RFC 4217), with Python's own client.

TLS is asked for before the password is sent, for files too, and the certificate is checked. A file is
seen while it is being written; what was begun can be gone on with. What MKD makes nobody else can
make, so a file that must be new is claimed by a folder beside it.
"""

from __future__ import annotations

import contextlib
import ftplib
import socket
import ssl
from calendar import timegm
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime
from typing import TypeVar
from urllib.parse import SplitResult

from ...errors import PlaceError, Vanished
from .credentials import Login
from .remote import Found, Inside
from .server import ServerRemote

__all__ = ["FtpRemote"]

_TIMEOUT_SECONDS = 60
_FAREWELL_SECONDS = 5  # for the other side to say that it has heard the end
_BLOCK = 256 << 10  # bytes a call: FTP knows nothing larger than what the network gives
_NOT_KNOWN = ("500", "502", "504")  # of commands a server has not (RFC 959, section 4.2)
_FULL = ("452", "552")  # there is no room, or no more of it for this user
_T = TypeVar("_T")


class FtpRemote(ServerRemote):
    """`ftp://host/path` and `ftps://host/path` (TLS asked for on the usual port)."""

    def __init__(self, parts: SplitResult, login: Login) -> None:
        super().__init__(parts, login)
        self._client: ftplib.FTP | None = None
        self._knows_facts = True
        self._sets_times = True

    def _connected(self) -> ftplib.FTP:
        if self._client is not None:
            return self._client
        host, port = self._parts.hostname or "", self._parts.port or ftplib.FTP_PORT
        if self._parts.scheme == "ftps":
            context = ssl.create_default_context(cafile=self._login.ca_file or None)
            secure = ftplib.FTP_TLS(context=context, timeout=_TIMEOUT_SECONDS, encoding="utf-8")
            secure.connect(host, port)
            secure.auth()
            secure.login(self._login.user, self._login.password)
            secure.prot_p()
            client: ftplib.FTP = secure
        else:
            client = ftplib.FTP(timeout=_TIMEOUT_SECONDS, encoding="utf-8")
            client.connect(host, port)
            client.login(self._login.user, self._login.password)
        client.voidcmd("TYPE I")
        with contextlib.suppress(ftplib.error_perm):  # half of a listing is facts nobody asked for
            client.sendcmd("OPTS MLST type;size;modify;")
        self._client = client
        return client

    def _do(self, path: str, work: Callable[[ftplib.FTP], _T]) -> _T:
        """Do one thing over the connection; once more over a new one if an old one had gone."""
        for fresh in (self._client is None, True):
            try:
                return work(self._connected())
            except ftplib.error_perm as error:
                raise self._refused(error, path) from error
            except (ftplib.Error, OSError, EOFError) as error:
                self._drop()
                if fresh or isinstance(error, ssl.SSLCertVerificationError):
                    raise self._refused(error, path) from error
        raise AssertionError("the second try returns or raises")

    def _drop(self) -> None:
        if self._client is not None:
            self._client.close()
            self._client = None

    def _refused(self, error: Exception, path: str) -> PlaceError | Vanished:
        where = f"{self.location}/{path}"
        text = str(error)
        if text.startswith(("550", "501")) and "permission" not in text.lower():
            return Vanished("it is not there, or may not be used", where=where)
        if text.startswith(_FULL):
            remedy = "The disk there is full, or your share of it. Make room, then run this again."
        elif text.startswith("530"):
            remedy = "Check user and password; see docs/remotes.md."
        elif isinstance(error, ssl.SSLCertVerificationError):
            remedy = "If you know this certificate, name it as ca_file; see docs/remotes.md."
        else:
            remedy = "Check the connection and the room there, then run this again."
        return PlaceError(f"the server refused or broke off: {text}", where=where, remedy=remedy)

    def _inside(self, folder: str) -> Inside:
        """Return what is in a folder, by facts (RFC 3659, section 7), or name by name on older servers."""

        def work(client: ftplib.FTP) -> list[tuple[str, dict[str, str]]] | None:
            try:
                return list(map(_facts, _lines(client, f"MLSD {self._path(folder)}")))
            except ftplib.error_perm as error:
                if str(error).startswith(_NOT_KNOWN):
                    return None
                raise

        facts = self._do(folder, work) if self._knows_facts else None
        if facts is None:
            self._knows_facts = False
            return self._inside_by_name(folder)
        return Inside(
            [
                Found(name, int(given.get("size", 0)), _seconds(given.get("modify", "")))
                for name, given in facts
                if given.get("type") == "file"
            ],
            [name for name, given in facts if given.get("type") == "dir"],
        )

    def _inside_by_name(self, folder: str) -> Inside:
        def work(client: ftplib.FTP) -> list[str]:
            try:
                return _lines(client, f"NLST {self._path(folder)}")
            except ftplib.error_perm as error:  # some say so of a folder that is empty
                client.cwd(self._path(folder))
                if str(error).startswith("550"):
                    return []
                raise

        found = Inside([], [])
        for name in {path.rstrip("/").rpartition("/")[2] for path in self._do(folder, work)}:
            path = f"{folder}/{name}" if folder else name
            if name in ("", ".", ".."):
                continue
            file = self.stat(path)
            if file is not None:
                found.files.append(file)
            elif self._is_folder(path):
                found.folders.append(name)
        return found

    def _is_folder(self, folder: str) -> bool:
        try:
            self._do(folder, lambda client: client.cwd(self._path(folder)))
        except Vanished:
            return False
        return True

    def stat(self, path: str) -> Found | None:
        def work(client: ftplib.FTP) -> Found | None:
            size = client.size(self._path(path))
            changed = None
            with contextlib.suppress(ftplib.error_perm):
                changed = _seconds(client.voidcmd(f"MDTM {self._path(path)}").partition(" ")[2])
            return None if size is None else Found(path.rpartition("/")[2], size, changed)

        try:
            return self._do(path, work)
        except Vanished:
            return None

    def read(self, path: str, *, start: int = 0, length: int | None = None) -> Iterator[bytes]:
        def begin(client: ftplib.FTP) -> socket.socket:
            return client.transfercmd(f"RETR {self._path(path)}", rest=start or None)

        data = self._do(path, begin)
        left = length
        whole = False
        try:
            with data:
                while left is None or left > 0:
                    block = data.recv(_BLOCK if left is None else min(_BLOCK, left))
                    if not block:
                        whole = True
                        break
                    left = None if left is None else left - len(block)
                    yield block
            if whole:
                self._connected().voidresp()
        except (ftplib.Error, OSError, EOFError) as error:
            whole = False
            raise self._refused(error, path) from error
        finally:
            if not whole:
                self._drop()  # the server would still be sending

    def write(self, path: str, blocks: Iterable[bytes], *, start: int = 0) -> None:
        # From an offset, not at the end: what the server last said of the size may be old.
        command = f"STOR {self._path(path)}"
        data = self._do(path, lambda client: client.transfercmd(command, rest=start or None))
        done = False
        try:
            with data:
                for block in blocks:
                    data.sendall(block)
                _end(data)
            self._connected().voidresp()
            done = True
        except (ftplib.Error, OSError, EOFError) as error:
            raise self._refused(error, path) from error
        finally:
            if not done:
                self._drop()

    def _claim(self, path: str) -> bool:
        try:
            self._do(path, lambda client: client.mkd(self._path(path)))
        except Vanished:  # it is there, or cannot be made: 550 is all that is said
            return False
        return True

    def _release(self, path: str) -> None:
        with contextlib.suppress(PlaceError, Vanished):
            self._do(path, lambda client: client.rmd(self._path(path)))

    def rename(self, source: str, target: str) -> None:
        def work(client: ftplib.FTP) -> None:
            try:
                client.rename(self._path(source), self._path(target))
            except ftplib.error_perm:  # some servers do not rename over a file
                if self.stat(source) is None:
                    raise
                client.delete(self._path(target))
                client.rename(self._path(source), self._path(target))

        self._do(source, work)

    def delete(self, path: str) -> None:
        with contextlib.suppress(Vanished):
            self._do(path, lambda client: client.delete(self._path(path)))

    def make_folder(self, path: str) -> None:
        for folder in self._above(path):
            with contextlib.suppress(Vanished):  # it is there; if not, what follows will say so
                self._do(path, lambda client, folder=folder: client.mkd(folder))  # type: ignore[misc]

    def remove_folder(self, path: str) -> None:
        try:
            self._do(path, lambda client: client.rmd(self._path(path)))
        except Vanished as error:
            if self._is_folder(path):
                raise PlaceError(
                    "the folder cannot be removed: something is in it",
                    where=error.where,
                    remedy="Look what it is, then run this again.",
                ) from error

    def set_time(self, path: str, seconds: float) -> None:
        if self._sets_times:
            when = datetime.fromtimestamp(seconds, UTC).strftime("%Y%m%d%H%M%S")
            try:
                self._do(path, lambda client: client.voidcmd(f"MFMT {when} {self._path(path)}"))
            except (PlaceError, Vanished):
                self._sets_times = False

    def close(self) -> None:
        if self._client is not None:
            with contextlib.suppress(ftplib.Error, OSError, EOFError):
                self._client.quit()
        self._drop()


def _lines(client: ftplib.FTP, command: str) -> list[str]:
    """Return the lines that a command sends."""
    whole = bytearray()
    with client.transfercmd(command) as data:
        while block := data.recv(_BLOCK):
            whole += block
        _end(data)
    client.voidresp()
    text = whole.decode("utf-8", "surrogateescape")
    return [line.rstrip("\r") for line in text.split("\n") if line.strip()]


def _facts(line: str) -> tuple[str, dict[str, str]]:
    """Return name and facts of a line of MLSD (RFC 3659, section 7.2)."""
    facts, _, name = line.partition(" ")
    pairs = (fact.partition("=") for fact in facts.split(";") if fact)
    return name, {key.lower(): value for key, _, value in pairs}


def _end(data: socket.socket) -> None:
    """Say that nothing more comes. How the other side takes it, it says where it was asked."""
    if isinstance(data, ssl.SSLSocket):
        with contextlib.suppress(OSError):
            data.settimeout(_FAREWELL_SECONDS)
            data.unwrap()


def _seconds(text: str) -> float | None:
    """Return the time that MLSD and MDTM give (RFC 3659, section 2.3)."""
    try:  # by hand: `strptime` takes most of the time of reading a listing
        parts = int(text[:4]), *(int(text[at : at + 2]) for at in range(4, 14, 2))
    except ValueError:
        return None
    return float(timegm(parts))

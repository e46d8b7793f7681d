"""SFTP, by paramiko. The server's key must be known: from the system's list, or from the login."""

from __future__ import annotations

import base64
import contextlib
import stat
from collections.abc import Iterable, Iterator
from urllib.parse import SplitResult

import paramiko

from ...errors import PlaceError, Vanished
from ..place import BLOCK
from .credentials import Login
from .remote import Found, Inside
from .server import ServerRemote

__all__ = ["SftpRemote"]

_TIMEOUT_SECONDS = 60.0
_PORT = 22
_CLAIMS = 8  # tries for a claim that is released and taken while it is asked for
_WINDOW = 8 << 20  # bytes asked for at once


class SftpRemote(ServerRemote):
    """`sftp://host/path`; the path is the server's, from its root."""

    def __init__(self, parts: SplitResult, login: Login) -> None:
        super().__init__(parts, login)
        self._ssh: paramiko.SSHClient | None = None
        self._sftp: paramiko.SFTPClient | None = None

    def _connected(self) -> paramiko.SFTPClient:
        if self._sftp is not None:
            return self._sftp
        host, port = self._parts.hostname or "", self._parts.port or _PORT
        ssh = paramiko.SSHClient()
        ssh.set_missing_host_key_policy(paramiko.RejectPolicy())
        if self._login.host_key:
            kind, _, text = self._login.host_key.partition(" ")
            key = paramiko.PKey.from_type_string(kind, base64.b64decode(text.split()[0]))
            ssh.get_host_keys().add(host if port == _PORT else f"[{host}]:{port}", kind, key)
        else:
            ssh.load_system_host_keys()
        ssh.connect(
            host,
            port,
            username=self._login.user or None,
            password=self._login.password or None,
            key_filename=self._login.key_file or None,
            timeout=_TIMEOUT_SECONDS,
            allow_agent=not self._login.password,
            look_for_keys=not self._login.password,
        )
        self._ssh = ssh
        self._sftp = ssh.open_sftp()
        channel = self._sftp.get_channel()
        if channel is not None:
            channel.settimeout(_TIMEOUT_SECONDS)
        return self._sftp

    @contextlib.contextmanager
    def _asking(self, path: str) -> Iterator[paramiko.SFTPClient]:
        where = f"{self.location}/{path}"
        try:
            yield self._connected()
        except FileNotFoundError as error:
            raise Vanished("it is not there", where=where) from error
        except paramiko.BadHostKeyException as error:
            raise PlaceError(
                "the server's key is not the one that is known of it",
                where=where,
                remedy="Somebody may be in between. Ask who runs the server; see docs/remotes.md.",
            ) from error
        except paramiko.AuthenticationException as error:
            raise PlaceError(
                "the server does not take this user and password, or key",
                where=where,
                remedy="Check them; see docs/remotes.md.",
            ) from error
        except paramiko.SSHException as error:
            self.close()
            unknown = "not found in known_hosts" in str(error)
            raise PlaceError(
                "the server's key is not known" if unknown else f"SSH broke off: {error}",
                where=where,
                remedy="Connect once with ssh to look at it, or name it as host_key; see "
                "docs/remotes.md."
                if unknown
                else "Check the connection, then run this again.",
            ) from error
        except UnicodeDecodeError as error:
            raise PlaceError(
                "the server names a file in no valid text",
                where=where,
                remedy="Rename it there, then run this again.",
            ) from error
        except (OSError, EOFError) as error:
            if not isinstance(error, PermissionError):
                self.close()
            raise PlaceError(
                f"the server refused or broke off: {error or 'the connection ended'}",
                where=where,
                remedy="Check the connection and the room there, then run this again.",
            ) from error

    def _inside(self, folder: str) -> Inside:
        with self._asking(folder) as sftp:
            found = sftp.listdir_attr(self._path(folder))
        return Inside(
            [
                Found(one.filename, one.st_size or 0, _time(one))
                for one in found
                if stat.S_ISREG(one.st_mode or 0)
            ],
            [one.filename for one in found if stat.S_ISDIR(one.st_mode or 0)],
        )

    def _is_folder(self, folder: str) -> bool:
        found = self._stat(folder)
        return found is not None and stat.S_ISDIR(found.st_mode or 0)

    def _stat(self, path: str) -> paramiko.SFTPAttributes | None:
        try:
            with self._asking(path) as sftp:
                return sftp.stat(self._path(path))
        except Vanished:
            return None

    def stat(self, path: str) -> Found | None:
        found = self._stat(path)
        if found is None or not stat.S_ISREG(found.st_mode or 0):
            return None
        return Found(path.rpartition("/")[2], found.st_size or 0, _time(found))

    def read(self, path: str, *, start: int = 0, length: int | None = None) -> Iterator[bytes]:
        with self._asking(path) as sftp, sftp.open(self._path(path), "rb") as file:
            size = file.stat().st_size or 0
            end = size if length is None else min(start + length, size)
            while start < end:  # a window at a time is asked for ahead of need
                window = range(start, min(start + _WINDOW, end), BLOCK)
                spans = [(at, min(BLOCK, end - at)) for at in window]
                for block in file.readv(spans):
                    start += len(block)
                    yield block
                if start < min(window.start + _WINDOW, end):
                    raise EOFError

    def write(self, path: str, blocks: Iterable[bytes], *, start: int = 0) -> None:
        with (
            self._asking(path) as sftp,
            sftp.open(self._path(path), "r+b" if start else "wb") as file,
        ):
            file.set_pipelined(True)
            file.seek(start)
            for block in blocks:
                file.write(block)

    def _claim(self, path: str) -> bool:
        with self._asking(path) as sftp:
            for attempt in range(_CLAIMS):
                try:
                    sftp.mkdir(self._path(path))
                except FileNotFoundError:
                    raise
                except OSError as refusal:  # version 3 of the protocol says no more than this
                    try:
                        sftp.stat(self._path(path))
                    except FileNotFoundError:
                        # Whoever had it released it just now, and another may be sooner; or none
                        # can be made.
                        if attempt == _CLAIMS - 1:
                            raise refusal from None
                        continue
                    return False
                return True
        return False

    def _release(self, path: str) -> None:
        with contextlib.suppress(PlaceError, Vanished), self._asking(path) as sftp:
            sftp.rmdir(self._path(path))

    def rename(self, source: str, target: str) -> None:
        one, other = self._path(source), self._path(target)
        with self._asking(source) as sftp:
            try:
                sftp.posix_rename(one, other)
            except FileNotFoundError:
                raise
            except OSError:  # an extension of OpenSSH's; without it nothing may have the new name
                sftp.rename(one, other)

    def delete(self, path: str) -> None:
        with contextlib.suppress(Vanished), self._asking(path) as sftp:
            sftp.remove(self._path(path))

    def make_folder(self, path: str) -> None:
        for folder in self._above(path):
            with self._asking(path) as sftp:
                try:
                    sftp.stat(folder)
                except FileNotFoundError:
                    with contextlib.suppress(OSError):  # somebody else made it just now
                        sftp.mkdir(folder)
                    sftp.stat(folder)

    def remove_folder(self, path: str) -> None:
        with contextlib.suppress(Vanished), self._asking(path) as sftp:
            sftp.rmdir(self._path(path))

    def set_time(self, path: str, seconds: float) -> None:
        with contextlib.suppress(PlaceError, Vanished), self._asking(path) as sftp:
            sftp.utime(self._path(path), (int(seconds), int(seconds)))

    def close(self) -> None:
        for client in (self._sftp, self._ssh):
            if client is not None:
                with contextlib.suppress(OSError, EOFError, paramiko.SSHException):
                    client.close()
        self._sftp = self._ssh = None


def _time(found: paramiko.SFTPAttributes) -> float | None:
    return None if found.st_mtime is None else float(found.st_mtime)

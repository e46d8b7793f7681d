"""Real servers on loopback for the tests: SFTP and a store of objects; FTP is the demo's. How they fail."""

from __future__ import annotations

import asyncio
import contextlib
import errno
import logging
import os
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, ClassVar
from urllib.parse import urlsplit

from kindred_ledger.demo.rented_server import PASSWORD, USER
from kindred_ledger.places.remotes import Login


@contextmanager
def sftp_server(root: str) -> Iterator[tuple[str, Login]]:
    """Serve a folder; yield URL and login."""
    import asyncssh

    for name in ("asyncio", "asyncssh"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    logging.getLogger("paramiko").setLevel(logging.CRITICAL)
    key = asyncssh.generate_private_key("ssh-ed25519")

    class Server(asyncssh.SSHServer):
        def begin_auth(self, username: str) -> bool:
            return True

        def password_auth_supported(self) -> bool:
            return True

        def validate_password(self, username: str, password: str) -> bool:
            return (username, password) == (USER, PASSWORD)

    started: list[Any] = []
    ready = threading.Event()
    loop = asyncio.new_event_loop()

    async def serve() -> None:
        started.append(
            await asyncssh.create_server(
                Server,
                "127.0.0.1",
                0,
                server_host_keys=[key],
                sftp_factory=lambda channel: asyncssh.SFTPServer(channel, chroot=root.encode()),
            )
        )
        ready.set()

    async def end() -> None:
        started[0].close()
        tasks = asyncio.all_tasks() - {asyncio.current_task()}
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    def run() -> None:
        asyncio.set_event_loop(loop)
        loop.run_until_complete(serve())
        loop.run_forever()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    ready.wait(10)
    port = started[0].get_port()
    line = key.export_public_key().decode().strip()
    try:
        yield f"sftp://127.0.0.1:{port}", Login(USER, PASSWORD, host_key=line)
    finally:
        asyncio.run_coroutine_threadsafe(end(), loop).result(10)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)


@contextmanager
def object_store() -> Iterator[tuple[str, Login]]:
    """Run a store of objects with one bucket; yield URL and login."""
    import boto3
    from moto.server import ThreadedMotoServer

    logging.getLogger("werkzeug").setLevel(logging.CRITICAL)
    bucket = f"ferries-{os.urandom(4).hex()}"  # the store is one for all servers of a process
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    try:
        host, port = server.get_host_and_port()
        login = Login("ferrykey", "ferrysecret", endpoint=f"http://{host}:{port}")
        boto3.client(
            "s3",
            endpoint_url=login.endpoint,
            aws_access_key_id=login.user,
            aws_secret_access_key=login.password,
            region_name="us-east-1",
        ).create_bucket(Bucket=bucket)
        yield f"s3://{bucket}", login
    finally:
        server.stop()


@contextmanager
def webdav_server(root: str) -> Iterator[tuple[str, Login]]:
    """Serve a folder; yield URL and login."""
    from cheroot import wsgi
    from wsgidav.wsgidav_app import WsgiDAVApp

    for name in ("wsgidav", "cheroot"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    settings = {
        "provider_mapping": {"/": root},
        "simple_dc": {"user_mapping": {"*": {USER: {"password": PASSWORD}}}},
        "http_authenticator": {"accept_digest": False, "default_to_digest": False},
        "logging": {"enable": False},
        "verbose": 0,
    }
    server = wsgi.Server(("127.0.0.1", 0), WsgiDAVApp(settings))
    server.error_log = lambda *args, **more: None
    server.prepare()
    thread = threading.Thread(target=server.serve, daemon=True)
    thread.start()
    try:
        yield f"webdav://127.0.0.1:{server.bind_addr[1]}", Login(USER, PASSWORD)
    finally:
        server.stop()
        thread.join(10)


@contextmanager
def broken_line(url: str) -> Iterator[tuple[str, Line]]:
    """Lead to a server through a line that can be told to break; yield the URL to use, and the line."""
    parts = urlsplit(url)
    line = Line((parts.hostname or "", parts.port or 0))
    try:
        yield parts._replace(netloc=f"127.0.0.1:{line.port}").geturl(), line
    finally:
        line.close()


class Line:
    """Passes on what comes, until so many bytes went to the server; then nothing gets through."""

    def __init__(self, server: tuple[str, int]) -> None:
        self._server = server
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = self._socket.getsockname()[1]
        self.left = -1  # bytes that still get through; -1: all
        self.passed = 0
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                near, _ = self._socket.accept()
                far = socket.create_connection(self._server)
                for end in (near, far):
                    end.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                for one, other, counts in ((near, far, True), (far, near, False)):
                    threading.Thread(
                        target=self._pass, args=(one, other, counts), daemon=True
                    ).start()

    def _pass(self, source: socket.socket, target: socket.socket, counts: bool) -> None:
        with contextlib.suppress(OSError), source, target:
            while data := source.recv(1 << 16):
                if counts:
                    self.passed += len(data)
                    if self.left >= 0:
                        self.left = max(0, self.left - len(data))
                if not self.left:
                    for end in (source, target):
                        end.shutdown(socket.SHUT_RDWR)
                    return
                target.sendall(data)

    def close(self) -> None:
        self._socket.close()


class _Counted:
    """A file of the server that counts what is stored, and may store less, or break off."""

    def __init__(self, file: Any) -> None:
        self._file = file

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)

    def write(self, data: bytes) -> None:
        Manner.stored += len(data)
        self._file.write(data[: len(data) // 2] if Manner.halves else data)
        if 0 <= Manner.cut_after < Manner.stored:
            Manner.away = True
            Manner.last.close()
            raise OSError(errno.EIO, "the line broke")


class Manner:
    """How the FTP server misbehaves: comes before pyftpdlib's own handler."""

    refused: ClassVar[set[str]] = set()
    drop_at = 0  # of the commands that come in
    stay_away = False  # after that nobody gets in
    away = False
    count = 0
    last: Any = None  # the connection that the last command came from
    room = -1  # bytes that can still be stored
    before: Any = None  # called with each command, before it is carried out
    lie = 0  # bytes that sizes are said to be larger
    cut_after = -1  # bytes of one file; then the line breaks, for good
    stored = 0
    halves = False  # half of what is sent is stored

    @classmethod
    def reset(cls) -> None:
        cls.refused, cls.drop_at, cls.stay_away, cls.away = set(), 0, False, False
        cls.count, cls.room, cls.before, cls.lie = 0, -1, None, 0
        cls.cut_after, cls.stored, cls.halves = -1, 0, False

    @property
    def abstracted_fs(self) -> type:
        from pyftpdlib.filesystems import AbstractedFS

        class Stored(AbstractedFS):  # type: ignore[misc]
            def open(self, name: str, mode: str) -> Any:
                file = super().open(name, mode)
                return file if mode == "rb" else _Counted(file)

        return Stored

    def process_command(self, cmd: str, *args: Any, **kwargs: Any) -> None:
        Manner.count += 1
        Manner.last = self
        if Manner.away or Manner.count == Manner.drop_at:
            Manner.away = Manner.stay_away
            self.close()
            return
        if Manner.before is not None:
            Manner.before(cmd, *args)
        if cmd in Manner.refused:
            self.respond(f"502 {cmd} is not known here.")
            return
        super().process_command(cmd, *args, **kwargs)  # type: ignore[misc]

    def ftp_STOR(self, file: str, mode: str = "w") -> Any:
        if Manner.room >= 0:
            if Manner.room < 1000:
                self.respond("552 There is no room left.")
                return None
            Manner.room -= 1000
        return super().ftp_STOR(file, mode)  # type: ignore[misc]

    def ftp_SIZE(self, path: str) -> None:
        if not Manner.lie:
            super().ftp_SIZE(path)  # type: ignore[misc]
            return
        self.respond(f"213 {os.path.getsize(path) + Manner.lie}")

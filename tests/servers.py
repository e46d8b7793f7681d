"""Real servers on loopback for the tests: FTP with TLS, SFTP, and a store of objects."""

from __future__ import annotations

import asyncio
import datetime
import ipaddress
import logging
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from kindred_ledger.places.remotes import Login

USER, PASSWORD = "ferry", "peat-and-moss-71"


@contextmanager
def ftp_server(root: str, scratch: str, *, tls: bool = True) -> Iterator[tuple[str, Login]]:
    """Serve a folder; yield URL and login."""
    from pyftpdlib.authorizers import DummyAuthorizer
    from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
    from pyftpdlib.servers import FTPServer

    quiet = logging.getLogger("pyftpdlib")
    quiet.addHandler(logging.NullHandler())  # without one the server brings its own, and level INFO
    quiet.propagate = False
    authorizer = DummyAuthorizer()
    authorizer.add_user(USER, PASSWORD, root, perm="elradfmwMT")
    base = TLS_FTPHandler if tls else FTPHandler
    settings: dict[str, Any] = {"authorizer": authorizer, "auth_failed_timeout": 0}
    login = Login(USER, PASSWORD)
    if tls:
        certificate = certificate_in(scratch)
        settings |= {"certfile": certificate, "tls_control_required": True}
        settings |= {"tls_data_required": True}
        login = Login(USER, PASSWORD, ca_file=certificate)
    handler = type("Handler", (base,), settings)
    server = FTPServer(("127.0.0.1", 0), handler)
    port = server.socket.getsockname()[1]
    ended = threading.Event()

    def run() -> None:
        while not ended.is_set():
            server.ioloop.loop(timeout=0.02, blocking=False)
        server.close_all()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    try:
        yield f"{'ftps' if tls else 'ftp'}://127.0.0.1:{port}", login
    finally:
        ended.set()
        thread.join(10)


@contextmanager
def sftp_server(root: str) -> Iterator[tuple[str, Login]]:
    """Serve a folder; yield URL and login."""
    import asyncssh

    logging.getLogger("asyncssh").setLevel(logging.CRITICAL)
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


def certificate_in(folder: str) -> str:
    """Make a certificate for loopback, with its key in the same file; return its path."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.x509.oid import NameOID

    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "127.0.0.1")])
    now = datetime.datetime.now(datetime.UTC)
    day = datetime.timedelta(days=1)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - day)
        .not_valid_after(now + day)
        .add_extension(
            x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]),
            critical=False,
        )
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    path = os.path.join(folder, "server.pem")
    with open(path, "wb") as file:
        file.write(
            key.private_bytes(
                serialization.Encoding.PEM,
                serialization.PrivateFormat.PKCS8,
                serialization.NoEncryption(),
            )
        )
        file.write(certificate.public_bytes(serialization.Encoding.PEM))
    return path

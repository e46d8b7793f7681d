"""The rented server, simulated: a folder behind FTP over TLS, as a person rents one to run Mossferry on.

It listens on loopback only. Needs the extra `demo`.
"""

from __future__ import annotations

import datetime
import ipaddress
import logging
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from msgspec.structs import asdict

from ..places.remotes import Login

__all__ = ["PASSWORD", "USER", "certificate_in", "rented_server", "write_remotes"]

USER, PASSWORD = "ferry", "peat-and-moss-71"


@contextmanager
def rented_server(
    root: str, scratch: str, *, tls: bool = True, port: int = 0, manner: type | None = None
) -> Iterator[tuple[str, Login]]:
    """Serve a folder; yield URL and login. The certificate is made in `scratch`.

    `manner` is a class whose methods come before those of pyftpdlib's handler: how it misbehaves.
    """
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
        login = Login(USER, PASSWORD, ca_file=os.path.abspath(certificate))
    bases = (base,) if manner is None else (manner, base)
    server = FTPServer(("127.0.0.1", port), type("Handler", bases, settings))
    at = server.socket.getsockname()[1]
    ended = threading.Event()

    def run() -> None:
        while not ended.is_set():
            server.ioloop.loop(timeout=0.02, blocking=False)
        server.close_all()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    try:
        yield f"{'ftps' if tls else 'ftp'}://127.0.0.1:{at}", login
    finally:
        ended.set()
        thread.join(10)


def write_remotes(path: str, url: str, login: Login) -> None:
    """Write the file in which `kindred` finds what there is to log in."""
    known = {name: value for name, value in asdict(login).items() if value}
    lines = (f'["{url}"]', *(f'{name} = "{value}"' for name, value in known.items()))
    with open(path, "w", encoding="utf-8") as file:
        os.chmod(path, 0o600)
        file.write("\n".join(lines) + "\n")


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

"""Remote storage: a rented server, a network folder or a store of objects, through one small interface."""

from .connecting import connect, is_remote
from .credentials import Login, login_for
from .place import RemotePlace
from .remote import Capabilities, Found, Inside, Remote, digest_of, fetch, gives_back, send

__all__ = [
    "Capabilities",
    "Found",
    "Inside",
    "Login",
    "Remote",
    "RemotePlace",
    "connect",
    "digest_of",
    "fetch",
    "gives_back",
    "is_remote",
    "login_for",
    "send",
]

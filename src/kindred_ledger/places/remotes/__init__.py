"""Remote storage: a rented server, a network folder or a store of objects, through one small interface."""

from .connecting import connect, is_remote
from .credentials import Login, login_for
from .place import RemotePlace
from .remote import Capabilities, Found, Remote, digest_of, fetch, send

__all__ = [
    "Capabilities",
    "Found",
    "Login",
    "Remote",
    "RemotePlace",
    "connect",
    "digest_of",
    "fetch",
    "is_remote",
    "login_for",
    "send",
]

"""Credentials: how to prove to a remote who one is, and how it proves itself.

They come from the environment, from a file that only its owner may read, or from whoever is asked;
they are never written, and what is printed of them leaves the secrets out.
"""

from __future__ import annotations

import os
import stat
import tomllib
from collections.abc import Callable, Mapping
from urllib.parse import SplitResult, urlsplit

from msgspec import Struct, ValidationError, convert
from msgspec.structs import replace

from ...errors import UsageError

__all__ = ["Login", "login_for", "split_url"]

_USER, _PASSWORD = "KINDRED_REMOTE_USER", "KINDRED_REMOTE_PASSWORD"
_OPEN = stat.S_IRWXG | stat.S_IRWXO


class Login(Struct, frozen=True, forbid_unknown_fields=True):
    """What is known of a remote beside its URL; empty is unknown.

    For s3 `user` and `password` are the access key and its secret. `host_key` is a line as
    OpenSSH writes it (`ssh-ed25519 AAAA…`), `ca_file` the certificates to trust instead of the
    system's, `endpoint` where an S3 store is if not at its usual place.

    >>> remote = kl.connect("file:server", kl.Login(user="deck", key_file="id_ed25519"))
    >>> remote.location
    'file:///server'
    """

    user: str = ""
    password: str = ""
    key_file: str = ""
    host_key: str = ""
    ca_file: str = ""
    endpoint: str = ""
    region: str = ""

    def __repr__(self) -> str:
        return f"Login({self.user!r})"


def split_url(url: str) -> SplitResult:
    """Return the parts of a URL.

    Raises:
        UsageError: it is none.
    """
    try:
        parts = urlsplit(url)
        _ = parts.port
    except ValueError as error:
        raise UsageError(
            f"{url!r} is no URL: {error}", remedy="Check how it is written."
        ) from error
    return parts


def login_for(
    url: str,
    environ: Mapping[str, str],
    *,
    file: str = "",
    ask: Callable[[str], str] | None = None,
) -> Login:
    """Return what is known of a remote: from the URL, the file, the environment, and by asking.

    `file` is TOML with a table for each remote, headed by the beginning of its URL; `ask` is
    called with a question where a password is still wanted.

    Raises:
        UsageError: the file cannot be read, or others may read it.
    """
    parts = split_url(url)
    login = _from_file(url, file) if file and os.path.exists(file) else Login()
    changes = {"user": parts.username or environ.get(_USER) or login.user}
    changes["password"] = environ.get(_PASSWORD) or login.password
    if parts.scheme == "s3":
        changes["user"] = environ.get("AWS_ACCESS_KEY_ID") or changes["user"]
        changes["password"] = environ.get("AWS_SECRET_ACCESS_KEY") or changes["password"]
        changes["endpoint"] = environ.get("AWS_ENDPOINT_URL") or login.endpoint
        changes["region"] = environ.get("AWS_REGION") or login.region
    login = replace(login, **changes)
    wanted = parts.scheme != "file" and not login.password and not login.key_file
    if wanted and ask is not None:
        who = f"{login.user}@" if login.user else ""
        login = replace(login, password=ask(f"Password for {who}{parts.hostname or url}"))
    return login


def _from_file(url: str, file: str) -> Login:
    found = os.stat(file)
    if os.name != "nt" and found.st_uid not in (os.getuid(), 0):
        raise UsageError(
            "this file is another user's, so what it says of servers is not believed",
            where=file,
            remedy="Use a file of your own.",
        )
    if os.name != "nt" and found.st_mode & _OPEN:
        raise UsageError(
            "others may read this file, which holds passwords",
            where=file,
            remedy=f"Close it to them: chmod 600 {file}",
        )
    try:
        with open(file, "rb") as opened:
            tables = tomllib.load(opened)
        plain = _without_user(url)
        fitting = [key for key in tables if plain == key or plain.startswith(key.rstrip("/") + "/")]
        return convert(tables[max(fitting, key=len)], Login) if fitting else Login()
    except (ValueError, ValidationError) as error:
        raise UsageError(f"it cannot be read: {_harmless(error)}", where=file) from None


def _harmless(error: Exception) -> str:
    """Return what is wrong without the text of the file, which may be a secret."""
    return str(error) if isinstance(error, ValidationError) else "it is not TOML"


def _without_user(url: str) -> str:
    scheme, _, rest = url.partition("://")
    host, slash, path = rest.partition("/")
    return f"{scheme}://{host.rpartition('@')[2]}{slash}{path}"

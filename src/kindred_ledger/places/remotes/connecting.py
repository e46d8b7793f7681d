"""Connecting: from a URL to the remote it names; a kind's client is imported when it is asked for."""

from __future__ import annotations

from importlib import import_module

from ...errors import UsageError
from .credentials import Login, split_url
from .remote import Remote

__all__ = ["connect", "is_remote"]

_KINDS = {
    "file": ("folder", "FolderRemote"),
    "ftp": ("ftp", "FtpRemote"),
    "ftps": ("ftp", "FtpRemote"),
    "sftp": ("sftp", "SftpRemote"),
    "s3": ("objects", "ObjectRemote"),
    "webdav": ("webdav", "WebdavRemote"),
    "webdavs": ("webdav", "WebdavRemote"),
}


def is_remote(text: str) -> bool:
    """Tell whether a text is the URL of a remote."""
    return "://" in text


def connect(url: str, login: Login | None = None) -> Remote:
    """Return the remote at a URL: file, ftp, ftps (explicit TLS), sftp, s3, webdav or webdavs (TLS).

    Nothing is sent before it is used.

    Raises:
        UsageError: the URL cannot be read, holds a password, or its kind needs a package.

    >>> kl.connect("file:server").location
    'file:///server'
    """
    parts = split_url(url)
    if parts.scheme not in _KINDS:
        raise UsageError(
            f"{parts.scheme or url!r} is no kind of remote",
            remedy=f"There are: {', '.join(_KINDS)}.",
        )
    if parts.password is not None:
        raise UsageError(
            "a password does not belong into a URL, which is shown and kept",
            remedy="See docs/remotes.md for the places where it does.",
        )
    module, name = _KINDS[parts.scheme]
    try:
        kind = getattr(import_module(f".{module}", __package__), name)
        remote: Remote = kind(parts, login or Login())
    except ImportError as error:
        raise UsageError(
            f"{parts.scheme} needs the package {error.name}",
            remedy="Install it: pip install 'kindred-ledger[remote]'",
        ) from error
    return remote

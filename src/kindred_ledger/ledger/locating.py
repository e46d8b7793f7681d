"""Locating: what a ledger is asked for by: a folder, an encrypted one, a remote; and on which machine."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from ..errors import UsageError
from .storage import refuse_links

if TYPE_CHECKING:
    from ..places.remotes import Remote

__all__ = ["folder_at", "is_encrypted", "remote_at", "this_machine"]


def this_machine() -> str:
    """Return the name of this machine."""
    return os.uname().nodename if hasattr(os, "uname") else os.environ.get("COMPUTERNAME", "")


def folder_at(where: str | os.PathLike[str]) -> str:
    """Return the whole path of a folder that is named by its path.

    Raises:
        UsageError: a URL was given, from which a folder of that name would be made.
    """
    path = os.fspath(where)
    if "://" in path:
        raise UsageError(
            "a URL was given where a folder is expected",
            where=path,
            remedy="Give the remote: Ledger.open(connect(URL)), with kl.connect.",
        )
    return os.path.abspath(os.path.expanduser(path))


def is_encrypted(root: str) -> bool:
    """Tell whether the ledger in a folder is encrypted."""
    keys = os.path.join(root, "keys")
    return os.path.isdir(keys)  # empty, too: then they are lost, and it must not be taken for plain


def remote_at(where: str | os.PathLike[str] | Remote) -> Remote:
    """Return a folder as the remote it may be looked at as, too."""
    if not isinstance(where, (str, os.PathLike)):
        return where
    from pathlib import Path

    from ..places.remotes import connect

    root = folder_at(where)
    refuse_links(root)
    return connect(Path(root).as_uri())

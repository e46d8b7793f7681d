"""Locating: what a ledger is asked for by: a folder, an encrypted one, a remote; and on which machine."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from .storage import refuse_links

if TYPE_CHECKING:
    from ..places.remotes import Remote

__all__ = ["is_sealed", "remote_at", "this_machine"]


def this_machine() -> str:
    """Return the name of this machine."""
    return os.uname().nodename if hasattr(os, "uname") else os.environ.get("COMPUTERNAME", "")


def is_sealed(where: str | os.PathLike[str]) -> bool:
    """Tell whether the ledger in a folder is encrypted."""
    keys = os.path.join(os.path.expanduser(os.fspath(where)), "keys")
    return os.path.isdir(keys)  # empty, too: then they are lost, and it must not be taken for plain


def remote_at(where: str | os.PathLike[str] | Remote) -> Remote:
    """Return a folder as the remote it may be looked at as, too."""
    if not isinstance(where, (str, os.PathLike)):
        return where
    from pathlib import Path

    from ..places.remotes import connect

    root = os.path.abspath(os.path.expanduser(os.fspath(where)))
    refuse_links(root)
    return connect(Path(root).as_uri())

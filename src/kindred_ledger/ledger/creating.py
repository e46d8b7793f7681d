"""Creating a ledger in a folder, and telling one whose settings are lost."""

from __future__ import annotations

import contextlib
import os
import re

from ..errors import LedgerError
from ..places import make_folders, refusals, write_once
from . import settings

__all__ = ["create", "holds_something"]

_FOLDERS = ("packs", "entries", "history", "marks", "work")


def create(root: str) -> None:
    """Make a ledger in a folder, unless another process just did.

    Raises:
        LedgerError: the folder holds something else.
    """
    names = os.listdir(root) if os.path.isdir(root) else []
    path = os.path.join(root, settings.SETTINGS)
    begun = re.compile(rf"{re.escape(settings.SETTINGS)}\..*part")  # a creation that was cut off
    strange = [name for name in names if name not in _FOLDERS and not begun.fullmatch(name)]
    if strange and not os.path.exists(path):
        raise LedgerError(
            "this folder is neither empty nor a ledger",
            where=root,
            remedy="Choose an empty folder.",
        )
    with refusals(root):
        for name in _FOLDERS:
            make_folders(os.path.join(root, name), private=True)
        with contextlib.suppress(FileExistsError):
            write_once(path, settings.new())


def holds_something(root: str) -> bool:
    """Tell whether a folder holds what a ledger does, though its settings are lost."""
    folders = [os.path.join(root, name) for name in ("packs", "entries")]
    return all(map(os.path.isdir, folders)) and any(map(os.listdir, folders))

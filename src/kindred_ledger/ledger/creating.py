"""Beginning with the folder of a ledger: it is one, it lost its settings, or it is made one."""

from __future__ import annotations

import contextlib
import os
import re

from ..errors import LedgerError, NoLedger
from ..places import make_folders, refusals, write_once
from . import settings

__all__ = ["begin"]

_FOLDERS = ("packs", "entries", "history", "marks", "work")


def begin(root: str, *, create: bool) -> None:
    """Check that a folder is a ledger, or make it one; one whose settings alone are lost will do.

    Raises:
        NoLedger: there is none, and none is to be made.
        LedgerError: the folder holds something else, or a ledger of a newer format.
        PlaceError: the system refuses.
    """
    with refusals(root):
        try:
            settings.read(root)
        except FileNotFoundError:
            if _holds_something(root):
                return  # `verify` tells it
            if not create:
                raise NoLedger(
                    "there is no ledger here", where=root, remedy="Check the path."
                ) from None
            _create(root)
    for name in ("marks", "work"):  # of these nothing is needed that is elsewhere
        with contextlib.suppress(OSError):
            make_folders(os.path.join(root, name), private=True)


def _create(root: str) -> None:
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


def _holds_something(root: str) -> bool:
    """Tell whether a folder holds what a ledger does, though its settings are lost."""
    folders = [os.path.join(root, name) for name in ("packs", "entries")]
    return all(map(os.path.isdir, folders)) and any(map(os.listdir, folders))

"""Tidying: what commands that were cut off left in a ledger, and nobody will go on with."""

from __future__ import annotations

import contextlib
import os
import re
import time
from collections.abc import Iterator

from ..places import remove_tree

__all__ = ["OLD_SECONDS", "tidy"]

OLD_SECONDS = 3600.0  # far longer than any command leaves a file before it gets its name
# Names that only this program gives, each with a part that is made at random.
_PART = re.compile(r".+\.[0-9a-f]{8,16}\.part")
_ROOM = re.compile(r"(?:archive-\w{8}|kept-[0-9a-f]{12}|fetching-[0-9a-f]{12})")
_FOLDERS = ("", "packs", "entries", "history", "marks", "keys", "tails", "retiring", "work")


def tidy(root: str, *, older_than_seconds: float = OLD_SECONDS) -> list[str]:
    """Remove parts and rooms in a ledger's folder on this machine; return their names, sorted.

    What is younger may be under way. Links are removed, never followed.
    """
    before = time.time() - older_than_seconds
    return sorted(name for name in _left_overs(root, before) if _gone(os.path.join(root, name)))


def _left_overs(root: str, before: float) -> Iterator[str]:
    for folder in _FOLDERS:
        with contextlib.suppress(FileNotFoundError, NotADirectoryError):
            for entry in os.scandir(os.path.join(root, folder)):
                fits = _PART.fullmatch(entry.name) or (
                    folder == "work" and _ROOM.fullmatch(entry.name)
                )
                with contextlib.suppress(FileNotFoundError):
                    if fits and entry.stat(follow_symlinks=False).st_mtime < before:
                        yield os.path.join(folder, entry.name)


def _gone(path: str) -> bool:
    """Remove a file, or a folder and all in it; tell whether that could be done."""
    try:
        if os.path.isdir(path) and not os.path.islink(path):
            remove_tree(path)
        else:
            os.remove(path)
    except OSError:
        return False
    return True

"""Tidying: what commands that were cut off left in a ledger, and nobody will go on with."""

from __future__ import annotations

import contextlib
import os
import re
import time
from collections.abc import Iterator

import msgspec

from ..os_names import as_name, json_bytes
from ..places import remove_tree, write_once
from ..small_files import read_small

__all__ = ["OLD_SECONDS", "making_folders", "tidy"]

OLD_SECONDS = 3600.0  # far longer than any command leaves a file before it gets its name
# Names that only this program gives, each with a part that is made at random.
_PART = re.compile(r".+\.[0-9a-f]{8,16}\.part")
_ROOM = re.compile(r"(?:archive-\w{8}|kept-[0-9a-f]{12}|fetching-[0-9a-f]{12})")
_MADE = re.compile(
    r"made-[0-9a-f]{12}\.json"
)  # which folders were made for what was to come into them
_FOLDERS = ("", "packs", "entries", "history", "marks", "keys", "tails", "retiring", "work")


def tidy(root: str, *, older_than_seconds: float = OLD_SECONDS) -> list[str]:
    """Remove parts and rooms in a ledger's folder on this machine, and empty folders made elsewhere.

    Return their names, sorted. What is younger may be under way. Links are removed, never followed.
    """
    before = time.time() - older_than_seconds
    gone = []
    for name in _left_overs(root, before):
        path = os.path.join(root, name)
        if _MADE.fullmatch(os.path.basename(name)):
            gone += _without_empty(path)
        elif _gone(path):
            gone.append(name)
    return sorted(gone)


@contextlib.contextmanager
def making_folders(root: str, folder: str) -> Iterator[None]:
    """Make a folder, and those on the way to it; what is still empty after the block, or a cut, goes again.

    `root` is the ledger's, where that is noted, if it can be.
    """
    top = folder
    while not os.path.exists(os.path.dirname(top)):
        top = os.path.dirname(top)
    note = os.path.join(root, "work", f"made-{os.urandom(6).hex()}.json")
    with contextlib.suppress(OSError):
        write_once(note, json_bytes({"top": top, "folder": folder}))
    try:
        os.makedirs(folder)
        yield
    finally:
        _remove_empty(top, folder)
        with contextlib.suppress(OSError):
            os.remove(note)


def _without_empty(note: str) -> list[str]:
    """Remove the folders that a note names, if they are empty, and the note; return those that went."""
    gone = []
    with contextlib.suppress(OSError, msgspec.MsgspecError):
        noted = msgspec.json.decode(
            read_small(note, most=1 << 16, follow=False), type=dict[str, str]
        )
        gone = _remove_empty(as_name(noted.get("top", "")), as_name(noted.get("folder", "")))
    with contextlib.suppress(OSError):
        os.remove(note)
    return gone


def _remove_empty(top: str, folder: str) -> list[str]:
    """Remove a folder and those it lies in, up to `top`, as long as they are empty."""
    gone: list[str] = []
    while os.path.isabs(top) and folder.startswith(top):
        try:
            os.rmdir(folder)
        except OSError:
            break
        gone.append(folder)
        folder = os.path.dirname(folder)
    return gone


def _left_overs(root: str, before: float) -> Iterator[str]:
    for folder in _FOLDERS:
        with contextlib.suppress(FileNotFoundError, NotADirectoryError):
            for entry in os.scandir(os.path.join(root, folder)):
                fits = _PART.fullmatch(entry.name) or (
                    folder == "work"
                    and (_ROOM.fullmatch(entry.name) or _MADE.fullmatch(entry.name))
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

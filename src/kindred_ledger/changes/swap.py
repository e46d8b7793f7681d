"""Swapping: the renames that carry a change out, and the renames that take it back.

Each step looks at what is on disk and does only what is missing, so a step that was cut off, done
or half done is finished by doing it again. An old file is moved aside, never overwritten: taking
back needs no room and restores the very same file. A file that is not what was kept is not moved:
something else wrote it, and the change ends there.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Sequence

from msgspec import Struct

from ..errors import PlaceChanged
from ..places import (
    DIR,
    FILE,
    LINK,
    FolderPlace,
    Node,
    digest_of,
    lstat_node,
    refusals,
    refused,
    same_content,
    sync_dir,
)
from ..progress import Progress
from .journal import Journal, Op

__all__ = ["TakenBack", "swap_back", "swap_forward"]

# Files leave before folders, the deepest folder first; folders come before files, the outermost
# first; times and modes last, since putting a file changes its folder's.
_ORDER = {"remove": 0, "rmdir": 1, "mkdir": 2, "put": 3, "meta": 4}
_BATCH = 64  # operations between two looks at whether to stop


class TakenBack(Struct, frozen=True):
    """How many files were taken back, and the folders of what somebody else put in their place."""

    files: int
    foreign: tuple[str, ...]


def swap_forward(journal: Journal, progress: Progress | None = None) -> None:
    """Carry out every operation that has not happened yet.

    Raises:
        PlaceChanged: a path does not hold what was kept of it.
        PlaceError: the system refuses.
    """
    watch = progress or Progress()
    swap = _Swap(journal)
    ops = _in_order(journal.ops)
    with watch.task("changing", total=len(ops)) as task:
        for start in range(0, len(ops), _BATCH):
            some = ops[start : start + _BATCH]
            for op in some:
                try:
                    swap.forward(op)
                except OSError as error:
                    raise refused(error, swap.final(op)) from error
            task.advance(len(some))
    swap.sync()


def swap_back(journal: Journal) -> TakenBack:
    """Take back every operation that has happened.

    Raises:
        PlaceError: the system refuses; doing it again is safe.
    """
    swap = _Swap(journal)
    files = 0
    for op in reversed(_in_order(journal.ops)):
        with refusals(swap.final(op)):
            files += swap.back(op)
    swap.sync()
    return TakenBack(files, tuple(swap.foreign()))


def _in_order(ops: Sequence[Op]) -> list[Op]:
    def key(op: Op) -> tuple[int, int, str]:
        depth = op.path.count("/")
        return _ORDER[op.kind], -depth if op.kind == "rmdir" else depth, op.path

    return sorted(ops, key=key)


class _Swap:
    def __init__(self, journal: Journal) -> None:
        self._folders = journal.folders()
        self._stages = {part: journal.stage(part) for part in self._folders}
        self._touched: set[str] = set()

    def final(self, op: Op) -> str:
        return self._folders[op.part].path(op.path)

    def forward(self, op: Op) -> None:
        final, new, old = self._paths(op)
        if op.kind == "mkdir":
            if lstat_node(final) is None:
                os.mkdir(final)
        elif op.kind == "rmdir":
            self._remove_folder(final)
        elif op.kind == "meta":
            self._metadata(final, op.after)
        else:
            if op.before is not None and not os.path.lexists(old) and not self._is_made(op):
                self._move_aside(op, final, old)
            if op.kind == "put":
                self._move_in(new, final)

    def _is_made(self, op: Op) -> bool:
        """Tell whether the new file is in place, though the old one was not moved aside.

        A power cut may keep the second renaming and lose the first. What was there is in the ledger.
        """
        final, new, _ = self._paths(op)
        made = op.kind == "put" and op.after is not None and not os.path.lexists(new)
        return made and op.after is not None and self._is(final, op.after)

    def back(self, op: Op) -> bool:
        """Take one operation back; tell whether a file was moved for it."""
        final, new, old = self._paths(op)
        if op.kind == "mkdir":
            with contextlib.suppress(OSError):  # not empty: somebody put something there
                os.rmdir(final)
        elif op.kind == "rmdir":
            if lstat_node(final) is None:
                os.mkdir(final)
                self._metadata(final, op.before)
        elif op.kind == "meta":
            self._metadata(final, op.before)
        else:
            return self._file_back(op, final, new, old)
        return False

    def _file_back(self, op: Op, final: str, new: str, old: str) -> bool:
        moved = False
        there = lstat_node(final) is not None
        if there and (os.path.lexists(old) or (op.before is None and not os.path.lexists(new))):
            ours = op.kind == "put" and op.after is not None and self._is(final, op.after)
            os.rename(final, new if ours else self._foreign(op))
            moved = True
        if os.path.lexists(old):
            os.rename(old, final)
            moved = True
        return moved

    def sync(self) -> None:
        for folder in sorted(self._touched):
            if os.path.isdir(folder):
                sync_dir(folder)

    def foreign(self) -> list[str]:
        folders = [os.path.join(stage, "foreign") for stage in self._stages.values()]
        return [folder for folder in folders if os.path.isdir(folder)]

    def _foreign(self, op: Op) -> str:
        path = os.path.join(self._stages[op.part], "foreign", *op.path.split("/"))
        os.makedirs(os.path.dirname(path), exist_ok=True)
        return path

    def _paths(self, op: Op) -> tuple[str, str, str]:
        final = self.final(op)
        self._touched.add(final.rpartition(os.sep)[0])
        stage = self._stages[op.part] + os.sep
        return final, f"{stage}new{os.sep}{op.number}", f"{stage}old{os.sep}{op.number}"

    def _move_aside(self, op: Op, final: str, old: str) -> None:
        """Move the old file away, if it still is the one that was kept."""
        assert op.before is not None
        if not self._is(final, op.before):
            raise _foreign(final)
        os.rename(final, old)

    def _move_in(self, new: str, final: str) -> None:
        """Move a staged file to where nothing is, unless that has happened."""
        if os.path.lexists(final):
            if os.path.lexists(new):
                raise _foreign(final)
            return
        try:
            os.rename(new, final)
        except FileNotFoundError:
            if os.path.lexists(new):
                raise

    def _is(self, path: str, node: Node) -> bool:
        now = lstat_node(path)
        if now is None or now.kind != node.kind:
            return False
        if now.kind == LINK:
            return now.target == node.target
        if (now.size, now.mtime_ns) == (node.size, node.mtime_ns):
            return True
        folder = FolderPlace(os.path.dirname(path))
        digest, _ = next(digest_of(blocks) for _, blocks in folder.read([os.path.basename(path)]))
        return same_content(now._replace(digest=digest), node)

    def _remove_folder(self, final: str) -> None:
        if lstat_node(final) is None:
            return
        try:
            os.rmdir(final)
        except OSError as error:
            if os.listdir(final):
                raise _foreign(final) from error
            raise

    def _metadata(self, final: str, node: Node | None) -> None:
        if node is None:
            return
        if node.mode and node.kind in (FILE, DIR):
            os.chmod(final, node.mode)
        if node.mtime_ns and node.kind == FILE:
            os.utime(final, ns=(node.mtime_ns, node.mtime_ns))


def _foreign(path: str) -> PlaceChanged:
    return PlaceChanged(
        "this changed after it was kept, so it was not touched",
        where=path,
        remedy="Something is writing here. Close the game and its launcher, then run this again.",
    )

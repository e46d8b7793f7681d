"""DiskGround: folders of this machine. New contents are staged beside the old, on the same disk, so that
only renames are left; what was moved is synced."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Iterable, Iterator, Sequence

from ..errors import PlaceBusy, PlaceChanged, PlaceError
from ..ledger import Ledger
from ..places import (
    DIR,
    FILE,
    LINK,
    PERMISSIONS,
    WORK_FOLDER,
    FolderPlace,
    Node,
    Place,
    Tree,
    digest_of,
    folders_of,
    hold_place,
    holdings_of,
    is_real_folder,
    lstat_node,
    parents,
    same_content,
    sync_dir,
)
from ..progress import Progress
from .actions import Action
from .ground import Owner, Sources
from .journal import Op
from .stage import Stages, clear_dropped, clear_stage, is_stage_of, stage_contents, unfinished_in

__all__ = ["DiskGround", "check_room"]

_NO_DISK = (0, 0)
_MARGIN = 16 << 20  # bytes left over for folders, manifests and whoever else writes to the disk


class DiskGround:
    """See `Ground`; spots are paths on disk."""

    aside_first = True

    def __init__(self, place: Place, ledger: Ledger, id: str) -> None:
        self.id = id
        self._place = place
        self._ledger = ledger
        self._folders = folders_of(place)
        self._holdings = holdings_of(place)
        self._stages: dict[str, str] = {}  # by the part's name
        self._touched: set[str] = set()
        self._disks: dict[str, tuple[int, int]] = {}  # by the root: which folder of which disk

    @contextlib.contextmanager
    def hold(self) -> Iterator[None]:
        with contextlib.ExitStack() as locks:
            for root in sorted({folder.root for folder in self._folders.values()}):
                locks.enter_context(hold_place(root))
                self._disks[root] = _identity(root)
            yield

    def make_way(self) -> None:
        for folder in self._folders.values():
            clear_dropped(folder, self._ledger)
        for line in unfinished_in(self._place):
            raise PlaceBusy(line, where=self._place.location)

    def check_room(self, actions: Iterable[Action]) -> None:
        check_room(self._place, actions, self._ledger)

    def look(self, paths: Iterable[str], progress: Progress) -> Tree:
        return self._ledger.look(self._place, paths, progress=progress)

    def _stage(self, part: str) -> str:
        """Return the folder in which the contents for one part are staged."""
        known = self._stages.get(part)
        if known is None:
            known = os.path.join(self._folders[part].root, WORK_FOLDER, self.id)
            self._stages[part] = known
        return known

    def stage(self, ops: Sequence[Op], sources: Sources, progress: Progress) -> None:
        stages = Stages({part: self._stage(part) for part in self._folders}, self._holdings)
        stage_contents(stages, ops, sources, self._owner, progress)

    def check_present(self) -> None:
        for part in self._folders:
            stage = self._stage(part)
            if not is_real_folder(os.path.dirname(stage)) or not self._is_mine(stage):
                raise PlaceError(
                    "what was put aside here is not there: is the disk another one, or out?",
                    where=os.path.dirname(os.path.dirname(stage)),
                    remedy="Put it back, then run: kindred recover",
                )

    def _is_mine(self, stage: str) -> bool:
        """Tell whether a stage carries the mark of this very change."""
        return is_stage_of(stage, self._owner)

    @property
    def _owner(self) -> Owner:
        return Owner(self._ledger.root, self.id, self._ledger.machine)

    def final(self, op: Op) -> str:
        folder = self._folders[op.part]
        for path in parents(op.path):
            node = lstat_node(folder.path(path))
            if node is not None and node.kind != DIR:
                raise PlaceChanged(
                    "this was a folder when the change was computed, and is a link or a file now",
                    where=folder.path(path),
                    remedy="Nothing was moved through it. Put the folder back, then run: kindred recover",
                )
        spot = folder.path(op.path)
        self._touched.add(spot.rpartition(os.sep)[0])
        return spot

    def new(self, op: Op) -> str:
        return f"{self._stage(op.part)}{os.sep}new{os.sep}{op.number}"

    def old(self, op: Op) -> str:
        return f"{self._stage(op.part)}{os.sep}old{os.sep}{op.number}"

    def foreign(self, op: Op) -> str:
        spot = os.path.join(self._stage(op.part), "foreign", *op.path.split("/"))
        os.makedirs(os.path.dirname(spot), mode=0o700, exist_ok=True)
        return spot

    def there(self, spot: str) -> bool:
        return _there(spot)

    def holds(self, spot: str, node: Node) -> bool:
        now = lstat_node(spot)
        if now is None or now.kind != node.kind:
            return False
        if now.kind in (LINK, DIR):
            return now.target == node.target
        if (now.size, now.mtime_ns) == (node.size, node.mtime_ns):
            return True
        folder = FolderPlace(os.path.dirname(spot))
        digest, _ = next(digest_of(blocks) for _, blocks in folder.read([os.path.basename(spot)]))
        return same_content(now._replace(digest=digest), node)

    def move(self, source: str, target: str) -> None:
        os.rename(source, target)

    def make_folder(self, spot: str) -> None:
        os.mkdir(spot)

    def remove_folder(self, spot: str) -> bool:
        try:
            os.rmdir(spot)
        except OSError:
            if os.listdir(spot):
                return False
            raise
        return True

    def set_metadata(self, spot: str, node: Node) -> None:
        if node.mode and node.kind in (FILE, DIR) and self._keeps_modes(spot):
            own = os.lstat(spot).st_mode & ~PERMISSIONS & 0o7777  # what it has of other bits stays
            os.chmod(spot, node.mode & PERMISSIONS | own)
        if node.mtime_ns and node.kind == FILE:
            os.utime(spot, ns=(node.mtime_ns, node.mtime_ns))
        elif node.mtime_ns and node.kind == DIR:
            with contextlib.suppress(PermissionError):  # of another user, who lets us write in it
                os.utime(spot, ns=(node.mtime_ns, node.mtime_ns))

    def _keeps_modes(self, spot: str) -> bool:
        if all(holding.modes for holding in self._holdings.values()):
            return True
        roots = {part: os.path.join(folder.root, "") for part, folder in self._folders.items()}
        return all(
            self._holdings[part].modes for part, root in roots.items() if spot.startswith(root)
        )

    def sync_aside(self) -> None:
        for part in self._folders:
            sync_dir(os.path.join(self._stage(part), "old"))

    def seal(self, ops: Sequence[Op]) -> None:
        for folder in sorted(self._touched):
            if os.path.isdir(folder):
                sync_dir(folder)

    def strangers(self) -> list[Place]:
        folders = [os.path.join(self._stage(part), "foreign") for part in self._folders]
        return [FolderPlace(folder) for folder in folders if os.path.isdir(folder)]

    def abandon(self) -> bool:
        self.clear()
        return False

    def clear(self) -> None:
        for part in self._folders:
            stage = self._stage(part)
            work = os.path.dirname(stage)
            if is_real_folder(work):
                clear_stage(stage, self._owner)
                if not os.listdir(work):
                    os.rmdir(work)
                sync_dir(os.path.dirname(work))  # else it may come back when nobody knows of it
        for root, disk in self._disks.items():
            if disk != _NO_DISK and _identity(root) != disk:  # nothing was there to be cleared
                raise PlaceError("this disk went away", where=root)


def _there(path: str) -> bool:
    """Tell whether anything is at a path; a disk that does not answer raises, as it is no answer."""
    try:
        os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return False
    return True


def _identity(root: str) -> tuple[int, int]:
    """Return the numbers of a folder and of the disk it is on; `_NO_DISK` if it is not there."""
    try:
        stat = os.stat(root)
    except FileNotFoundError:
        return _NO_DISK
    return stat.st_dev, stat.st_ino


def check_room(place: Place, actions: Iterable[Action], ledger: Ledger) -> None:
    """Raise `PlaceError` unless each disk has room for what will be written, before any of it is.

    The new contents are written beside the old ones; the old ones go to the ledger too.
    """
    folders = folders_of(place)
    sizes = dict.fromkeys((*(folder.root for folder in folders.values()), ledger.root), 0)
    for action in actions:
        if action.before is not None and action.before.kind == FILE:
            sizes[ledger.root] += action.before.size
        if action.after is not None and not same_content(action.before, action.after):
            part = folders.get("") or folders.get(action.path.partition("/")[0])
            if part is not None:
                sizes[part.root] += action.after.size
    needs: dict[int, tuple[str, int]] = {}
    for folder, size in sizes.items():
        device = os.stat(folder).st_dev
        needs[device] = folder, needs.get(device, ("", 0))[1] + size
    for folder, size in needs.values():
        free = shutil.disk_usage(folder).free
        if size + _MARGIN > free:
            raise PlaceError(
                f"the disk has {free / 1e6:,.0f} MB free and {(size + _MARGIN) / 1e6:,.0f} MB are needed",
                where=folder,
                remedy="Nothing was written. Free some space, then run this again.",
            )

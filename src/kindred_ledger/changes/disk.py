"""DiskBackend: folders of this machine. New contents are staged beside the old, on the same disk, so that
only renames are left; what was moved is synced.

Each folder is opened once, for as long as the change is at work, and all is done from there: a folder
that somebody swaps for a link meanwhile stops the change, and nothing happens where that leads.
"""

from __future__ import annotations

import contextlib
import errno
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
    OpenFolder,
    Place,
    Tree,
    digest_of,
    folders_of,
    hold_place,
    limits_by_part_of,
    node_in,
    same_content,
    sync_files,
    within_folder,
)
from ..progress import Progress
from .actions import Action
from .backend import Owner, Sources
from .journal import Op
from .stage import Stage, clear_dropped, clear_stage, stage_contents, unfinished_in

__all__ = ["DiskBackend", "check_space"]

_NO_DISK = (0, 0)
_STAGED = f"{WORK_FOLDER}/"
_MARGIN = 16 << 20  # bytes left over for folders, manifests and whoever else writes to the disk


class DiskBackend:
    """See `Backend`; locations are paths on disk."""

    aside_first = True

    def __init__(self, place: Place, ledger: Ledger, id: str) -> None:
        self.id = id
        self._place = place
        self._ledger = ledger
        self._folders = folders_of(place)
        self._limits_by_part = limits_by_part_of(place)
        self._starts = sorted(
            ((os.path.join(f.root, ""), part) for part, f in self._folders.items()),
            key=lambda start: -len(start[0]),
        )
        self._opened: dict[str, OpenFolder] = {}  # by the part's name; of the disks that are in
        self._again: dict[str, OpenFolder] = {}  # the same, for what lies in stages
        self._touched: set[str] = set()  # locations of folders
        self._dated: set[str] = set()  # locations of files that got another mode or time
        self._disks: dict[str, tuple[int, int]] = {}  # by the root: which folder of which disk

    @contextlib.contextmanager
    def hold(self) -> Iterator[None]:
        with contextlib.ExitStack() as locks:
            for root in sorted({folder.root for folder in self._folders.values()}):
                locks.enter_context(hold_place(root))
                self._disks[root] = _identity(root)
            for part, folder in self._folders.items():
                with contextlib.suppress(FileNotFoundError):
                    self._opened[part] = opened = locks.enter_context(folder.held())
                    self._again[part] = locks.enter_context(opened.again())
            locks.callback(self._opened.clear)
            locks.callback(self._again.clear)
            yield

    def check_unfinished(self) -> None:
        for folder in self._folders.values():
            clear_dropped(folder, self._ledger)
        for found in unfinished_in(self._place):
            raise PlaceBusy(found.what, where=self._place.location, remedy=found.remedy)

    def check_space(self, actions: Iterable[Action]) -> None:
        check_space(self._place, actions, self._ledger)

    def look(self, paths: Iterable[str], progress: Progress) -> Tree:
        return self._ledger.look(self._place, paths, progress=progress)

    def names(self) -> Iterator[str] | None:
        if any(type(folder) is not FolderPlace for folder in self._folders.values()):
            return None  # some of a folder only
        return self._names()

    def _names(self) -> Iterator[str]:
        for part, folder in self._folders.items():
            if part:
                yield part
                yield from (f"{part}/{name}" for name in folder.names())
            else:
                yield from folder.names()

    def _folder(self, part: str) -> OpenFolder:
        """Return the folder of a part, which is open."""
        opened = self._opened.get(part)
        if opened is None:
            root = self._folders[part].root
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), root)
        return opened

    def _at(self, location: str) -> tuple[OpenFolder, str]:
        """Return the open folder that a location is in, and its path there."""
        start, part = next(start for start in self._starts if location.startswith(start[0]))
        inner = location[len(start) :]
        if os.sep != "/":
            inner = inner.replace(os.sep, "/")
        opened = self._folder(part)
        return self._again[part] if inner.startswith(_STAGED) else opened, inner

    def _stage(self, part: str) -> Stage:
        """Return where the contents for one part are staged."""
        return Stage(
            self._folder(part), f"{WORK_FOLDER}/{self.id}", self._limits_by_part[part].modes
        )

    def stage(self, ops: Sequence[Op], sources: Sources, progress: Progress) -> None:
        stages = {part: self._stage(part) for part in self._folders}
        stage_contents(stages, ops, sources, self._owner, progress)

    def check_present(self) -> None:
        for part, folder in self._folders.items():
            if part not in self._opened or not self._stage(part).is_of(self._owner):
                raise PlaceError(
                    "what was put aside here is not there: is the disk another one, or out?",
                    where=folder.root,
                    remedy="Put it back, then run: kindred recover",
                )

    @property
    def _owner(self) -> Owner:
        return Owner(self._ledger.root, self.id, self._ledger.machine)

    def final(self, op: Op) -> str:
        location = self._folders[op.part].path(op.path)
        try:
            self._folder(op.part).at(op.path)
        except NotADirectoryError as error:
            raise PlaceChanged(
                "this was a folder when the change was computed, and is a link or a file now",
                where=str(error.filename),
                remedy="Nothing was moved through it. Put the folder back, then run: kindred recover",
            ) from error
        except FileNotFoundError:  # nothing to be moved through yet
            pass
        self._touched.add(location.rpartition(os.sep)[0])
        return location

    def new(self, op: Op) -> str:
        return self._folders[op.part].path(f"{WORK_FOLDER}/{self.id}/new/{op.number}")

    def old(self, op: Op) -> str:
        return self._folders[op.part].path(f"{WORK_FOLDER}/{self.id}/old/{op.number}")

    def foreign(self, op: Op) -> str:
        path = f"{WORK_FOLDER}/{self.id}/foreign/{op.path}"
        self._folder(op.part).make_folders(path.rpartition("/")[0], 0o700)
        return self._folders[op.part].path(path)

    def there(self, location: str) -> bool:
        opened, path = self._at(location)
        return opened.lstat(path) is not None

    def holds(self, location: str, node: Node) -> bool:
        opened, path = self._at(location)
        now = node_in(opened, path)
        if now is None or now.kind != node.kind:
            return False
        if now.kind in (LINK, DIR):
            return now.target == node.target
        if (now.size, now.mtime_ns) == (node.size, node.mtime_ns):
            return True
        read = within_folder(opened).read([path])
        digest, _ = next(digest_of(blocks) for _, blocks in read)
        return same_content(now._replace(digest=digest), node)

    def move(self, source: str, target: str) -> None:
        opened, path = self._at(source)
        into, aim = self._at(target)
        opened.rename(path, aim, into=into if into is not opened else None)

    def make_folder(self, location: str) -> None:
        opened, path = self._at(location)
        opened.mkdir(path)

    def remove_folder(self, location: str) -> bool:
        opened, path = self._at(location)
        try:
            opened.rmdir(path)
        except OSError:
            if opened.listdir(path):
                return False
            raise
        return True

    def set_metadata(self, location: str, node: Node) -> None:
        opened, path = self._at(location)
        if node.kind not in (FILE, DIR):
            return
        (self._dated if node.kind == FILE else self._touched).add(location)
        if node.mode and self._keeps_modes(location):
            stat = opened.lstat(path)
            own = stat.st_mode & ~PERMISSIONS & 0o7777 if stat else 0  # its other bits stay
            opened.set_mode(path, node.mode & PERMISSIONS | own)
        if node.mtime_ns and node.kind == FILE:
            opened.set_time(path, node.mtime_ns)
        elif node.mtime_ns:
            with contextlib.suppress(PermissionError):  # of another user, who lets us write in it
                opened.set_time(path, node.mtime_ns)

    def _keeps_modes(self, location: str) -> bool:
        if all(limits.modes for limits in self._limits_by_part.values()):
            return True
        roots = {part: os.path.join(folder.root, "") for part, folder in self._folders.items()}
        return all(
            self._limits_by_part[part].modes
            for part, root in roots.items()
            if location.startswith(root)
        )

    def sync_aside(self) -> None:
        for part in self._folders:
            self._folder(part).sync(f"{WORK_FOLDER}/{self.id}/old")

    def make_durable(self, ops: Sequence[Op]) -> None:
        files: dict[str, list[str]] = {}
        for location in sorted(self._dated):
            folder, _, name = location.rpartition(os.sep)
            files.setdefault(folder, []).append(name)
        for folder in sorted(self._touched | files.keys()):
            opened, path = self._at(os.path.join(folder, ""))
            path = path.rstrip("/")
            if opened.is_folder(path):
                inner = f"{path}/" if path else ""
                names = [n for n in files.get(folder, ()) if opened.lstat(inner + n) is not None]
                sync_files(opened, path, names)
                opened.sync(path)

    def strangers(self) -> list[Place]:
        found: list[Place] = []
        for part, folder in self._folders.items():
            path = f"{WORK_FOLDER}/{self.id}/foreign"
            if self._folder(part).is_folder(path):
                real = os.path.join(self._folder(part).real, *path.split("/"))
                found.append(FolderPlace(folder.path(path), real=real))
        return found

    def abandon(self) -> bool:
        self.clear()
        return False

    def clear(self) -> None:
        for part, opened in self._opened.items():
            if opened.is_folder(WORK_FOLDER):
                clear_stage(self._stage(part), self._owner)
                if not opened.listdir(WORK_FOLDER):
                    opened.rmdir(WORK_FOLDER)
                opened.sync("")  # else it may come back when nobody knows of it
        for root, disk in self._disks.items():
            if disk != _NO_DISK and _identity(root) != disk:  # nothing was there to be cleared
                raise PlaceError("this disk went away", where=root)


def _identity(root: str) -> tuple[int, int]:
    """Return the numbers of a folder and of the disk it is on; `_NO_DISK` if it is not there."""
    try:
        stat = os.stat(root)
    except FileNotFoundError:
        return _NO_DISK
    return stat.st_dev, stat.st_ino


def check_space(place: Place, actions: Iterable[Action], ledger: Ledger) -> None:
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

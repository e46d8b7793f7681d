"""Staging: writing all new contents beside the old, verified and synced, before anything moves."""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec
from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ..errors import PlaceChanged, PlaceError
from ..finding import Finding
from ..ledger import Ledger
from ..os_names import as_name, json_bytes
from ..places import (
    BLOCK,
    LINK,
    PERMISSIONS,
    STAGE_MARK,
    WORK_FOLDER,
    FolderPlace,
    OpenFolder,
    PathAt,
    Place,
    capabilities_of,
    folder_with,
    folders_of,
    refusals,
    refused,
    stages_in,
    sync_files,
)
from ..progress import Progress, Task
from .backend import Owner, Sources
from .journal import Op

__all__ = [
    "Stage",
    "clear_dropped",
    "clear_stage",
    "stage_contents",
    "unfinished_in",
]

_WRITE_FLAGS = os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0)
_LARGE = 256 << 10  # bytes; smaller files are read sooner than the system is asked to copy them
_COPIES = 2  # at once; more fight over the disk
_NOBODY = Owner("")
_LONGEST_MARK = 64 << 10  # bytes
_HOLE = 64 << 10  # bytes of zeros that are worth a hole


class Stage(Struct, frozen=True):
    """Where the contents for one part of a place are staged: a path in the part's folder, which is open."""

    folder: OpenFolder
    path: str
    modes: bool = True  # whether modes can be held there

    def inner(self, name: str) -> str:
        """Return the path, in the part's folder, of something in the stage."""
        return f"{self.path}/{name}"

    def is_of(self, owner: Owner) -> bool:
        """Tell whether the stage carries the mark of a change, wherever its ledger lies by now."""
        found = self.owner()
        if found.id != owner.id or not found.id:
            return False
        try:
            return os.path.samefile(found.ledger, owner.ledger)
        except OSError:  # it was moved since, or is called something else
            return True

    def owner(self) -> Owner:
        """Return whose the stage is: nobody's if that was not written to its end."""
        try:
            found = msgspec.json.decode(self.mark(), type=Owner)
            return replace(found, ledger=as_name(found.ledger))
        except (FileNotFoundError, NotADirectoryError, msgspec.MsgspecError):
            return _NOBODY
        except OSError:  # somebody's who does not let us look, or no file of ours
            return Owner("unknown")

    def mark(self) -> bytes:
        """Return what the stage's mark holds."""
        with open(self.folder.open(self.inner(STAGE_MARK), os.O_RDONLY), "rb") as file:
            return file.read(_LONGEST_MARK)


class _New(Struct, frozen=True):
    """Where new contents are written: the folder `new` of each stage, open, by the part's name."""

    stages: Mapping[str, Stage]
    opened: Mapping[str, int | str]

    def at(self, op: Op) -> PathAt:
        """Return how the system is asked for the new content of an operation; from any thread."""
        folder = self.opened[op.part]
        if isinstance(folder, int):
            return PathAt(str(op.number), folder)
        return PathAt(os.path.join(folder, str(op.number)), None)

    def full(self, op: Op) -> str:
        """Return its whole path, to be shown."""
        stage = self.stages[op.part]
        return stage.folder.full(stage.inner(f"new/{op.number}"))


def stage_contents(
    stages: Mapping[str, Stage],
    ops: Sequence[Op],
    sources: Sources,
    owner: Owner,
    progress: Progress,
) -> None:
    """Write the new content of every `put` into its part's stage, check its digest and sync it.

    `owner` is noted there, so that the change is found if it is cut off.

    Raises:
        PlaceChanged: a source does not hold what it held when the change was computed.
        PlaceError: the system refuses.
    """
    for stage in stages.values():
        _make_stage(stage, owner)
    with contextlib.ExitStack() as folders:
        opened = {
            part: folders.enter_context(stage.folder.listed(stage.inner("new")))
            for part, stage in stages.items()
        }
        files = _write_all(_New(stages, opened), ops, sources, progress)
    for part, stage in stages.items():
        names = [str(op.number) for op in files if op.part == part]
        sync_files(stage.folder, stage.inner("new"), names)
        stage.folder.sync(stage.inner("new"))
        stage.folder.sync(stage.path)


def _write_all(new: _New, ops: Sequence[Op], sources: Sources, progress: Progress) -> list[Op]:
    """Write links and files; return the operations that put a file."""
    files: dict[int, Op] = {}
    for op in ops:
        if op.kind != "put":
            continue
        assert op.after is not None
        if op.after.kind == LINK:
            name, fd = new.at(op)
            os.symlink(as_name(op.after.target), name, dir_fd=fd)
        else:
            files[op.number] = op
    total = sum(op.after.size for op in files.values() if op.after)
    with progress.task("writing", total=total, unit="bytes") as task:
        for source, by_path in _by_source(files, sources).items():
            copied = _copy_all(new, by_path, source, task)
            for path, blocks in source.read(path for path in by_path if path not in copied):
                task.advance(_write(new, by_path[path], path, blocks, source))
    return list(files.values())


def unfinished_in(place: Place) -> list[Finding]:
    """Return what is to be said about changes that were cut off in a place."""
    found = []
    for folder in folders_of(place).values():
        with _stages(folder) as stages:
            for stage in stages:
                owner = stage.owner().ledger or "unknown"
                remedy = f"Finish it, or take it back: kindred recover --ledger {owner}"
                found.append(Finding.error("cut-off", "a change was cut off here", remedy=remedy))
    return found


def clear_dropped(folder: FolderPlace, ledger: Ledger) -> None:
    """Remove what a change staged in a folder and its ledger knows no more of: it had touched nothing.

    A disk that was out when the change was dropped still has it. Whose a stage is stands in it durably
    before anything is touched; what does not say so goes only if nothing is in it.

    Raises:
        PlaceError: something else has the name of the folder that stages are in.
    """
    with _stages(folder) as stages:
        for stage in stages:
            name = stage.path.rpartition("/")[2]
            owner = stage.owner()
            known = os.path.isdir(os.path.join(ledger.folder("work"), f"change-{name}"))
            if not known and (owner.ledger, owner.id) in ((ledger.root, name), ("", "")):
                clear_stage(stage, owner)


def clear_stage(stage: Stage, owner: Owner) -> None:
    """Remove a stage that carries the mark of an owner, and one without a mark if nothing is in it.

    A power cut may leave a mark that was not written to its end; nothing was staged yet then.
    """
    if stage.owner() != _NOBODY:
        if stage.is_of(owner):
            _remove_stage(stage)
        return
    with contextlib.suppress(OSError):  # what is in it is nobody's that we know
        for name in ("new", "old"):
            with contextlib.suppress(FileNotFoundError):
                stage.folder.rmdir(stage.inner(name))
        with contextlib.suppress(FileNotFoundError):
            if json_bytes(owner).startswith(stage.mark().rstrip(b"\0")):
                stage.folder.remove(stage.inner(STAGE_MARK))
        stage.folder.rmdir(stage.path)


def _remove_stage(stage: Stage) -> None:
    """Remove a stage, its mark last: what a cut leaves of it is known as ours."""
    for name in stage.folder.listdir(stage.path):
        if name != STAGE_MARK:
            stage.folder.remove_tree(stage.inner(name))
    stage.folder.sync(stage.path)
    stage.folder.remove(stage.inner(STAGE_MARK))
    stage.folder.rmdir(stage.path)


@contextlib.contextmanager
def _stages(folder: FolderPlace) -> Iterator[list[Stage]]:
    """Open the stages in a folder of a place for the block."""
    try:
        opened = folder.opened()
    except FileNotFoundError:
        yield []
        return
    with opened:
        found = stages_in(opened, WORK_FOLDER)
        if found is None and opened.lstat(WORK_FOLDER) is not None:
            raise PlaceError(
                f"{WORK_FOLDER} is no folder of this program's, so nothing can be staged beside it",
                where=folder.root,
                remedy="It was not touched. Look at what it is, and move it away.",
            )
        yield [Stage(opened, f"{WORK_FOLDER}/{name}") for name in found or ()]


def _make_stage(stage: Stage, owner: Owner) -> None:
    """Make the folders of one part's stage, for nobody but its user; first of all whose it is."""
    folder = stage.folder
    with contextlib.suppress(FileExistsError):
        folder.mkdir(WORK_FOLDER, 0o700)
    folder.mkdir(stage.path, 0o700)
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL
    with open(folder.open(stage.inner(STAGE_MARK), flags, 0o600), "wb") as file:
        file.write(json_bytes(owner))
        file.flush()
        os.fsync(file.fileno())
    for path in (stage.path, WORK_FOLDER, ""):
        folder.sync(path)
    for name in ("new", "old"):
        folder.mkdir(stage.inner(name), 0o700)


def _by_source(files: Mapping[int, Op], sources: Sources) -> dict[Place, dict[str, list[Op]]]:
    """Group the files by place and path, so that each place is read in its own order, once."""
    grouped: dict[Place, dict[str, list[Op]]] = {}
    for number, op in files.items():
        place, path = sources[number]
        grouped.setdefault(place, {}).setdefault(path, []).append(op)
    return grouped


def _copy_all(new: _New, by_path: Mapping[str, list[Op]], source: Place, task: Task) -> set[str]:
    """Copy what the system can copy by itself; return the paths."""
    large = {
        path: ops
        for path, ops in by_path.items()
        if ops[0].after is not None and ops[0].after.size >= _LARGE
    }
    if not large or not hasattr(os, "copy_file_range"):
        return set()
    from concurrent.futures import ThreadPoolExecutor

    def copy(item: tuple[str, list[Op]]) -> tuple[str, int]:
        return item[0], _copied(new, item[1], item[0], source)

    copied = set()
    with ThreadPoolExecutor(_COPIES) as pool:
        for path, size in pool.map(copy, large.items()):
            task.advance(size)
            if size:
                copied.add(path)
    return copied


def _copied(new: _New, ops: list[Op], path: str, source: Place) -> int:
    """Have the system copy a file of a folder, without passing it through here; return the bytes.

    Nobody hashes it on the way: what stands in the place in the end is read back and verified. None
    are copied where only reading will do: what is no file of a disk, or has holes.
    """
    found = folder_with(source, path)
    if found is None:
        return 0
    (folder, inner), want = found, ops[0].after
    assert want is not None
    with refusals(folder.path(inner)), contextlib.ExitStack() as files:
        fd = files.enter_context(folder.opened()).open(inner, os.O_RDONLY)
        files.callback(os.close, fd)
        stat = os.fstat(fd)
        if stat.st_size != want.size or stat.st_blocks * 512 < want.size:
            return 0
        out = _opened(new, ops[0])
        files.callback(os.close, out)
        done = 0
        while done < want.size:
            try:
                step = os.copy_file_range(fd, out, want.size - done)
            except OSError as error:
                if done or error.errno not in (errno.EXDEV, errno.EOPNOTSUPP, errno.EINVAL):
                    raise
                step = 0
            if not step:  # two kinds of disk; or it became shorter meanwhile
                name, folder_fd = new.at(ops[0])
                os.unlink(name, dir_fd=folder_fd)
                return 0
            done += step
        _finish(new, out, ops[0])
        _copy_to_others(new, ops, out)
    return want.size * len(ops)


def _opened(new: _New, op: Op) -> int:
    """Open the file of an operation's new content, which nothing may be in the place of."""
    name, fd = new.at(op)
    return os.open(name, os.O_RDWR | _WRITE_FLAGS, 0o666, dir_fd=fd)


def _write(new: _New, ops: list[Op], path: str, blocks: Iterable[bytes], source: Place) -> int:
    """Write one content to the first operation's file, copy it to the others', return the bytes.

    What the ledger hands out was checked against the very digest that was asked for.
    """
    hasher = None if capabilities_of(source).hands_out_verified else blake3()
    holes, size = False, 0
    try:
        fd = _opened(new, ops[0])
        try:
            for block in blocks:
                size += len(block)
                if hasher is not None:
                    hasher.update(block)
                holes |= _write_block(fd, block)
            if holes:
                os.ftruncate(fd, os.lseek(fd, 0, os.SEEK_CUR))
            digest = hasher.digest() if hasher is not None else None
            if digest and any(op.after and op.after.digest != digest for op in ops):
                raise PlaceChanged(
                    f"{path} is not what it was when the change was computed",
                    where=source.location,
                    remedy="Something writes there. Close the game and its launcher, "
                    "then run this again.",
                )
            _finish(new, fd, ops[0])
            _copy_to_others(new, ops, fd)
        finally:
            os.close(fd)
    except OSError as error:
        if error.filename and not os.path.isabs(error.filename):
            error.filename = None
        raise refused(error, new.full(ops[0])) from error
    return size * len(ops)


def _copy_to_others(new: _New, ops: list[Op], first: int) -> None:
    """Copy what was written, which is open, to the files of the other operations."""
    for op in ops[1:]:
        with refusals(new.full(op)), open(_opened(new, op), "wb") as target:
            os.lseek(first, 0, os.SEEK_SET)
            while block := os.read(first, BLOCK):
                target.write(block)
            target.flush()
            _finish(new, target.fileno(), op)


def _write_block(fd: int, block: bytes) -> bool:
    """Write a block; one of zeros becomes a hole, as it may have been one before, and tell so."""
    if len(block) >= _HOLE and block[0] == block[-1] == 0 and block == bytes(len(block)):
        os.lseek(fd, len(block), os.SEEK_CUR)
        return True
    done = os.write(fd, block)
    while done < len(block):  # a disk may take less at a time
        done += os.write(fd, memoryview(block)[done:])
    return False


def _finish(new: _New, fd: int, op: Op) -> None:
    """Give a staged file, which is open, its mode and time."""
    assert op.after is not None
    file: int | str = fd if os.utime in os.supports_fd else new.full(op)
    mode = op.after.mode or (op.before.mode if op.before else 0)
    if mode and new.stages[op.part].modes:
        os.chmod(file, mode & PERMISSIONS)
    if op.after.mtime_ns:
        os.utime(file, ns=(op.after.mtime_ns, op.after.mtime_ns))

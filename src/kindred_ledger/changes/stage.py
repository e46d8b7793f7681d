"""Staging: writing all new contents beside the old, verified and synced, before anything moves."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
from collections.abc import Iterable, Mapping, Sequence

import msgspec
from blake3 import blake3
from msgspec import Struct

from ..errors import PlaceChanged, PlaceError
from ..ledger import EntryPlace, Ledger
from ..places import (
    LINK,
    PERMISSIONS,
    STAGE_MARK,
    WORK_FOLDER,
    FolderPlace,
    Holding,
    Place,
    disk_path,
    folders_of,
    is_real_folder,
    refusals,
    refused,
    remove_tree,
    stages_in,
    sync_dir,
    sync_files,
)
from ..progress import Progress, Task
from .ground import Owner, Sources
from .journal import Op

__all__ = [
    "Stages",
    "clear_dropped",
    "clear_stage",
    "is_stage_of",
    "stage_contents",
    "unfinished_in",
]

_WRITE_FLAGS = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
_READ_FLAGS = os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0)
_LARGE = 256 << 10  # bytes; smaller files are read sooner than the system is asked to copy them
_COPIES = 2  # at once; more fight over the disk
_NOBODY = Owner("")
_LONGEST_MARK = 64 << 10  # bytes
_HOLE = 64 << 10  # bytes of zeros that are worth a hole


class Stages(Struct, frozen=True):
    """Where the contents for the parts of a place are staged, and what these can hold; by the part's name."""

    folders: Mapping[str, str]
    holdings: Mapping[str, Holding]

    def new(self, op: Op) -> str:
        """Return where the new content of an operation is staged."""
        return f"{self.folders[op.part]}{os.sep}new{os.sep}{op.number}"


def stage_contents(
    stages: Stages, ops: Sequence[Op], sources: Sources, owner: Owner, progress: Progress
) -> None:
    """Write the new content of every `put` into its stage, check its digest and sync it.

    `owner` is noted there, so that the change is found if it is cut off.

    Raises:
        PlaceChanged: a source does not hold what it held when the change was computed.
        PlaceError: the system refuses.
    """
    for stage in stages.folders.values():
        _open_stage(stage, owner)
    puts = {op.number: op for op in ops if op.kind == "put"}
    files: dict[int, Op] = {}
    for op in puts.values():
        assert op.after is not None
        if op.after.kind == LINK:
            os.symlink(op.after.target, stages.new(op))
        else:
            files[op.number] = op
    total = sum(op.after.size for op in files.values() if op.after)
    with progress.task("writing", total=total, unit="bytes") as task:
        for source, by_path in _by_source(files, sources).items():
            copied = _copy_all(stages, by_path, source, task)
            for path, blocks in source.read(path for path in by_path if path not in copied):
                task.advance(_write(stages, by_path[path], path, blocks, source))
    for part, stage in stages.folders.items():
        new = os.path.join(stage, "new")
        sync_files(new, [str(op.number) for op in files.values() if op.part == part])
        for folder in (new, stage):
            sync_dir(folder)


def _above(stage: str) -> tuple[str, str]:
    """Return the library's folder that a stage is in, and the place's that that is in."""
    work = os.path.dirname(stage)
    return work, os.path.dirname(work)


def unfinished_in(place: Place) -> list[str]:
    """Return what is to be said about changes that were cut off in a place, a line each."""
    found = []
    for folder in folders_of(place).values():
        work = folder.path(WORK_FOLDER)
        for name in _stages(folder):
            owner = owner_of(os.path.join(work, name)).ledger or "unknown"
            found.append(f"a change was cut off here; run: kindred recover --ledger {owner}")
    return found


def clear_dropped(folder: FolderPlace, ledger: Ledger) -> None:
    """Remove what a change staged in a folder and its ledger knows no more of: it had touched nothing.

    A disk that was out when the change was dropped still has it. Whose a stage is stands in it durably
    before anything is touched; what does not say so goes only if nothing is in it.

    Raises:
        PlaceError: something else has the name of the folder that stages are in.
    """
    work = folder.path(WORK_FOLDER)
    for name in _stages(folder):
        stage = os.path.join(work, name)
        owner = owner_of(stage)
        known = os.path.isdir(os.path.join(ledger.folder("work"), f"change-{name}"))
        if not known and (owner.ledger, owner.id) in ((ledger.root, name), ("", "")):
            clear_stage(stage, owner)


def clear_stage(stage: str, owner: Owner) -> None:
    """Remove a stage that carries the mark of an owner, and one without a mark if nothing is in it.

    A power cut may leave a mark that was not written to its end; nothing was staged yet then.
    """
    if owner_of(stage) != _NOBODY:
        if is_stage_of(stage, owner):
            _remove_stage(stage)
        return
    mark = os.path.join(stage, STAGE_MARK)
    with contextlib.suppress(OSError):  # what is in it is nobody's that we know
        for name in ("new", "old"):
            with contextlib.suppress(FileNotFoundError):
                os.rmdir(os.path.join(stage, name))
        with contextlib.suppress(FileNotFoundError):
            if os.path.getsize(mark) == 0 or _begins(mark, owner):
                os.remove(mark)
        os.rmdir(stage)


def is_stage_of(stage: str, owner: Owner) -> bool:
    """Tell whether a stage carries the mark of a change, wherever its ledger lies by now."""
    found = owner_of(stage)
    if found.id != owner.id or not found.id or not is_real_folder(stage):
        return False
    try:
        return os.path.samefile(found.ledger, owner.ledger)
    except OSError:  # it was moved since, or is called something else
        return True


def _remove_stage(stage: str) -> None:
    """Remove a stage, its mark last: what a cut leaves of it is known as ours."""
    for name in os.listdir(stage):
        if name != STAGE_MARK:
            remove_tree(os.path.join(stage, name))
    sync_dir(stage)
    os.remove(os.path.join(stage, STAGE_MARK))
    os.rmdir(stage)


def _begins(mark: str, owner: Owner) -> bool:
    with open(mark, "rb") as file:
        return msgspec.json.encode(owner).startswith(file.read(_LONGEST_MARK).rstrip(b"\0"))


def _stages(folder: FolderPlace) -> list[str]:
    """Return the names of the stages in a folder of a place."""
    work = folder.path(WORK_FOLDER)
    found = stages_in(work)
    if found is None and os.path.lexists(work):
        raise PlaceError(
            f"{WORK_FOLDER} is no folder of this program's, so nothing can be staged beside it",
            where=folder.root,
            remedy="It was not touched. Look at what it is, and move it away.",
        )
    return found or []


def owner_of(stage: str) -> Owner:
    """Return whose an abandoned stage is: nobody's if that was not written to its end."""
    try:
        with open(os.path.join(stage, STAGE_MARK), "rb") as file:
            return msgspec.json.decode(file.read(_LONGEST_MARK), type=Owner)
    except (FileNotFoundError, msgspec.MsgspecError):
        return _NOBODY
    except OSError:  # somebody's who does not let us look
        return Owner("unknown")


def _open_stage(stage: str, owner: Owner) -> None:
    """Make the folders of one part's stage, for nobody but its user; first of all whose it is."""
    with contextlib.suppress(FileExistsError):
        os.mkdir(os.path.dirname(stage), 0o700)
    os.mkdir(stage, 0o700)
    with open(os.path.join(stage, STAGE_MARK), "xb") as file:
        file.write(msgspec.json.encode(owner))
        file.flush()
        os.fsync(file.fileno())
    for folder in (stage, *_above(stage)):
        sync_dir(folder)
    for name in ("new", "old"):
        os.mkdir(os.path.join(stage, name), 0o700)


def _by_source(files: Mapping[int, Op], sources: Sources) -> dict[Place, dict[str, list[Op]]]:
    """Group the files by place and path, so that each place is read in its own order, once."""
    grouped: dict[Place, dict[str, list[Op]]] = {}
    for number, op in files.items():
        place, path = sources[number]
        grouped.setdefault(place, {}).setdefault(path, []).append(op)
    return grouped


def _copy_all(
    stages: Stages, by_path: Mapping[str, list[Op]], source: Place, task: Task
) -> set[str]:
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
        return item[0], _copied(stages, item[1], item[0], source)

    copied = set()
    with ThreadPoolExecutor(_COPIES) as pool:
        for path, size in pool.map(copy, large.items()):
            task.advance(size)
            if size:
                copied.add(path)
    return copied


def _copied(stages: Stages, ops: list[Op], path: str, source: Place) -> int:
    """Have the system copy a file of a folder, without passing it through here; return the bytes.

    Nobody hashes it on the way: what stands in the place in the end is read back and verified. None
    are copied where only reading will do: what is no file of a disk, or has holes.
    """
    full = disk_path(source, path)
    if full is None:
        return 0
    first, want = stages.new(ops[0]), ops[0].after
    assert want is not None
    with refusals(full), contextlib.ExitStack() as files:
        fd = os.open(full, _READ_FLAGS)
        files.callback(os.close, fd)
        stat = os.fstat(fd)
        if stat.st_size != want.size or stat.st_blocks * 512 < want.size:
            return 0
        out = os.open(first, _WRITE_FLAGS, 0o666)
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
                os.remove(first)
                return 0
            done += step
        _finish(stages, out, first, ops[0])
    _copy_to_others(stages, ops, first)
    return want.size * len(ops)


def _write(stages: Stages, ops: list[Op], path: str, blocks: Iterable[bytes], source: Place) -> int:
    """Write one content to the first operation's file, copy it to the others', return the bytes.

    What the ledger hands out was checked against the very digest that was asked for.
    """
    first = stages.new(ops[0])
    hasher = None if isinstance(source, EntryPlace) else blake3()
    holes, size = False, 0
    try:
        fd = os.open(first, _WRITE_FLAGS, 0o666)
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
            _finish(stages, fd, first, ops[0])
        finally:
            os.close(fd)
    except OSError as error:
        raise refused(error, first) from error
    _copy_to_others(stages, ops, first)
    return size * len(ops)


def _copy_to_others(stages: Stages, ops: list[Op], first: str) -> None:
    for op in ops[1:]:
        target = stages.new(op)
        with refusals(target):
            shutil.copyfile(first, target)
            _finish(stages, target, target, op)


def _write_block(fd: int, block: bytes) -> bool:
    """Write a block; one of zeros becomes a hole, as it may have been one before, and tell so."""
    if len(block) >= _HOLE and block[0] == block[-1] == 0 and block == bytes(len(block)):
        os.lseek(fd, len(block), os.SEEK_CUR)
        return True
    done = os.write(fd, block)
    while done < len(block):  # a disk may take less at a time
        done += os.write(fd, memoryview(block)[done:])
    return False


def _finish(stages: Stages, file: int | str, path: str, op: Op) -> None:
    """Give a staged file its mode and time; `file` is its descriptor where the system takes one."""
    assert op.after is not None
    file = file if os.utime in os.supports_fd else path
    mode = op.after.mode or (op.before.mode if op.before else 0)
    if mode and stages.holdings[op.part].modes:
        os.chmod(file, mode & PERMISSIONS)
    if op.after.mtime_ns:
        os.utime(file, ns=(op.after.mtime_ns, op.after.mtime_ns))

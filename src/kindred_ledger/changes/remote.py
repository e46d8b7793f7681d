"""RemoteBackend: a remote. New contents are sent under names of their own and read back, then given their
names; what they replace is moved aside on the remote, after it was kept.

What always holds: a name says what is sent under it, so what an earlier try sent is not sent again; who
is changing the remote is written there, so that no other machine begins meanwhile; what is there is
judged by digests, and times are believed only between two looks of one change. Where nothing can be
renamed, what is put aside lies on this machine instead, and is sent when its turn comes.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain
from typing import NamedTuple

import msgspec
from blake3 import blake3
from msgspec.structs import replace

from ..errors import PlaceBusy, PlaceChanged, PlaceError, Vanished
from ..ledger import Ledger
from ..places import (
    DIR,
    FILE,
    STAGE_MARK,
    WORK_FOLDER,
    FolderPlace,
    Node,
    Place,
    Tree,
    hold_place,
)
from ..places.remotes import Found, RemotePlace, digest_of, gives_back
from ..progress import Progress, Task
from .actions import Action
from .backend import Owner, Sources
from .disk import check_space
from .journal import STAGING, Journal, Op
from .local_staging import HERE, LocalStaging

__all__ = ["RemoteBackend"]

_OWNER = f"{WORK_FOLDER}/{STAGE_MARK}"
_NEW, _OLD, _FOREIGN = (f"{WORK_FOLDER}/{name}" for name in ("new", "old", "foreign"))
_PROBE = f"{WORK_FOLDER}/probe"
_PAUSES_SECONDS = (0.2, 1.0)  # before what broke off is gone on with
_LARGEST_OWNER = 64 << 10  # bytes
_PART = 256 << 10  # bytes sent between two looks at how far it is


class _Proven(NamedTuple):
    """What a file was when its digest was known: as it is told again, it is taken for the same."""

    size: int
    changed: float | None
    digest: bytes


class RemoteBackend:
    """See `Backend`; locations are paths on the remote, or names in the local staging where there is one."""

    aside_first = False  # a file has no name on the server no longer than it must

    def __init__(self, place: RemotePlace, ledger: Ledger, id: str) -> None:
        self.id = id
        self._place = place
        self._remote = place.remote
        self._ledger = ledger
        self._staging = LocalStaging.at(ledger, id) if id else None
        self._adopted = False
        self._began = False
        self._lists: dict[str, dict[str, Found | None]] = {}  # None is a folder
        self._left: set[str] = set()  # locations that something was moved from since
        self._proven: dict[str, _Proven] = {}

    @contextlib.contextmanager
    def hold(self) -> Iterator[None]:
        with hold_place(self._remote.location):
            yield

    def check_unfinished(self) -> None:
        owner = self._owner()
        if owner is None:
            return
        if not self._is_mine(owner):
            raise PlaceBusy(
                f"{owner.machine or 'another machine'} is changing this, or was cut off while it did",
                where=self._remote.location,
                remedy=f"Wait, or run there: kindred recover --ledger {owner.ledger}\n"
                f"If that machine is gone, remove the folder {WORK_FOLDER} from the server.",
            )
        journal = Journal.read(self._ledger, f"change-{owner.id}")
        if journal is not None and journal.state != STAGING:
            raise PlaceBusy(
                "a change was cut off here",
                where=self._remote.location,
                remedy="Run: kindred recover",
            )
        if journal is not None:
            journal.clear(self._ledger)  # what it sent is gone on with
        self._adopted = True

    def _is_mine(self, owner: Owner) -> bool:
        me = self._ledger.location, self._ledger.machine
        return not owner.ledger or (owner.ledger, owner.machine) == me

    def _owner(self) -> Owner | None:
        if not self.there(_OWNER):
            return None
        try:
            data = b"".join(self._remote.read(_OWNER, length=_LARGEST_OWNER))
            owner = msgspec.json.decode(data, type=Owner)
        except Vanished:
            return None
        except msgspec.MsgspecError:
            return Owner("")  # nobody's: it was not stored as it was sent
        if not all(map(str.isprintable, (owner.ledger, owner.machine))):
            return Owner("unknown")
        return owner if owner.id.isalnum() else replace(owner, id="", ledger="unknown")

    def check_space(self, actions: Iterable[Action]) -> None:
        check_space(self._place, actions, self._ledger)

    def look(self, paths: Iterable[str], progress: Progress) -> Tree:
        wanted = list(paths)
        now = self._ledger.look(self._place, wanted, progress=progress)
        # Of what the ledger holds nothing will be read to keep it; so it is read here, for proof.
        held = self._ledger.held(node.digest for node in now.values() if node.digest)
        doubtful = [path for path in now.files if now[path].digest in held]
        if doubtful:
            again = self._ledger.look(self._place, doubtful, anew=True, progress=progress)
            now = Tree({**{p: n for p, n in now.items() if p not in set(doubtful)}, **again})
        for path in now.files:
            node = now[path]
            if node.digest is not None:
                changed = node.mtime_ns / 1e9 if node.mtime_ns else None
                self._proven[self._place.path(path)] = _Proven(node.size, changed, node.digest)
        return now

    def names(self) -> Iterator[str] | None:
        return None  # a server tells sizes and times with the names

    # Staging

    def stage(self, ops: Sequence[Op], sources: Sources, progress: Progress) -> None:
        self._begin()
        puts = sorted((op for op in ops if op.kind == "put"), key=lambda op: op.path)
        wanted = {self.new(op).rpartition("/")[2] for op in puts}
        for name in sorted(self._list(_NEW).keys() - wanted):
            self._remote.delete(f"{_NEW}/{name}")
        self._forget()
        total = sum(op.after.size for op in puts if op.after)
        label = "sending" if self._staging is None else "writing"
        with progress.task(label, total=total, unit="bytes") as task:
            for op in puts:
                source, path = sources[op.number]
                if self._staging is not None:
                    content = _content(source, path, op)
                    when = op.after.mtime_ns if op.after is not None else 0
                    self._staging.keep(self.new(op), content, when, task)
                else:
                    self._send(op, source, path, task)
        if self._staging is None:
            self._forget()
            for op in puts:
                location = self.new(op)
                found = self._list(_NEW).get(location.rpartition("/")[2])
                if found is not None and op.after is not None and op.after.digest is not None:
                    self._proven[location] = _Proven(found.size, found.changed, op.after.digest)

    def _begin(self) -> None:
        """Say on the remote who is changing it."""
        self._began = True
        self._remote.make_folder(WORK_FOLDER)
        if not self._can_rename():
            self._staging = LocalStaging(self._ledger, self.id)
            self._forget()
            self.check_unfinished()  # nothing can be made exclusively there; at least it is looked at again
        me = Owner(self._ledger.location, self.id, self._ledger.machine)
        data = msgspec.json.encode(me)
        if self._adopted or self._staging is not None:  # a file is made exclusively by renaming it
            self._remote.write(_OWNER, [data])
        else:
            try:
                self._remote.create(_OWNER, data)
            except FileExistsError:
                self._began = False
                raise PlaceBusy(
                    "another machine has just begun to change this",
                    where=self._remote.location,
                    remedy="Wait until it is done, then run this again.",
                ) from None
        for folder in (_NEW, _OLD):
            self._remote.make_folder(folder)
        self._forget()

    def _can_rename(self) -> bool:
        """Try whether the remote renames; twice, as the line may have broken at that."""
        one, other = f"{_PROBE}-{self.id}-1", f"{_PROBE}-{self.id}-2"
        for last in (False, True):
            self._remote.write(one, [b"?"])
            try:
                self.move(one, other)
            except (PlaceError, Vanished):
                if last:
                    self._remote.delete(one)
                    return False
            else:
                self._remote.delete(other)
                break
        self._forget()
        return True

    def _send(self, op: Op, source: Place, path: str, task: Task) -> None:
        """Send one content and read it back, going on where a line broke."""
        assert op.after is not None
        location, node = self.new(op), op.after
        for pause in (*_PAUSES_SECONDS, None):
            try:
                if self._sent(location, op, source, path, task):
                    break
            except PlaceError:
                if pause is None:
                    raise
                task.tell("the line broke; going on")
                time.sleep(pause)
                task.tell("")
        else:
            raise PlaceError(
                "the upload could not be verified",
                where=f"{self._remote.location}/{op.path}",
                remedy="Look at the room there is on that server, then run this again.",
            )
        if node.mtime_ns:
            self._remote.set_time(location, node.mtime_ns / 1e9)

    def _sent(self, location: str, op: Op, source: Place, path: str, task: Task) -> bool:
        """Send what is not there yet; tell whether all that is wanted is given back then."""
        assert op.after is not None and op.after.digest is not None
        size = op.after.size
        name = location.rpartition("/")[2]
        there = self._remote.stat(location) if name in self._list(_NEW) else None
        start = there.size if there is not None and 0 < there.size <= size else 0
        if start < size and not self._remote.capabilities.resume:
            start = 0
        done = start
        task.advance(start)

        def counted() -> Iterator[bytes]:
            nonlocal done
            for block in _behind(_content(source, path, op), start):
                yield block
                done += len(block)
                task.advance(len(block))

        try:
            if start < size or there is None:
                self._list(_NEW)[name] = Found(name, 0, None)  # from now on it has to be looked at
                self._remote.write(location, counted(), start=start)
            if gives_back(self._remote, location, op.after.digest):
                return True
            self._remote.delete(location)
        except BaseException:
            task.done -= done
            raise
        task.done -= done
        return False

    # Swapping

    def check_present(self) -> None:
        self._forget()
        owner = self._owner()
        if owner is None or not self._is_mine(owner) or owner.id not in ("", self.id):
            raise PlaceError(
                f"what was put aside in {WORK_FOLDER} is not there: is this another server, or folder?",
                where=self._remote.location,
                remedy="Put right what it is, then run: kindred recover",
            )

    def final(self, op: Op) -> str:
        return self._place.path(op.path)

    def new(self, op: Op) -> str:
        assert op.after is not None or op.kind != "put"
        digest = op.after.digest if op.after is not None and op.after.digest else b""
        name = blake3(op.path.encode() + b"\0" + digest).hexdigest()[:32]
        return f"{self._aside}{_NEW}/{name}"

    def old(self, op: Op) -> str:
        return f"{self._aside}{_OLD}/{op.number}"

    @property
    def _aside(self) -> str:
        """What begins the locations of what is put aside."""
        return HERE if self._staging is not None else ""

    def foreign(self, op: Op) -> str:
        location = f"{_FOREIGN}/{op.path}"
        if self._staging is not None:
            return HERE + location
        self._remote.make_folder(location.rpartition("/")[0])
        self._forget()
        return location

    def there(self, location: str) -> bool:
        if self._staging is not None:
            if location.startswith(HERE):
                return self._staging.has(location)
            if self._staging.clear_cut_off(self._remote, location):
                self._forget()
        if location in self._left:
            return False
        folder, _, name = location.rpartition("/")
        return name in self._list(folder)

    def holds(self, location: str, node: Node) -> bool:
        if location.startswith(HERE):
            return self._digest(location) == node.digest
        if node.kind != FILE:
            folder, _, name = location.rpartition("/")
            return node.kind == DIR and self._list(folder).get(name, False) is None
        now = self._remote.stat(location)
        if now is None:
            return False
        known = self._proven.get(location)
        if known is None or now.changed is None or (now.size, now.changed) != known[:2]:
            known = _Proven(now.size, now.changed, digest_of(self._remote, location))
            self._proven[location] = known
        return known.digest == node.digest

    def move(self, source: str, target: str) -> None:
        if self._staging is not None and (source + target).count(HERE):
            self._staging.move(self._remote, source, target)
            self._forget()
            return
        try:
            self._remote.rename(source, target)
        except (PlaceError, Vanished):
            self._forget()  # it may have happened all the same
            if not self.there(target) or self.there(source):
                raise
        else:
            self._moved(source, target)
        if source in self._proven:
            self._proven[target] = self._proven.pop(source)

    def make_folder(self, location: str) -> None:
        self._remote.make_folder(location)
        folder, _, name = location.rpartition("/")
        if folder in self._lists:
            self._lists[folder][name] = None
        self._lists[location] = {}

    def remove_folder(self, location: str) -> bool:
        if self._list(location):
            return False
        self._remote.remove_folder(location)
        self._forget()
        return True

    def set_metadata(self, location: str, node: Node) -> None:
        if node.kind == FILE and node.mtime_ns:
            self._remote.set_time(location, node.mtime_ns / 1e9)

    def sync_aside(self) -> None:
        """What a server does it is believed to have done."""

    def make_durable(self, ops: Sequence[Op]) -> None:
        """See that nobody wrote to what was moved aside, after it was kept and before it was moved.

        Raises:
            PlaceChanged: something else wrote to what was replaced.
        """
        self._forget()
        for op in ops:
            if op.kind not in ("put", "remove") or op.before is None or op.before.kind != FILE:
                continue
            location = self.old(op)
            if self.there(location) and self._digest(location) != op.before.digest:
                raise PlaceChanged(
                    f"{op.path} changed on the server while it was being replaced",
                    where=self._remote.location,
                    remedy="Stop what writes there, then run this again.",
                )

    def _digest(self, location: str) -> bytes:
        if self._staging is not None and location.startswith(HERE):
            return self._staging.digest(location)
        return digest_of(self._remote, location)

    def strangers(self) -> list[Place]:
        if self._staging is not None:
            folder = self._staging.path(_FOREIGN)
            return [FolderPlace(folder)] if os.path.isdir(folder) else []
        return [RemotePlace(self._remote, _FOREIGN)] if self.there(_FOREIGN) else []

    def abandon(self) -> bool:
        return self._began

    def clear(self) -> None:
        self._forget()
        owner = self._owner()
        if self.there(WORK_FOLDER) and (owner is None or self._is_mine(owner)):
            self._empty(WORK_FOLDER)
            self._remote.delete(_OWNER)  # as the last, so that it is known whose the rest is
            self._remote.remove_folder(WORK_FOLDER)

    def _empty(self, folder: str) -> None:
        for name, found in self._list(folder).items():
            path = f"{folder}/{name}"
            if found is None:
                self._empty(path)
                self._remote.remove_folder(path)
            elif path != _OWNER:
                self._remote.delete(path)

    # What is there, as far as it was looked at

    def _list(self, folder: str) -> dict[str, Found | None]:
        known = self._lists.get(folder)
        if known is None:
            found = self._remote.inside(folder)
            files = ((one.name, one) for one in found.files)
            known = dict(chain(files, ((name, None) for name in found.folders)))
            self._lists[folder] = known
        return known

    def _note(self, location: str, found: Found) -> None:
        folder, _, name = location.rpartition("/")
        if folder in self._lists:
            self._lists[folder][name] = found

    def _moved(self, source: str, target: str) -> None:
        folder, _, name = source.rpartition("/")
        found = self._lists[folder].pop(name, None) if folder in self._lists else None
        self._note(target, found or Found(name, 0, None))  # that it is there is all that is asked
        self._left.add(source)
        self._left.discard(target)

    def _forget(self) -> None:
        self._lists.clear()
        self._left.clear()


def _content(source: Place, path: str, op: Op) -> Iterator[bytes]:
    """Yield a content from where it is, in small blocks.

    Raises:
        PlaceChanged: at its end, if it was not what the change was computed with.
    """
    assert op.after is not None
    hasher = blake3()
    for _, blocks in source.read([path]):
        for block in blocks:
            hasher.update(block)
            yield from (block[at : at + _PART] for at in range(0, len(block), _PART))
    if hasher.digest() != op.after.digest:
        raise PlaceChanged(
            f"{path} is not what it was when the change was computed",
            where=source.location,
            remedy="Something writes there. Close what does, then run this again.",
        )


def _behind(blocks: Iterator[bytes], start: int) -> Iterator[bytes]:
    """Yield what comes behind so many bytes."""
    for block in blocks:
        if start < len(block):
            yield block[start:]
        start = max(0, start - len(block))

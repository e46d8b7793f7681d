"""FolderPlace: a folder on disk. Links are kept as links and never followed, nor is one that a folder
on the way became meanwhile; see `OpenFolder`."""

from __future__ import annotations

import contextlib
import errno
import os
import stat as stat_bits
import sys
from collections.abc import Iterable, Iterator, Sequence
from itertools import repeat

from ..errors import PlaceChanged, PlaceError, Vanished
from ..os_names import as_name, as_text
from .capabilities import Capable
from .durable import refusals, refused
from .names import WORK_FOLDER, is_ours
from .open_folder import OpenFolder
from .place import BLOCK
from .seen import Seen
from .storage_limits import NO_LIMITS, StorageLimits, disk_limits, minds_case_above
from .tree import DIR, FILE, LINK, OTHER, Node, Tree, node_of

__all__ = [
    "STAGE_MARK",
    "FilePlace",
    "FolderPlace",
    "ItemPlace",
    "NewFolder",
    "lstat_node",
    "node_in",
    "stages_in",
    "within_folder",
]

STAGE_MARK = "owner.json"  # in each stage: whose it is
_SMALL = 1 << 20
_MODE = 0o7777  # the permission bits of a mode


class FolderPlace(Capable):
    """A folder, read through `os.scandir`; `without` names subfolders that belong to others.

    `real` is the folder's path without links, if it is known: nothing is read if there are any by then.

    Raises:
        PlaceError: on reading, where the folder is missing or the system refuses.

    >>> len(kl.scan(kl.FolderPlace("server")).files)
    9
    """

    def __init__(
        self, root: str | os.PathLike[str], *, without: tuple[str, ...] = (), real: str = ""
    ) -> None:
        self.root = os.path.abspath(os.path.expanduser(os.fspath(root)))
        self._start = os.path.join(self.root, "")
        self.without = frozenset(without)
        self._fixed = real
        self._real = real  # where it was found to be when it was last looked at
        self._held: OpenFolder | None = None

    @property
    def location(self) -> str:
        return self.root

    def limits(self) -> StorageLimits:
        return disk_limits(self.root)

    def tells_apart(self, tree: Tree) -> bool:
        if sys.platform == "darwin" or self.limits() != NO_LIMITS:
            return False
        named = next((path for path in tree if path.swapcase() != path), "")
        return not self.look([named.swapcase()]) if named else minds_case_above(self.root)

    def folders(self) -> dict[str, FolderPlace]:
        return {"": self}

    def in_folder(self, path: str) -> tuple[FolderPlace, str] | None:
        return self, path

    @contextlib.contextmanager
    def held(self) -> Iterator[OpenFolder]:
        """Hold the folder open for the block: what is looked at and read in it is that very folder.

        Raises:
            PlaceChanged: since it was looked at, the folder or one on the way to it became a link.
        """
        try:
            held = OpenFolder(self.root, real=self._real or os.path.realpath(self.root))
        except NotADirectoryError as error:
            raise PlaceChanged(
                "this was a folder when the change was computed, and is a link or a file now",
                where=self.root,
                remedy="Nothing was written. Look at what it is now, then run this again.",
            ) from error
        with held:
            self._held, before = held, self._held
            try:
                yield held
            finally:
                self._held = before

    def opened(self) -> OpenFolder:
        """Return the folder, opened for one reader: the very folder that is held, if one is."""
        if self._held is not None:
            return self._held.again()
        return OpenFolder(self.root, real=self._fixed)

    def _looked_at(self) -> OpenFolder:
        """Return the folder, opened to be looked at, and remember where that was found to be."""
        if self._held is None:
            self._real = self._fixed or os.path.realpath(self.root)
        return self.opened()

    def path(self, relative: str) -> str:
        """Return the path on disk of something in this place."""
        if os.sep != "/":
            relative = relative.replace("/", os.sep)
        return f"{self._start}{as_name(relative)}" if relative else self.root

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree, with the digests that `seen` knows."""
        nodes: dict[str, Node] = {}
        stack = [""]
        with refusals(self.root), self._looked_at() as opened:
            while stack:
                folder = stack.pop()
                try:
                    names, stats, others = self._listed(folder, opened)
                except (FileNotFoundError, NotADirectoryError):
                    if not folder:
                        raise
                    _check_gone(opened, folder)
                    nodes.pop(folder)  # it went away since its own folder was listed
                    continue
                nodes.update(zip(names, _file_nodes(names, stats, seen), strict=True))
                nodes.update(others)
                stack += (name for name, node in others.items() if node.kind == DIR)
        return Tree._of(nodes)

    def names(self) -> Iterator[str]:
        """Yield the paths of all there is, as `survey` finds it, without looking at each file."""
        stack = [""]
        with refusals(self.root), self._looked_at() as opened:
            while stack:
                folder = stack.pop()
                start = f"{folder}/" if folder else ""
                with (
                    contextlib.suppress(FileNotFoundError, NotADirectoryError),
                    opened.scan(folder) as entries,
                ):
                    for entry in entries:
                        name = start + as_text(entry.name)
                        if self.without and name in self.without:
                            continue
                        ours = is_ours(entry.name)
                        if ours and stages_in(opened, name) is not None:
                            continue
                        yield name
                        if not ours and entry.is_dir(follow_symlinks=False):
                            stack.append(name)

    def outline(self) -> Tree:
        """Return the tree without sizes, times and modes, which are not asked for: what lies where."""
        nodes: dict[str, Node] = {}
        stack = [""]
        file, folder_node = Node(FILE), Node(DIR)
        with refusals(self.root), self._looked_at() as opened:
            while stack:
                folder = stack.pop()
                start = f"{folder}/" if folder else ""
                with (
                    contextlib.suppress(FileNotFoundError, NotADirectoryError),
                    opened.scan(folder) as entries,
                ):
                    listed = list(entries)
                    special = [e for e in listed if not e.is_file(follow_symlinks=False)]
                    together = "\n".join([entry.name for entry in listed])
                    if (
                        together.isascii()
                        and not self.without
                        and WORK_FOLDER not in together.lower()
                    ):
                        odd = {entry.name for entry in special}
                        found = [start + e.name for e in listed if not odd or e.name not in odd]
                        nodes.update(dict.fromkeys(found, file))
                        listed = special
                    for entry in listed:
                        name = start + as_text(entry.name)
                        if self.without and name in self.without:
                            continue
                        if is_ours(entry.name):
                            if stages_in(opened, name) is None:
                                nodes[name] = Node(OTHER)
                        elif entry.is_file(follow_symlinks=False):
                            nodes[name] = file
                        elif entry.is_dir(follow_symlinks=False):
                            nodes[name] = folder_node
                            stack.append(name)
                        else:
                            stat = entry.stat(follow_symlinks=False)
                            nodes[name] = _special(stat, name, opened)
        return Tree._of(nodes)

    def look(self, paths: Iterable[str], *, seen: Seen | None = None) -> dict[str, Node]:
        """Return what stands at some paths, where anything does, as `survey` would."""
        names: list[str] = []
        stats: list[os.stat_result] = []
        nodes: dict[str, Node] = {}
        try:
            opened = self._looked_at()
        except (FileNotFoundError, NotADirectoryError):
            return nodes
        with refusals(self.root), opened:
            for path in paths:
                stat = opened.lstat(path)
                if stat is None:
                    continue
                if is_ours(path):
                    nodes[path] = Node(OTHER)
                elif stat_bits.S_ISREG(stat.st_mode):
                    names.append(path)
                    stats.append(stat)
                else:
                    with contextlib.suppress(FileNotFoundError, NotADirectoryError):
                        nodes[path] = _special(stat, path, opened)
        nodes.update(zip(names, _file_nodes(names, stats, seen), strict=True))
        return nodes

    def _listed(
        self, folder: str, opened: OpenFolder
    ) -> tuple[list[str], list[os.stat_result], dict[str, Node]]:
        """Return what lies in a folder: the files with their status, and everything else."""
        names: list[str] = []
        stats: list[os.stat_result] = []
        others: dict[str, Node] = {}
        start = f"{folder}/" if folder else ""
        with opened.scan(folder) as listed:
            entries = list(listed)
            together = "\n".join([entry.name for entry in entries])
            if together.isascii() and not self.without and WORK_FOLDER not in together.lower():
                with contextlib.suppress(FileNotFoundError):  # then one by one
                    every = [entry.stat(follow_symlinks=False) for entry in entries]
                    if {stat_bits.S_IFMT(stat.st_mode) for stat in every} <= {stat_bits.S_IFREG}:
                        return [start + entry.name for entry in entries], every, others
            for entry in entries:
                name = start + as_text(entry.name)
                if name in self.without:
                    continue
                try:
                    if is_ours(entry.name):
                        if stages_in(opened, name) is None:
                            others[name] = Node(OTHER)  # somebody else's: never taken for a stage
                        continue
                    stat = entry.stat(follow_symlinks=False)
                    if stat_bits.S_ISREG(stat.st_mode):
                        names.append(name)
                        stats.append(stat)
                    else:
                        others[name] = _special(stat, name, opened)
                except FileNotFoundError:
                    continue  # it went away meanwhile
        return names, stats, others

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield the files in the order given; see `Place.read`.

        Raises:
            PlaceError: the system refuses.
            PlaceChanged, Vanished: while a file's blocks are taken.
        """
        try:
            opened = self.opened()
        except (FileNotFoundError, NotADirectoryError):
            yield from ((path, _gone(self.path(path))) for path in paths)
            return
        except OSError as error:
            raise refused(error, self.root) from error
        with opened:
            yield from self._read(paths, opened)

    def _read(
        self, paths: Iterable[str], opened: OpenFolder
    ) -> Iterator[tuple[str, Iterable[bytes]]]:
        for path in paths:
            full = self.path(path)
            try:
                fd = opened.open(path, os.O_RDONLY)
            except (FileNotFoundError, NotADirectoryError):
                _check_gone(opened, path)
                yield path, _gone(full)
                continue
            except OSError as error:
                if error.errno == errno.ELOOP:  # it became a link: what it names is not ours
                    yield path, _gone(full)
                    continue
                raise refused(error, full) from error
            try:
                stat = os.fstat(fd)
                if not stat_bits.S_ISREG(stat.st_mode):
                    yield path, _gone(full)
                elif stat.st_size > _SMALL:
                    yield path, _stream(fd, stat, full)
                else:
                    data = os.read(fd, stat.st_size + 1)
                    yield path, [data] if len(data) == stat.st_size else _moved(data, full)
            except OSError as error:
                raise refused(error, full) from error
            finally:
                os.close(fd)


class FilePlace(FolderPlace):
    """One file, as a place of its own: what an archive is to those who replace it whole."""

    def __init__(self, path: str | os.PathLike[str]) -> None:
        super().__init__(os.path.dirname(os.path.abspath(os.path.expanduser(os.fspath(path)))))
        self.name = as_text(os.path.basename(os.fspath(path)))

    @property
    def location(self) -> str:
        return self.path(self.name)

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree of the one file, empty if it is not there."""
        full = self.path(self.name)
        node = lstat_node(full)
        if node is not None and node.kind == FILE:
            return Tree(self.look([self.name], seen=seen))
        return Tree({self.name: node} if node else {})


class NewFolder(FolderPlace):
    """A folder that need not be there yet: then it is empty, and a change makes it."""

    @property
    def missing(self) -> str:  # type: ignore[override]
        return "" if os.path.lexists(self.root) else self.root

    def survey(self, *, seen: Seen | None = None) -> Tree:
        return Tree() if self.missing else super().survey(seen=seen)

    def limits(self) -> StorageLimits:
        return disk_limits(self._there())

    def tells_apart(self, tree: Tree) -> bool:
        return (
            FolderPlace(self._there()).tells_apart(Tree())
            if self.missing
            else super().tells_apart(tree)
        )

    def _there(self) -> str:
        """Return the folder itself, or the nearest above it that is there."""
        folder = self.root
        while not os.path.lexists(folder) and folder != os.path.dirname(folder):
            folder = os.path.dirname(folder)
        return folder


class ItemPlace(FolderPlace):
    """One folder with its name, as an item of the folder it is in: it may come into being, and go.

    >>> place = kl.ItemPlace("mossferry/userdata/settings.ini")
    >>> ledger.backup(place).files
    1
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        full = os.path.abspath(os.path.expanduser(os.fspath(path)))
        super().__init__(os.path.dirname(full))
        self.name = as_text(os.path.basename(full))
        self.item = self.name

    @property
    def location(self) -> str:
        return self.path(self.name)

    def roots(self) -> dict[str, str]:
        return {".": self.location}

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree of the folder, in paths that begin with its name; empty if it is not there."""
        try:
            opened = self._looked_at()
        except (FileNotFoundError, NotADirectoryError):
            return Tree()
        with refusals(self.root), opened:
            node = node_in(opened, self.name)
            if node is None or node.kind != DIR:
                return Tree({self.name: node} if node else {})
            with opened.inside(self.name) as within:
                inner = within_folder(within)
                tree = inner.survey(seen=seen.under(self.name) if seen is not None else None)
        return Tree({self.name: node, **tree.moved_into(self.name)})


def within_folder(opened: OpenFolder) -> FolderPlace:
    """Return a folder that is open as a place, for as long as it is."""
    place = FolderPlace(opened.path)
    place._held = opened
    return place


def stages_in(opened: OpenFolder, work: str) -> list[str] | None:
    """Return the stages in a folder of this program's own; None if it is none of those.

    It is one if it is a real folder with nothing in it but folders that carry a mark, or are empty.
    """
    if work.rpartition("/")[2] != WORK_FOLDER or not opened.is_folder(work):
        return None
    names = opened.listdir(work)
    for name in names:
        stage = f"{work}/{name}"
        if not opened.is_folder(stage):
            return None
        mark = opened.lstat(f"{stage}/{STAGE_MARK}")
        marked = mark is not None and stat_bits.S_ISREG(mark.st_mode)
        if not marked and not all(
            stat_bits.S_ISDIR(stat.st_mode) for _, stat in opened.walk(stage)
        ):
            return None
    return names


def node_in(opened: OpenFolder, path: str) -> Node | None:
    """Return what stands at a path in a folder that is open, unread; None if nothing does."""
    stat = opened.lstat(path)
    if stat is None:
        return None
    if stat_bits.S_ISREG(stat.st_mode):
        return next(_file_nodes([path], [stat], None))
    return _special(stat, path, opened)


def lstat_node(path: str) -> Node | None:
    """Return what stands at a path on disk now, unread; None if nothing does."""
    try:
        return _node(os.lstat(path), path)
    except (FileNotFoundError, NotADirectoryError):
        return None


def _node(stat: os.stat_result, path: str) -> Node:
    if stat_bits.S_ISREG(stat.st_mode):
        return next(_file_nodes([path], [stat], None))
    return _special(stat, path, None)


def _file_nodes(names: list[str], stats: list[os.stat_result], seen: Seen | None) -> Iterator[Node]:
    """Yield the nodes of files; columns rather than calls: this runs for every file there is."""
    keys: Sequence[tuple[int, ...]]
    keys = [(s.st_size, s.st_mtime_ns, s.st_ctime_ns, s.st_ino) for s in stats]
    digests: Iterable[bytes | None] = repeat(None)
    if seen is not None:
        digests, keys = seen.look_up(names, keys)
    modes = [s.st_mode & _MODE for s in stats]
    sizes, mtimes, *_ = zip(*keys, strict=True) if keys else ((), ())
    return map(node_of, zip(repeat(FILE), sizes, digests, mtimes, modes, repeat("")))


def _special(stat: os.stat_result, path: str, opened: OpenFolder | None) -> Node:
    """Return the node of what is no file, at a path in a folder that is open, or a whole one."""
    full = opened.full(path) if opened is not None else path
    if stat_bits.S_ISLNK(stat.st_mode) or getattr(os.path, "isjunction", lambda _: False)(full):
        target = opened.readlink(path) if opened is not None else as_text(os.readlink(path))
        return Node(LINK, target=target)
    if stat_bits.S_ISDIR(stat.st_mode):
        return Node(DIR, mtime_ns=stat.st_mtime_ns, mode=stat_bits.S_IMODE(stat.st_mode))
    return Node(OTHER)


def _stream(fd: int, start: os.stat_result, full: str) -> Iterator[bytes]:
    left = start.st_size
    with refusals(full):
        while left >= 0 and (block := os.read(fd, min(BLOCK, left + 1))):  # one more: has it grown?
            left -= len(block)
            yield block
        end = os.fstat(fd)
    if (end.st_size, end.st_mtime_ns) != (start.st_size, start.st_mtime_ns):
        raise PlaceChanged("the file changed while it was read", where=full)


def _moved(data: bytes, full: str) -> Iterator[bytes]:
    yield data
    raise PlaceChanged("the file changed while it was read", where=full)


def _check_gone(opened: OpenFolder, path: str) -> None:
    """Raise unless what cannot be found has gone: some systems say that of what they have no path for.

    Raises:
        PlaceError: it is there.
    """
    folder, _, name = path.rpartition("/")
    try:
        there = opened.lstat(path) is None and name in opened.listdir(folder)
    except OSError:
        return
    if there and opened.lstat(path) is None:  # nor was it just away while something replaced it
        raise PlaceError(
            "this is listed, and cannot be opened: its path may be longer than this system takes",
            where=opened.full(path),
            remedy="Move the place to a folder nearer to the top, or leave this out.",
        )


def _gone(full: str) -> Iterator[bytes]:
    raise Vanished("the file went away, or is none any more", where=full)
    yield b""

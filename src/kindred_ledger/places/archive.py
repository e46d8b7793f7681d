"""ZipPlace: a zip archive, read under guard and rewritten without disturbing what stays.

Before a byte is unpacked the whole directory of the archive is judged: names that escape or
collide, links, encrypted or overlapping members and expansion without bound are refused. A
rewritten archive carries untouched members over byte for byte, and new ones deterministically:
the same members and times give the same file.
"""

from __future__ import annotations

import contextlib
import os
import stat as stat_bits
import time
from collections.abc import Callable, Iterable, Iterator
from typing import IO, TYPE_CHECKING

from ..errors import UnsafeArchive, UnsafeName
from .capabilities import Capable
from .durable import refusals
from .memory import MemoryPlace
from .names import check_portable
from .place import BLOCK
from .seen import Seen
from .storage_limits import ZIP_LIMITS, StorageLimits
from .tree import DIR, FILE, PERMISSIONS, Node, Tree

if TYPE_CHECKING:
    import zipfile

    _Region = tuple[zipfile.ZipInfo, int, int]  # a member, where it starts, where the next does

__all__ = ["ZipPlace", "add_member", "check_expansion", "rewrite_zip", "unpacked_zip", "zip_of"]

# An archive may unpack to this many times its own size; small ones always may. Deflate reaches
# about 1,000 on constant data; real game data stays under 50.
_MOST_EXPANSION = 200
_ALWAYS_ALLOWED = 16 << 20
_MOST_MEMBERS = 2_000_000
_HEADER = 30  # bytes of a local file header before the name (APPNOTE 4.3.7)
_EARLIEST = (1980, 1, 1, 0, 0, 0)  # the first time a zip member can carry


class ZipPlace(Capable):
    """A zip archive as a place.

    Raises:
        UnsafeArchive, UnsafeName: on the first use, if the archive fails a guard.
        PlaceError: the file cannot be read.

    >>> place = kl.ZipPlace("downloads/mossferry-1.4.zip")
    >>> len(kl.scan(place).files)
    194
    """

    is_archive = True

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = os.path.abspath(os.path.expanduser(os.fspath(path)))

    @property
    def location(self) -> str:
        return self.path

    def limits(self) -> StorageLimits:
        return ZIP_LIMITS

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree; digests only where `seen` knows this very archive."""
        with refusals(self.path):
            stat = os.stat(self.path)
        nodes = {}
        with self._open() as archive:
            for info in archive.infolist():
                name = info.filename.rstrip("/")
                digest = seen.digest(name, stat) if seen and not info.is_dir() else None
                nodes[name] = _node(info, digest)
        return Tree(nodes)

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield members in the order they lie in the archive."""
        with self._open() as archive:
            infos = [self._member(archive, path) for path in paths]
            for info in sorted(infos, key=lambda info: info.header_offset):
                yield info.filename, self._blocks(archive, info)

    def _member(self, archive: zipfile.ZipFile, path: str) -> zipfile.ZipInfo:
        try:
            return archive.getinfo(path)
        except KeyError as error:
            raise UnsafeArchive(f"there is no member {path}", where=self.path) from error

    def _blocks(self, archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> Iterator[bytes]:
        import zipfile
        import zlib

        try:
            with archive.open(info) as member:
                while block := member.read(BLOCK):
                    yield block
        except (zipfile.BadZipFile, EOFError, zlib.error, NotImplementedError, OSError) as error:
            raise UnsafeArchive(
                f"{info.filename} cannot be unpacked: {error}",
                where=self.path,
                remedy="The archive is damaged; fetch it again and compare its size.",
            ) from error

    def _open(self) -> zipfile.ZipFile:
        import zipfile

        try:
            with refusals(self.path):
                archive = zipfile.ZipFile(self.path)
        except zipfile.BadZipFile as error:
            raise UnsafeArchive(
                f"this is no whole zip archive: {error}",
                where=self.path,
                remedy="The download may have been cut short; fetch it again and compare its size.",
            ) from error
        try:
            _judge(archive, os.path.getsize(self.path))
        except (UnsafeArchive, UnsafeName) as error:
            archive.close()
            raise error.inside(self.path) from None
        return archive


def unpacked_zip(data: bytes, location: str) -> MemoryPlace:
    """Return the contents of a zip archive that is in memory, judged as one on disk is.

    Raises:
        UnsafeArchive, UnsafeName: it fails a guard, or is damaged.
    """
    import io
    import zipfile
    import zlib

    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            _judge(archive, len(data))
            contents = {
                info.filename: archive.read(info)
                for info in archive.infolist()
                if not info.is_dir()
            }
    except (zipfile.BadZipFile, EOFError, zlib.error, NotImplementedError) as error:
        raise UnsafeArchive(f"this is no whole zip archive: {error}", where=location) from error
    except (UnsafeArchive, UnsafeName) as error:
        raise error.inside(location) from None
    return MemoryPlace(contents, location=location)


def zip_of(tree: Tree, content: Callable[[str], Iterable[bytes]]) -> bytes:
    """Return a tree as a zip archive: the same tree and contents give the same bytes."""
    import io

    out = io.BytesIO()
    rewrite_zip(None, out, put=dict(tree), content=content)
    return out.getvalue()


def _judge(archive: zipfile.ZipFile, size: int) -> None:
    infos = archive.infolist()
    if len(infos) > _MOST_MEMBERS:
        raise UnsafeArchive(f"it has {len(infos)} members, more than {_MOST_MEMBERS}")
    names = set()
    for info in infos:
        check_portable(info.orig_filename.rstrip("/"))
        mode = info.external_attr >> 16
        if mode and stat_bits.S_IFMT(mode) not in (0, stat_bits.S_IFREG, stat_bits.S_IFDIR):
            raise UnsafeArchive(f"the member {info.filename} is a link or a device")
        if info.flag_bits & 1:
            raise UnsafeArchive(
                f"the member {info.filename} is encrypted", remedy="Unpack it yourself first."
            )
        name = info.filename.rstrip("/")
        if name in names:
            raise UnsafeArchive(f"the member {name} is there twice")
        names.add(name)
    check_expansion(sum(info.file_size for info in infos), size)
    end = 0
    for info in sorted(infos, key=lambda info: info.header_offset):
        if info.header_offset < end:
            raise UnsafeArchive(f"the member {info.filename} overlaps another")
        end = info.header_offset + _HEADER + info.compress_size


def check_expansion(expanded: int, size: int) -> None:
    """Raise `UnsafeArchive` if an archive of `size` bytes unpacks to out of all proportion."""
    if expanded > max(_ALWAYS_ALLOWED, _MOST_EXPANSION * size):
        raise UnsafeArchive(
            f"it would unpack to {expanded:,} bytes, {expanded // max(size, 1)} times its size",
            remedy=f"More than {_MOST_EXPANSION} times is refused, as in an archive made to fill a disk.",
        )


def _node(info: zipfile.ZipInfo, digest: bytes | None) -> Node:
    mode = (info.external_attr >> 16) & PERMISSIONS
    if info.is_dir():
        return Node(DIR, mode=mode)
    from calendar import timegm

    # Zip times are local without a zone; taken as UTC they are the same on every machine.
    try:
        when_ns = timegm((*info.date_time, 0, 0, 0)) * 10**9
    except ValueError:  # written as 0, month and day too, by tools that know no time
        when_ns = 0
    return Node(FILE, info.file_size, digest, when_ns, mode)


def rewrite_zip(
    old: str | None,
    out: IO[bytes],
    *,
    remove: Iterable[str] = (),
    put: dict[str, Node] | None = None,
    content: Callable[[str], Iterable[bytes]] = lambda _: (),
) -> None:
    """Write to `out` the archive at `old` without `remove` and with `put` added or replaced.

    Untouched members keep their local header, data and place in the order, byte for byte, and so
    does what stands before the first (a program that unpacks itself). `content(path)` gives the
    blocks of each new file; new members stand at the end, sorted.
    """
    import zipfile

    put = put or {}
    gone = {*remove, *put}
    with contextlib.ExitStack() as stack:
        regions: list[_Region] = []
        if old is not None:
            archive = stack.enter_context(zipfile.ZipFile(old))
            raw = stack.enter_context(open(old, "rb"))
            regions = _regions(archive)
            _copy(raw, out, 0, regions[0][1] if regions else 0)
        with zipfile.ZipFile(out, "w") as new:
            new.comment = archive.comment if old is not None else b""
            for info, start, end in regions:
                if info.filename.rstrip("/") not in gone:
                    _carry(new, info, raw, start, end)
            for path in sorted(put):
                add_member(
                    new, path, put[path], blocks=() if put[path].kind == DIR else content(path)
                )


def _regions(archive: zipfile.ZipFile) -> list[_Region]:
    """Return each member with the span of its local header, data and what follows them."""
    infos = sorted(archive.infolist(), key=lambda info: info.header_offset)
    bounds = [*(info.header_offset for info in infos), archive.start_dir]
    return [(info, bounds[at], bounds[at + 1]) for at, info in enumerate(infos)]


def _carry(
    new: zipfile.ZipFile, info: zipfile.ZipInfo, raw: IO[bytes], start: int, end: int
) -> None:
    import copy

    assert new.fp is not None
    moved = copy.copy(info)
    moved.header_offset = new.start_dir
    new.fp.seek(new.start_dir)
    _copy(raw, new.fp, start, end)
    new.start_dir = new.fp.tell()
    new.filelist.append(moved)
    new.NameToInfo[moved.filename] = moved
    new._didModify = True  # type: ignore[attr-defined]  # zipfile has no call for members carried raw


def _copy(source: IO[bytes], target: IO[bytes], start: int, end: int) -> None:
    source.seek(start)
    left = end - start
    while left and (block := source.read(min(left, BLOCK))):
        target.write(block)
        left -= len(block)


def add_member(new: zipfile.ZipFile, path: str, node: Node, *, blocks: Iterable[bytes]) -> None:
    """Add a file or folder to an open archive: the same node and content give the same bytes.

    A folder gets no time: it says when something was put in it, not what it holds.
    """
    import zipfile

    is_dir = node.kind == DIR
    dated = node.mtime_ns and not is_dir
    when = time.gmtime(node.mtime_ns // 10**9)[:6] if dated else _EARLIEST
    info = zipfile.ZipInfo(path + ("/" if is_dir else ""), max(when, _EARLIEST))
    kind, mode = (stat_bits.S_IFDIR, 0o755) if is_dir else (stat_bits.S_IFREG, 0o644)
    info.external_attr = (kind | (node.mode or mode)) << 16 | (0x10 if is_dir else 0)
    info.create_system = 3  # Unix, on every system, so that the same input gives the same file
    info.compress_type = zipfile.ZIP_STORED if is_dir else zipfile.ZIP_DEFLATED
    info.file_size = node.size
    with new.open(info, "w", force_zip64=node.size > 1 << 31) as member:
        for block in blocks:
            member.write(block)

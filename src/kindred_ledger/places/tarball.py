"""TarPlace: a tar archive, plain or packed, read under guard from front to back.

Names that escape or collide, devices, hard links, names that stand twice and expansion without
bound are refused. A link is kept as a link. It can be read, not changed.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from typing import IO, TYPE_CHECKING, cast

from ..errors import KindredError, UnsafeArchive
from ..os_names import as_text
from .archive import check_expansion
from .capabilities import Capable
from .durable import refusals
from .names import check_portable
from .place import BLOCK
from .seen import Seen
from .tree import DIR, FILE, LINK, PERMISSIONS, Node, Tree
from .zstandard import zstd

if TYPE_CHECKING:
    import tarfile

__all__ = ["TarPlace", "is_tar"]

_ZSTD, _GZIP, _BZIP2, _XZ = b"\x28\xb5\x2f\xfd", b"\x1f\x8b", b"BZh", b"\xfd7zXZ\0"
_PACKED = (_ZSTD, _GZIP, _BZIP2, _XZ)
_MAGIC = slice(257, 262)  # where a plain archive says "ustar"


def is_tar(path: str) -> bool:
    """Tell whether a file looks like a tar archive: by its content, or packed and named so."""
    with open(path, "rb") as file:
        start = file.read(512)
    named = ".tar" in os.path.basename(path).lower() or path.lower().endswith(
        (".tgz", ".tbz2", ".txz")
    )
    return start[_MAGIC] == b"ustar" or (named and start.startswith(_PACKED))


class TarPlace(Capable):
    """A tar archive as a place.

    Raises:
        UnsafeArchive, UnsafeName: on the first use, if the archive fails a guard or is damaged.
        PlaceError: the file cannot be read.

    >>> entry = ledger.backup(install)
    >>> _ = kl.export(entry, "copy.tar.zst", ledger=ledger)
    >>> len(kl.scan(kl.TarPlace("copy.tar.zst")).files) == entry.files
    True
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = os.path.abspath(os.path.expanduser(os.fspath(path)))

    @property
    def location(self) -> str:
        return self.path

    def survey(self, *, seen: Seen | None = None) -> Tree:
        """Return the tree; digests only where `seen` knows this very archive.

        Raises:
            UnsafeArchive: a name is there twice, or leads elsewhere.
        """
        with refusals(self.path):
            stat = os.stat(self.path)
        nodes: dict[str, Node] = {}
        total = 0
        with self._members() as members:
            for info, name in members:
                if name in nodes and not (info.isdir() and nodes[name].kind == DIR):
                    raise UnsafeArchive(f"the member {name} is there twice")
                total += info.size
                check_expansion(total, stat.st_size)
                digest = seen.digest(name, stat) if seen and info.isreg() else None
                nodes[name] = _node(info, digest)
        return Tree(nodes)

    def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
        """Yield members in the order they lie in the archive.

        Raises:
            UnsafeArchive: there is no such member, or it is damaged.
        """
        wanted = set(paths)
        with self._members() as members:
            for info, name in members:
                if name in wanted:
                    wanted.remove(name)
                    yield name, self._blocks(info)
                    if not wanted:
                        break
        for name in sorted(wanted):
            raise UnsafeArchive(f"there is no member {name}", where=self.path)

    def _blocks(self, info: tarfile.TarInfo) -> Iterator[bytes]:
        left = info.size
        with _damage(self.path):
            member = self._archive.extractfile(info)
            assert member is not None
            while left and (block := member.read(min(BLOCK, left))):
                left -= len(block)
                yield block
        if left:
            raise UnsafeArchive(f"{info.name} is cut short", where=self.path)

    @contextmanager
    def _members(self) -> Iterator[Iterator[tuple[tarfile.TarInfo, str]]]:
        import tarfile

        with refusals(self.path), _damage(self.path), _unpacked(self.path) as plain:
            with tarfile.open(fileobj=plain, mode="r|") as archive:
                self._archive = archive
                yield _judged(archive)
            while plain.read(BLOCK):  # to the end, where the packing has its checksum
                pass


def _unpacked(path: str) -> IO[bytes]:
    """Open what is packed as what it holds, verified up to where it is read."""
    with open(path, "rb") as file:
        start = file.read(6)
    if start.startswith(_ZSTD):
        return cast(IO[bytes], zstd.open(path, "rb"))
    if start.startswith(_GZIP):
        import gzip

        return cast(IO[bytes], gzip.open(path, "rb"))
    if start.startswith(_BZIP2):
        import bz2

        return bz2.open(path, "rb")
    if start == _XZ:
        import lzma

        return lzma.open(path, "rb")
    return open(path, "rb")


def _judged(archive: tarfile.TarFile) -> Iterator[tuple[tarfile.TarInfo, str]]:
    for info in archive:
        name = as_text(info.name.removeprefix("./").rstrip("/"))
        if name in ("", "."):
            continue
        check_portable(re.sub("\0dc[89a-f][0-9a-f]", "_", name))  # in a tar a name is any bytes
        if not (info.isreg() or info.isdir() or info.issym()):
            raise UnsafeArchive(f"the member {name} is a hard link or a device")
        yield info, name


@contextmanager
def _damage(path: str) -> Iterator[None]:
    """Turn what a damaged archive raises into an error that names it."""
    import lzma
    import tarfile
    import zlib

    damage = (tarfile.TarError, zstd.ZstdError, zlib.error, lzma.LZMAError, EOFError, OSError)
    try:
        yield
    except KindredError as error:
        raise (error if path in error.where else error.inside(path)) from None
    except damage as error:
        if isinstance(error, OSError) and error.errno:
            raise  # the system's own; a damaged gzip or bzip2 file raises one without a number
        raise UnsafeArchive(
            f"the archive is damaged: {error}",
            where=path,
            remedy="Fetch it again and compare its size.",
        ) from error


def _node(info: tarfile.TarInfo, digest: bytes | None) -> Node:
    if info.issym():
        return Node(LINK, target=as_text(info.linkname))
    from decimal import Decimal

    when = Decimal(info.pax_headers.get("mtime", info.mtime))  # a float has no room for nanoseconds
    mtime_ns, mode = int(when * 10**9), info.mode & PERMISSIONS
    if info.isdir():
        return Node(DIR, mtime_ns=mtime_ns, mode=mode)
    return Node(FILE, info.size, digest, mtime_ns, mode)

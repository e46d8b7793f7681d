"""Exporting an entry as one archive that anybody can open: a zip, or a tar packed with Zstandard.

The archive is written beside its name, read back and compared with the entry, and only then named.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from typing import IO, TYPE_CHECKING, BinaryIO, cast

from ..errors import BooksUnbalanced, UsageError
from ..os_names import as_name
from ..places import (
    DIR,
    FILE,
    LINK,
    Place,
    TarPlace,
    Tree,
    ZipPlace,
    add_member,
    refusals,
    scan,
    written_once,
)
from ..places.zstandard import zstd
from ..progress import Progress
from .entries import Entry
from .ledger import Ledger

if TYPE_CHECKING:
    import tarfile

__all__ = ["export"]

_ENDINGS = (".zip", ".tar.zst")


def export(
    entry: Entry | str,
    out: str | os.PathLike[str],
    *,
    ledger: Ledger,
    progress: Progress | None = None,
) -> Tree:
    """Write an entry to the archive `out`, a `.zip` or `.tar.zst`; return the tree it holds.

    A zip holds no links, and no names that are no valid text: they are left out, and are missing from the
    tree that is returned.

    Raises:
        UsageError: `out` is there already, or names no such archive.
        BooksUnbalanced: what was written does not read back; nothing is left behind.

    >>> entry = ledger.backup(install)
    >>> len(kl.export(entry, "copy.zip", ledger=ledger).files) == entry.files
    True
    """
    entry = ledger.entry(entry)
    path = os.path.abspath(os.path.expanduser(os.fspath(out)))
    if not path.endswith(_ENDINGS):
        raise UsageError(
            "an entry is exported as .zip or .tar.zst",
            where=path,
            remedy="For a plain folder: kindred restore ENTRY --into FOLDER",
        )
    if os.path.exists(path):
        raise UsageError(
            "there is something here already", where=path, remedy="Choose another name."
        )
    source = ledger.place(entry)
    tree = source.survey()
    if path.endswith(".zip"):
        tree = tree.select(lambda name: tree[name].kind in (FILE, DIR) and "\0" not in name)
    watch = progress or Progress()
    with refusals(path), written_once(path) as file:
        with watch.task("exporting", total=tree.size_bytes, unit="bytes") as task:
            write = _write_zip if path.endswith(".zip") else _write_tar
            for name in write(file, tree, source):
                task.advance(tree[name].size)
        file.flush()
        written: Place = ZipPlace(file.name) if path.endswith(".zip") else TarPlace(file.name)
        found = scan(written, progress=watch)
        if [d.path for d in tree.diff(found) if d.status != "touched"]:
            raise BooksUnbalanced("what was written does not read back as the entry", where=path)
    return tree


def _write_zip(file: BinaryIO, tree: Tree, source: Place) -> Iterator[str]:
    import zipfile

    with zipfile.ZipFile(file, "w") as archive:
        for name, node in tree.items():
            if node.kind == DIR:
                add_member(archive, name, node, blocks=())
        for name, blocks in source.read(tree.files):
            add_member(archive, name, tree[name], blocks=blocks)
            yield name


def _write_tar(file: BinaryIO, tree: Tree, source: Place) -> Iterator[str]:
    import tarfile

    options: dict[int, int] = {zstd.CompressionParameter.checksum_flag: 1}
    with (
        zstd.open(file, "wb", options=options) as packed,
        tarfile.open(fileobj=packed, mode="w|", format=tarfile.PAX_FORMAT) as archive,
    ):
        for name, node in tree.items():
            if node.kind in (DIR, LINK):
                archive.addfile(_tar_info(name, tree))
        for name, blocks in source.read(tree.files):
            archive.addfile(_tar_info(name, tree), cast(IO[bytes], _Stream(blocks)))
            yield name


def _tar_info(name: str, tree: Tree) -> tarfile.TarInfo:
    import tarfile

    node = tree[name]
    info = tarfile.TarInfo(as_name(name))
    info.type = {DIR: tarfile.DIRTYPE, LINK: tarfile.SYMTYPE}.get(node.kind, tarfile.REGTYPE)
    info.size, info.linkname = node.size, as_name(node.target)
    info.mode = node.mode or (0o755 if node.kind == DIR else 0o644)
    info.mtime = node.mtime_ns // 10**9
    if node.mtime_ns % 10**9:
        info.pax_headers = {"mtime": f"{node.mtime_ns // 10**9}.{node.mtime_ns % 10**9:09}"}
    return info


class _Stream:
    """Blocks as a file that is read once, front to back, as tarfile asks for it."""

    def __init__(self, blocks: Iterable[bytes]) -> None:
        self._blocks = iter(blocks)
        self._held = b""

    def read(self, size: int) -> bytes:
        while len(self._held) < size:
            block = next(self._blocks, None)
            if block is None:
                break
            self._held += block
        taken, self._held = self._held[:size], self._held[size:]
        return taken

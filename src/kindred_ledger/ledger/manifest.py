"""Manifests: the files entries and history records are kept in.

A manifest is two lines of JSON in two Zstandard frames, one after the other: a short header that
can be read alone, and a body. A skippable frame at the end holds the BLAKE3 digest of every byte
before it. `zstd -dc` prints the lines. Trees are stored as columns, so that a hundred thousand files
are a few long arrays. See docs/ledger-format.md.
"""

from __future__ import annotations

import errno
import os
import re
import struct
from collections.abc import Iterable, Iterator
from typing import Annotated, Any

import msgspec
from blake3 import blake3
from msgspec import Struct

from ..errors import KindredError, LedgerDamaged
from ..os_names import as_name, is_canonical, json_bytes
from ..places import FILE, LINK, Node, Tree, node_of
from ..small_files import read_small
from . import zstd
from .encryption import PLAIN, Encryption

__all__ = [
    "SUFFIX",
    "decode",
    "decode_header",
    "digests_of",
    "encode",
    "files_of",
    "lost_files",
    "read",
    "read_header",
    "tree_from_columns",
    "tree_to_columns",
]

SUFFIX = ".json.zst"  # of the name of every manifest
_LARGEST = 1 << 30  # bytes
_KINDS = {"file": "f", "dir": "d", "link": "l", "other": "o"}
# Digests in hex are most of a manifest: they pack a little smaller at 1 than at 3, four times as fast.
_LEVEL = 1
_CHECKSUM = struct.Struct("<II32s")  # a skippable frame: magic, size, digest
_PURPOSES = (b"header", b"body")
_LATEST_NS = 10**9 << 40  # what file systems can hold ends long before
_UNREAD = bytes(32)
_TREES = ("tree", "release", "before", "after", "common")  # of a body
_ODD_PART = re.compile("(?:^|/)\\.{0,2}(?=/|$)")  # none, one or two dots between slashes
_KIND_OF = {letter: kind for kind, letter in _KINDS.items()}
_Size = Annotated[int, msgspec.Meta(ge=0, le=1 << 62)]
_Mode = Annotated[int, msgspec.Meta(ge=0, le=0o7777)]


class _Columns(Struct):
    """The columns of a tree, as they are stored."""

    paths: list[str]
    kinds: str
    sizes: list[_Size]
    mtimes_ns: list[int]
    modes: list[_Mode]
    digests: str
    targets: list[str]


def encode(header: dict[str, Any], body: dict[str, Any], encryption: Encryption = PLAIN) -> bytes:
    """Return the bytes of a manifest."""
    frames = b""
    for part, purpose in zip((header, body), _PURPOSES, strict=True):
        frame = zstd.compress(json_bytes(part) + b"\n", level=_LEVEL)
        frames += encryption.wrapped(frame, purpose)
    return frames + _checksummed(frames)


def _checksummed(frames: bytes | memoryview) -> bytes:
    return _CHECKSUM.pack(zstd.SKIPPABLE, 32, blake3(frames).digest())


def read(path: str, encryption: Encryption = PLAIN) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return header and body of the manifest in a file, verified.

    Raises:
        LedgerDamaged: it is missing, any byte of it is not what was written, or it has another's name.
    """
    header, body = decode(_bytes(path), where=path, encryption=encryption)
    return _own(header, path), body


def read_header(path: str, encryption: Encryption = PLAIN) -> dict[str, Any]:
    """Return the header of the manifest in a file; see `read` and `decode_header`."""
    return _own(decode_header(_bytes(path), where=path, encryption=encryption), path)


def _own(header: dict[str, Any], path: str) -> dict[str, Any]:
    if header.get("id") != os.path.basename(path).removesuffix(SUFFIX):
        raise LedgerDamaged(f"this is {header.get('id')} under another name", where=path)
    return header


def _bytes(path: str) -> bytes:
    try:
        return read_small(path, most=_LARGEST, follow=False)
    except FileNotFoundError as error:
        raise LedgerDamaged("it is missing", where=path) from error
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.EFBIG):
            raise
        raise LedgerDamaged(error.strerror or str(error), where=path) from error


def decode_header(data: bytes, *, where: str, encryption: Encryption = PLAIN) -> dict[str, Any]:
    """Return the header alone; its frame's checksum is verified, the one of the whole is not.

    Raises:
        LedgerDamaged: the header is not what was written.
    """
    try:
        line, _ = encryption.content(data, _PURPOSES[0])
        return _object(line)
    except KindredError as error:
        raise error.inside(where) from None


def decode(
    data: bytes, *, where: str, encryption: Encryption = PLAIN
) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return header and body, verified against the checksum.

    Raises:
        LedgerDamaged: any byte is not what was written.
    """
    try:
        frames, checksum = memoryview(data)[: -_CHECKSUM.size], data[-_CHECKSUM.size :]
        if checksum != _checksummed(frames):
            raise LedgerDamaged("it does not have the digest it was written with")
        header, rest = encryption.content(data, _PURPOSES[0])
        body, rest = encryption.content(rest, _PURPOSES[1])
        if rest != checksum:
            raise LedgerDamaged("it holds more than a header and a body")
        found = _object(body)
        for name in _TREES:
            if name in found:
                _check_columns(found[name])
        return _object(header), found
    except KindredError as error:
        raise error.inside(where) from None


def _check_columns(columns: Any) -> None:
    """Raise `LedgerDamaged` unless columns are a tree's, with paths that stay below its place."""
    try:
        tree = msgspec.convert(columns, _Columns)
        digests = bytes.fromhex(tree.digests)
    except (msgspec.ValidationError, ValueError, OverflowError) as error:
        raise LedgerDamaged(f"the tree cannot be read: {error}") from error
    if max(map(abs, tree.mtimes_ns), default=0) > _LATEST_NS:
        raise LedgerDamaged("the tree cannot be read: it has times that no clock shows")
    count, joined = len(tree.paths), "/".join(tree.paths)
    lengths = {len(tree.kinds), len(tree.sizes), len(tree.mtimes_ns), len(tree.modes), count}
    files, links = tree.kinds.count("f"), tree.kinds.count("l")
    if len(lengths) > 1 or not _KIND_OF.keys() >= {*tree.kinds} or len({*tree.paths}) != count:
        raise LedgerDamaged("the tree cannot be read: its columns are of different lengths")
    if len(digests) != 32 * files or len(tree.targets) != links:
        raise LedgerDamaged("the tree cannot be read: digests or targets are missing")
    if count and _ODD_PART.search(joined):
        raise LedgerDamaged("the tree has paths that lead out of its place")
    if "\0" in joined and not all(is_canonical(path) for path in tree.paths if "\0" in path):
        raise LedgerDamaged("the tree has paths that no system has")
    if "\0" in as_name("/".join(tree.targets)):
        raise LedgerDamaged("the tree has links to no path")


def _object(line: bytes) -> dict[str, Any]:
    try:
        return msgspec.json.decode(line, type=dict[str, Any])
    except msgspec.MsgspecError as error:
        raise LedgerDamaged(f"it cannot be read: {error}") from error


def tree_to_columns(tree: Tree) -> dict[str, Any]:
    """Return a tree as columns; digests stand in hex, one after the other, for the files only."""
    rows = zip(*tree.values(), strict=True) if tree else ((),) * len(Node._fields)
    kinds, sizes, digests, mtimes_ns, modes, targets = rows
    of_files = (
        digest or _UNREAD for kind, digest in zip(kinds, digests, strict=True) if kind == FILE
    )
    return {
        "paths": list(tree),
        "kinds": "".join(map(_KINDS.__getitem__, kinds)),
        "sizes": sizes,
        "mtimes_ns": mtimes_ns,
        "modes": modes,
        "digests": b"".join(of_files).hex(),
        "targets": [t for kind, t in zip(kinds, targets, strict=True) if kind == LINK],
    }


def tree_from_columns(columns: dict[str, Any], *, like: Tree | None = None) -> Tree:
    """Read what `tree_to_columns` wrote; what `like` has, too, is shared with it.

    Raises:
        LedgerDamaged: columns are missing or of different lengths.
    """
    try:
        raw, kinds = bytes.fromhex(columns["digests"]), columns["kinds"]
        digests = iter([raw[at : at + 32] for at in range(0, len(raw), 32)])
        targets = iter(columns["targets"])
        rows = zip(
            map(_KIND_OF.__getitem__, kinds),
            columns["sizes"],
            [next(digests) if kind == "f" else None for kind in kinds],
            columns["mtimes_ns"],
            columns["modes"],
            [next(targets) if kind == "l" else "" for kind in kinds],
            strict=True,
        )
        pairs: Iterable[tuple[str, Node]] = zip(columns["paths"], map(node_of, rows), strict=True)
        if like is not None:
            pairs = _shared(pairs, like)
        return Tree(dict(pairs))
    except (KeyError, ValueError, StopIteration, RuntimeError) as error:
        raise LedgerDamaged(f"the tree cannot be read: {error}") from error


def _shared(pairs: Iterable[tuple[str, Node]], like: Tree) -> Iterator[tuple[str, Node]]:
    """Yield paths and nodes, those of another tree where they are equal: most are, and take room once."""
    paths = dict(zip(like, like, strict=True))
    for path, node in pairs:
        there = like.get(path)
        yield paths.get(path, path), there if there is not None and there == node else node


def files_of(tree: dict[str, Any]) -> dict[str, str]:
    """Return the digest, in hex, of each file of a tree in columns, by path.

    Raises:
        LedgerDamaged: columns are missing or of different lengths.
    """
    try:
        raw = tree["digests"]
        files = [p for p, kind in zip(tree["paths"], tree["kinds"], strict=True) if kind == "f"]
        digests = [raw[at : at + 64] for at in range(0, len(raw), 64)]
        return dict(zip(files, digests, strict=True))
    except (KeyError, ValueError) as error:
        raise LedgerDamaged(f"the tree cannot be read: {error}") from error


def digests_of(tree: dict[str, Any]) -> list[bytes]:
    """Return the digests of the files of a tree in columns."""
    raw = bytes.fromhex(tree["digests"])
    return [raw[at : at + 32] for at in range(0, len(raw), 32)]


def lost_files(tree: dict[str, Any], whole: set[bytes]) -> tuple[str, ...]:
    """Return the files of a tree, in columns, whose content is not among the whole ones."""
    digests = digests_of(tree)
    if whole.issuperset(digests):
        return ()
    files = [path for path, kind in zip(tree["paths"], tree["kinds"], strict=True) if kind == "f"]
    return tuple(p for p, digest in zip(files, digests, strict=True) if digest not in whole)

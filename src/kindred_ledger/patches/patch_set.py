"""Patch sets: one zip that makes several outputs of several bases, with a manifest that people can read.

    patches.toml         what it is for; bases and outputs by name; every change, by path, with digests
    deltas/…             VCDIFF (RFC 3284), which any standard decoder reads
    contents/…           files that are new, or that no delta makes smaller
    sketches/N           of base N, from 0: 64 numbers of 8 bytes, little endian, by which relatives are known

What always holds: a delta says by digest what it is for and what comes of it, and the digests are
BLAKE3. See docs/patches.md.
"""

from __future__ import annotations

import json
import tomllib
import zipfile
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, BinaryIO

import msgspec
from msgspec import Struct

from ..errors import FormatError, KindredError
from ..places import ZipPlace, check_portable, read_bytes

__all__ = [
    "MANIFEST",
    "Base",
    "Change",
    "Manifest",
    "Output",
    "PatchSet",
    "is_patch_set",
    "write_patch_set",
]

MANIFEST = "patches.toml"
_FORMAT = 1
_LARGEST = 16 << 20  # bytes of a manifest
_MOMENT = (1980, 1, 1, 0, 0, 0)  # of all members: the same input makes the same archive


class Base(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What a patch set is made for: its name in the set, and which builds it stands for.

    >>> before = kl.MemoryPlace({"a.chart": b"old" * 1000})
    >>> after = kl.MemoryPlace({"a.chart": b"old" * 1000 + b"new"})
    >>> manifest, _ = kl.make_patch_set({kl.Base("1"): before}, {kl.Output("2"): after})
    >>> manifest.bases[0].name, manifest.outputs[0].name
    ('1', '2')
    """

    name: str
    builds: str = ""


class Output(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What comes of it: a flavour, with what people should know of it.

    >>> patches = kl.PatchSet.open("downloads/wet-lantern.patches.zip")
    >>> patches.manifest.outputs[0].name, patches.manifest.outputs[0].notes
    ('short', 'One harbour more.')
    """

    name: str
    builds: str = ""
    notes: str = ""


class Change(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What becomes of one file between a base and an output; a single file has the path "".

    `was` and `becomes` are digests in hexadecimal, "" where there is no file. It is made by the
    member `delta`, or has the content of the member `content`.
    """

    base: str
    output: str
    path: str = ""
    was: str = ""
    becomes: str = ""
    size: int = 0  # bytes, of what it becomes
    delta: str = ""
    content: str = ""


class Manifest(Struct, frozen=True, forbid_unknown_fields=True):
    """What `patches.toml` holds.

    >>> manifest = kl.PatchSet.open("downloads/wet-lantern.patches.zip").manifest
    >>> manifest.title, [base.name for base in manifest.bases]
    ('mossferry', ['harbours of 1.4', 'harbours of 2.0'])
    """

    format: int = _FORMAT
    title: str = ""
    notes: str = ""
    bases: tuple[Base, ...] = ()
    outputs: tuple[Output, ...] = ()
    changes: tuple[Change, ...] = ()


class PatchSet:
    """A patch set that was opened; nothing of it is believed until digests agree.

    >>> patches = kl.PatchSet.open("downloads/wet-lantern.patches.zip")
    >>> [output.name for output in patches.manifest.outputs]
    ['short', 'full']
    """

    def __init__(self, path: str, manifest: Manifest) -> None:
        self.path = path
        self.manifest = manifest
        self._place = ZipPlace(path)

    @staticmethod
    def open(path: str) -> PatchSet:
        """Open a patch set and check its manifest.

        Raises:
            FormatError: it is none, or contradicts itself.
            UnsafeArchive, UnsafeName: the archive fails a guard.
        """
        place = ZipPlace(path)
        tree = place.survey()
        node = tree.get(MANIFEST)
        if node is None:
            raise FormatError("this is no patch set: it has no patches.toml", where=path)
        if node.size > _LARGEST:
            raise FormatError("the manifest is larger than 16 MB", where=path)
        try:
            values = tomllib.loads(read_bytes(place, MANIFEST).decode())
            manifest = msgspec.convert(values, Manifest)
        except (ValueError, msgspec.ValidationError) as error:
            raise FormatError(
                f"its manifest cannot be read: {error}", where=f"{path}: {MANIFEST}"
            ) from error
        if manifest.format != _FORMAT:
            raise FormatError(
                f"it is a patch set of format {manifest.format}; this program reads {_FORMAT}",
                where=path,
                remedy="Update this program, then run the command again.",
            )
        for change in manifest.changes:
            _check(change, manifest, tree, path)
        return PatchSet(path, manifest)

    @property
    def is_single(self) -> bool:
        """Tell whether it is for single files, not for folders."""
        return all(not change.path for change in self.manifest.changes)

    def changes(self, base: str, output: str) -> tuple[Change, ...]:
        """Return what becomes of the files of a base for an output."""
        return tuple(
            each for each in self.manifest.changes if each.base == base and each.output == output
        )

    def member(self, name: str) -> bytes:
        """Return a member's bytes."""
        return read_bytes(self._place, name)

    def blocks(self, name: str) -> Iterator[bytes]:
        """Yield a member's bytes in blocks."""
        for _, blocks in self._place.read([name]):
            yield from blocks

    def sketch(self, base: str) -> frozenset[int]:
        """Return the numbers a base is known by; empty if it has none."""
        names = [each.name for each in self.manifest.bases]
        try:
            data = self.member(sketch_name(names.index(base)))
        except KindredError:
            return frozenset()
        return frozenset(
            int.from_bytes(data[at : at + 8], "little") for at in range(0, len(data) - 7, 8)
        )


def sketch_name(number: int) -> str:
    """Return the member that has the sketch of a base, by its place in the manifest."""
    return f"sketches/{number}"


def is_patch_set(path: str) -> bool:
    """Tell whether a file is a zip with the manifest of a patch set."""
    try:
        with zipfile.ZipFile(path) as archive:
            return MANIFEST in archive.namelist()
    except (OSError, zipfile.BadZipFile):
        return False


def write_patch_set(file: BinaryIO, manifest: Manifest, members: Mapping[str, bytes]) -> None:
    """Write a patch set; the same input makes the same bytes.

    >>> before = kl.MemoryPlace({"a.chart": b"old" * 1000})
    >>> after = kl.MemoryPlace({"a.chart": b"old" * 1000 + b"new"})
    >>> made = kl.make_patch_set({kl.Base("1"): before}, {kl.Output("2"): after})
    >>> with open("charts.patches.zip", "wb") as file:
    ...     kl.write_patch_set(file, *made)
    ...
    >>> kl.PatchSet.open("charts.patches.zip").manifest.bases[0].name
    '1'
    """
    with zipfile.ZipFile(file, "w") as archive:
        for name, data in ((MANIFEST, _text(manifest).encode()), *sorted(members.items())):
            info = zipfile.ZipInfo(name, _MOMENT)
            info.external_attr = 0o100644 << 16
            info.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(info, data)


def _check(change: Change, manifest: Manifest, tree: Mapping[str, Any], path: str) -> None:
    where = f"{path}: {MANIFEST}: {change.path or 'the file'} of {change.base} for {change.output}"
    if change.base not in {each.name for each in manifest.bases}:
        raise FormatError(f"there is no base {change.base!r}", where=where)
    if change.output not in {each.name for each in manifest.outputs}:
        raise FormatError(f"there is no output {change.output!r}", where=where)
    for digest in (change.was, change.becomes):
        if digest and (len(digest) != 64 or set(digest) - set("0123456789abcdef")):
            raise FormatError(f"{digest!r} is no BLAKE3 digest", where=where)
    members = [name for name in (change.delta, change.content) if name]
    if len(members) != bool(change.becomes) or (change.delta and not change.was):
        raise FormatError("it says neither or both of how it is made", where=where)
    for name in members:
        if name not in tree:
            raise FormatError(f"the member {name} is missing", where=where)
    if change.path:
        check_portable(change.path, where=where)


def _text(manifest: Manifest) -> str:
    """Return the manifest as TOML."""
    lines = ["# A patch set: what makes one file or folder of another. See docs/patches.md."]
    values = msgspec.to_builtins(manifest)
    lines += _pairs(
        {key: value for key, value in values.items() if not isinstance(value, (list, tuple))}
    )
    for name in ("bases", "outputs", "changes"):
        for row in values[name]:
            lines += ["", f"[[{name}]]", *_pairs(row)]
    return "\n".join(lines) + "\n"


def _pairs(values: Mapping[str, Any]) -> Iterable[str]:
    quoted = {key: json.dumps(value, ensure_ascii=False) for key, value in values.items()}
    # TOML wants one sign more escaped than JSON.
    return [key + " = " + text.replace("\x7f", "\\u007f") for key, text in quoted.items()]

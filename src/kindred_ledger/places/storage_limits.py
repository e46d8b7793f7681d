"""StorageLimits: what a place can hold beside names and contents.

A card in a handheld knows no permissions and no links, and counts time in steps of two seconds; a server
says little of either. What a place cannot hold is not missing there, and not told as a difference.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterator, Mapping

from msgspec import Struct

from ..errors import UnsafeName
from ..os_names import as_name
from .names import check_portable
from .tree import FILE, LINK, Node, same_content

__all__ = [
    "NO_LIMITS",
    "ZIP_LIMITS",
    "StorageLimits",
    "disk_kind",
    "disk_limits",
    "limits_at",
    "minds_case_above",
    "server_limits",
]

_MOUNTS = "/proc/self/mountinfo"  # Linux; see proc_pid_mountinfo(5)
_SECOND_NS = 1_000_000_000


class StorageLimits(Struct, frozen=True):
    """What can be held: links, permissions, times in steps of so many ns (0: none), empty folders, none but
    portable names, names that are no valid text, files of up to so many bytes (0: of any size).

    >>> card_reader = kl.StorageLimits(links=False, portable=True)
    >>> card_reader.modes
    True
    """

    links: bool = True
    modes: bool = True
    time_step_ns: int = 1
    empty_folders: bool = True
    portable: bool = False
    any_bytes: bool = os.name == "posix" and sys.platform != "darwin"
    largest: int = 0
    name: str = "this place"

    def tells_apart(self, one: Node, other: Node) -> bool:
        """Tell whether two nodes would still differ, in anything, once this place holds them."""
        if not same_content(one, other):
            return True
        if self.modes and one.mode != other.mode:
            return True
        apart = abs(one.mtime_ns - other.mtime_ns)
        return bool(self.time_step_ns) and apart >= self.time_step_ns

    def why_not(self, path: str, node: Node) -> str:
        """Say why a node cannot be held at a path; empty if it can."""
        if "\0" in path and not (self.any_bytes and _is_of_bytes(path)):
            return f"of a name that {self.name} cannot hold"
        if self.portable:
            try:
                check_portable(path)
            except UnsafeName:
                return f"of a name that {self.name} cannot hold"
        if node.kind == LINK and not self.links:
            return f"a link, and {self.name} holds none"
        if self.largest and node.kind == FILE and node.size > self.largest:
            return f"a file of {node.size:,} bytes, and {self.name} holds up to {self.largest:,}"
        return ""


NO_LIMITS = StorageLimits()
ZIP_LIMITS = StorageLimits(any_bytes=False, name="a zip archive")
_FAT = StorageLimits(
    links=False,
    modes=False,
    time_step_ns=2 * _SECOND_NS,
    portable=True,
    largest=(4 << 30) - 1,
    name="a FAT disk",
)
_EXFAT = StorageLimits(
    links=False, modes=False, time_step_ns=_SECOND_NS // 100, portable=True, name="an exFAT disk"
)
_DISKS = {
    **dict.fromkeys(("msdos", "vfat", "fuse.vfat", "fat", "fat32"), _FAT),
    **dict.fromkeys(("exfat", "fuse.exfat"), _EXFAT),
}


def _is_of_bytes(path: str) -> bool:
    """Tell whether a name that is no valid text is one of bytes, and not of Windows."""
    try:
        as_name(path).encode("utf-8", "surrogateescape")
    except UnicodeEncodeError:
        return False
    return True


def limits_at(limits_by_part: Mapping[str, StorageLimits], path: str) -> StorageLimits:
    """Return what can be held at a path of a place, of what `limits_by_part_of` says of it."""
    return limits_by_part.get("") or limits_by_part.get(path.partition("/")[0], NO_LIMITS)


def disk_limits(folder: str) -> StorageLimits:
    """Return what the disk that a folder lies on can hold, as far as its kind is known."""
    return _DISKS.get(disk_kind(folder), NO_LIMITS)


def server_limits(*, folders: bool) -> StorageLimits:
    """Return what a server can hold; `folders` tells whether it has empty ones."""
    return StorageLimits(
        links=False,
        modes=False,
        time_step_ns=0,
        empty_folders=folders,
        any_bytes=False,
        name="a server",
    )


def minds_case_above(folder: str) -> bool:
    """Tell whether the disk of an empty folder tells `A` from `a`: by the names it lies in."""
    for above in (folder, *_above(folder)):
        name = os.path.basename(above)
        if name.swapcase() != name:
            other = os.path.join(os.path.dirname(above), name.swapcase())
            return not os.path.lexists(other) or not os.path.samefile(other, above)
    return sys.platform not in ("win32", "darwin")


def _above(folder: str) -> Iterator[str]:
    """Yield the folders that one lies in, on the same disk."""
    device = os.stat(folder).st_dev
    while folder != (folder := os.path.dirname(folder)) and os.stat(folder).st_dev == device:
        yield folder


def disk_kind(folder: str) -> str:
    """Return the kind of file system that a folder lies on; empty if the system does not say."""
    where = os.path.realpath(folder)
    best, found = "", ""
    for mounted, kind in _mounts():
        inside = where == mounted or where.startswith(mounted.rstrip(os.sep) + os.sep)
        if inside and len(mounted) >= len(best):
            best, found = mounted, kind
    return found.lower()


def _mounts() -> Iterator[tuple[str, str]]:
    """Yield the places where disks are, each with the kind of file system there."""
    if sys.platform != "linux":
        import psutil

        for disk in psutil.disk_partitions(all=True):
            yield disk.mountpoint, disk.fstype
        return
    try:
        with open(_MOUNTS, encoding="utf-8", errors="surrogateescape") as file:
            lines = file.read().splitlines()
    except OSError:
        return
    for line in lines:
        before, _, after = line.partition(" - ")
        mounted = re.sub(r"\\([0-7]{3})", lambda code: chr(int(code[1], 8)), before.split(" ")[4])
        yield mounted, after.partition(" ")[0]

"""Opening a place by the text a person gives."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

from ..errors import UsageError
from ..os_names import as_text
from .archive import ZipPlace, unpacked_zip
from .folder import FilePlace, FolderPlace, ItemPlace, NewFolder
from .place import Place, read_bytes
from .tarball import TarPlace, is_tar
from .views import JoinedPlace, disk_path

if TYPE_CHECKING:
    from .remotes import Remote

_TAIL = 22 + 65_535  # bytes in which a zip's directory ends, with its comment (APPNOTE 4.3.16)

__all__ = [
    "AnyPlace",
    "archive_in",
    "archive_of",
    "as_place",
    "as_target",
    "join_folders",
    "open_place",
    "place_at",
]

AnyPlace = Place | str | os.PathLike[str]  # what stands for a place in public calls
_ARCHIVES = (".zip", ".tar", ".tgz", ".tar.gz", ".tar.xz", ".tar.bz2")


def open_place(where: str | os.PathLike[str]) -> Place:
    """Open a folder, or a zip or tar archive.

    Raises:
        UsageError: nothing is there, or it is neither.

    >>> kl.open_place("server"), kl.open_place("downloads/mossferry-1.4.zip")
    (<FolderPlace ...server>, <ZipPlace ...downloads/mossferry-1.4.zip>)
    """
    path = os.path.abspath(os.path.expanduser(os.fspath(where)))
    if os.path.isdir(path):
        return FolderPlace(path)
    if os.path.isfile(path):
        with open(path, "rb") as file:
            start = file.read(4)
        if start[:2] == b"PK":
            return ZipPlace(path)
        if is_tar(path):
            return TarPlace(path)
        if path.lower().endswith(".zip") or _ends_as_zip(path):
            return ZipPlace(path)
        raise UsageError(
            "this is neither a folder nor a zip or tar archive",
            where=path,
            remedy="Give the folder of an install, or unpack the archive first.",
        )
    raise UsageError("no such file or folder", where=path, remedy="Check the path.")


def archive_in(place: Place, path: str) -> Place:
    """Open an archive that is a file of a place; one that is on no disk of this machine is read whole.

    Raises:
        UsageError: it is no archive.
        UnsafeArchive, UnsafeName: it is in memory, and fails a guard.
    """
    disk = disk_path(place, path)
    if disk is not None:
        return open_place(disk)
    return unpacked_zip(read_bytes(place, path), f"{place.location}/{path}")


def as_place(value: AnyPlace) -> Place:
    """Return a place: itself, or the folder or archive that a path names.

    Raises:
        UsageError: it is neither, or there is nothing at the path.
    """
    if isinstance(value, (str, os.PathLike)):
        return open_place(value)
    if hasattr(value, "survey"):
        return value
    raise UsageError(
        f"a path or a place is needed here, not {type(value).__name__}",
        remedy="Give the path of a folder or archive, or open_place(path).",
    )


def as_target(value: AnyPlace) -> Place:
    """Return a place to bring files into: itself, or a folder, which a change makes if it is not there.

    Raises:
        UsageError: there is a file of the name, or it is no path at all.
    """
    if not isinstance(value, (str, os.PathLike)):
        return as_place(value)
    if "://" in os.fspath(value):
        raise UsageError(
            "this is the address of a server, not a folder",
            where=os.fspath(value),
            remedy="Open the server first, and give that.",
        )
    path = os.path.abspath(os.path.expanduser(value))
    if os.path.lexists(path) and not os.path.isdir(path):
        raise UsageError(
            "a folder is needed here, and this is a file",
            where=path,
            remedy="Name a folder, new or not.",
        )
    return NewFolder(path)


def _ends_as_zip(path: str) -> bool:
    """Tell whether a zip archive ends a file, as in programs that unpack themselves."""
    with open(path, "rb") as file:
        file.seek(max(0, os.path.getsize(path) - _TAIL))
        return b"PK\x05\x06" in file.read(_TAIL)


def join_folders(roots: Mapping[str, str]) -> JoinedPlace:
    """Join folders under their names; one that lies inside another is left out of the outer one.

    >>> install = join_folders({"program": "/games/m", "user": "/games/m/userdata"})
    >>> "userdata" in install.parts["program"].without
    True
    """
    full = {name: os.path.abspath(os.path.expanduser(root)) for name, root in roots.items()}
    parts = {}
    for name, root in full.items():
        inner = [
            as_text(os.path.relpath(other, root).replace(os.sep, "/"))
            for key, other in full.items()
            if key != name and other.startswith(root + os.sep)
        ]
        parts[name] = FolderPlace(root, without=tuple(inner))
    return JoinedPlace(parts)


def archive_of(roots: Mapping[str, str]) -> str:
    """Return the file that roots lie in, if they are no folders but parts of an archive; else "".

    A single file that is a place itself (`FilePlace`) counts, too, if it is an archive.
    """
    for root in roots.values():
        at = "" if "://" in root else root
        while at and not os.path.lexists(at):
            at = os.path.dirname(at) if os.path.dirname(at) != at else ""
        if os.path.isfile(at) and (at != root or at.lower().endswith(_ARCHIVES)):
            return at
    return ""


def place_at(roots: Mapping[str, str], connect: Callable[[str], Remote]) -> Place:
    """Open what `roots_of` described; `connect` opens what is at a URL.

    Raises:
        UsageError: it is no folder or URL, such as what was computed.
    """
    for root in roots.values():
        if "\0" in root or not ("://" in root or os.path.isabs(root)):
            raise UsageError(
                f"{root!r} is no folder of this machine",
                remedy="Say which folder: `place=FOLDER`.",
            )
    if "." in roots:
        return ItemPlace(roots["."])
    if "://" in roots.get("", ""):
        from .remotes import RemotePlace

        return RemotePlace(connect(roots[""]))
    if "" not in roots:
        return join_folders(roots)
    return FilePlace(roots[""]) if os.path.isfile(roots[""]) else FolderPlace(roots[""])

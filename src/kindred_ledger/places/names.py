"""Path names: portable relative paths with `/` between parts, and nothing else.

Whatever comes from outside (an archive, a manifest, a changeset) passes `check_portable` before
it is used as a path. A name that passes can exist on Linux, macOS and Windows and cannot leave
the folder it is joined to.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Iterator

from ..errors import UnsafeName

__all__ = [
    "WORK_FOLDER",
    "check_portable",
    "collisions",
    "folded",
    "is_ours",
    "parents",
    "second_names",
]

WORK_FOLDER = ".kindred-work"  # where a change is staged, inside the place: one disk, one rename

_DEVICE = re.compile(r"(con|prn|aux|nul|conin\$|conout\$|com[0-9¹²³]|lpt[0-9¹²³])", re.I)
_FORBIDDEN = re.compile(r'[\x00-\x1f\x7f<>:"|?*\\]')
_LONGEST_PART = 255  # bytes; the limit of every file system in use
_LONGEST = 1024


def check_portable(path: str, *, where: str = "") -> str:
    """Return `path` if it is a relative path that every system can hold.

    >>> check_portable("data/tiles/0.tile")
    'data/tiles/0.tile'

    Raises:
        UnsafeName: it is absolute, climbs, names a device or drive, or no system-wide valid name.
    """
    fault = _fault(path)
    if fault:
        raise UnsafeName(
            f"the path {path[:200]!r} {fault}",
            where=where,
            remedy="It was not used. If the file comes from somebody else, ask them about it.",
        )
    return path


def _fault(path: str) -> str:
    if not path:
        return "is empty"
    if path.startswith("/"):
        return "is absolute"
    if len(path) > _LONGEST:
        return f"is longer than {_LONGEST} characters"
    if bad := _FORBIDDEN.search(path):
        return f"contains {bad[0]!r}, which is not portable or names a drive"
    for part in path.split("/"):
        if part in ("", ".", ".."):
            return f"has the part {part!r}, which is not allowed"
        if part.lower() == WORK_FOLDER:
            return f"has the part {part!r}, where this program stages what it changes"
        if part[-1] in ". ":
            return f"has the part {part!r}, which ends in a dot or a space"
        if _DEVICE.fullmatch(part.split(".")[0].rstrip(" ")):
            return f"has the part {part!r}, which is a device name on Windows"
        try:
            size = len(part.encode())
        except UnicodeEncodeError:
            return "is no valid text"
        if size > _LONGEST_PART:
            return f"has a part longer than {_LONGEST_PART} bytes"
    return ""


def is_ours(path: str) -> bool:
    """Tell whether a path leads to or through a folder of this program's own, at any depth.

    >>> is_ours("mods/.Kindred-Work/x"), is_ours("mods/kindred")
    (True, False)
    """
    lowered = path.lower()
    return WORK_FOLDER in lowered and WORK_FOLDER in lowered.split("/")


def parents(path: str) -> Iterator[str]:
    """Yield the folders `path` lies in, the outermost first.

    >>> list(parents("a/b/c"))
    ['a', 'a/b']
    """
    at = path.find("/")
    while at >= 0:
        yield path[:at]
        at = path.find("/", at + 1)


def collisions(paths: Iterable[str]) -> list[tuple[str, str]]:
    """Return pairs of paths that are one on a system that ignores case or Unicode form.

    Folders count as well: `Data/a` and `data/b` collide.
    """
    given = list(paths)
    inner = sorted({path.rpartition("/")[0] for path in given} - {""})
    names = dict.fromkeys(name for path in inner for name in (*parents(path), path))
    names |= dict.fromkeys(given)
    folds = list(map(folded, names))
    if len(set(folds)) == len(names):
        return []
    first: dict[str, str] = {}
    pairs = ((first.setdefault(fold, name), name) for fold, name in zip(folds, names, strict=True))
    return [(one, other) for one, other in pairs if one != other]


def second_names(paths: Iterable[str], taken: Iterable[str] = ()) -> dict[str, str]:
    """Return other names for what would be one with something else; see `collisions`.

    The first of several keeps its name; the others, and what lies in them, get one with a number that
    nothing else has, `taken` neither.

    >>> second_names(["Save.sav", "save.sav"])
    {'save.sav': 'save (2).sav'}
    """
    given = list(paths)
    whole = sorted({name for path in given for name in (*parents(path), path)})
    used = {folded(name) for name in taken} - {folded(name) for name in whole}
    new: dict[str, str] = {}
    for path in whole:
        folder, _, name = path.rpartition("/")
        start = f"{new.get(folder, folder)}/" if folder else ""
        stem, dot, ending = name.rpartition(".") if name.rpartition(".")[0] else (name, "", "")
        candidate, number = start + name, 1
        while folded(candidate) in used:
            number += 1
            candidate = f"{start}{stem} ({number}){dot}{ending}"
        used.add(folded(candidate))
        if candidate != path:
            new[path] = candidate
    return new


def folded(name: str) -> str:
    """Return what names share that are one on a system that ignores case or Unicode form.

    >>> folded("Saves/EEL.voyage") == folded("saves/eel.voyage")
    True
    """
    if name.isascii():
        return name.lower()
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", name).casefold())

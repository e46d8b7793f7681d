"""Usage: which projects still use a library, so that it is removed only when none does.

Every file is looked through for the library's name first, as bytes, whatever it holds; only those that have
it are read. What cannot be looked into, such as a packed file, is told: it may use the library, too.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from ..changes import Changeset, fitted
from ..errors import UsageError
from ..finding import Finding
from ..formats import Text
from ..ledger import Ledger
from ..places import (
    FILE,
    FilePlace,
    FolderPlace,
    ItemPlace,
    Place,
    as_place,
    folded,
    outline,
    refusals,
)
from ..planning.rearranged import Rearranged
from ..progress import Progress
from ..wording import count
from .references import leaves_of

__all__ = ["Usage", "Use", "remove_library", "users_of"]

_PACKED = (
    b"PK\x03\x04",
    b"\x1f\x8b",
    b"\x28\xb5\x2f\xfd",
    b"BZh",
    b"\xfd7zXZ\0",
    b"7z\xbc\xaf",
    b"Rar!",
)
_WORD = re.compile(r"[A-Za-z0-9_.-]{3,}")
_LARGEST = 256 << 20
_FIELDS_UP_TO = 64 << 10  # bytes of a file whose fields are named; of larger ones lines are


class Use(Struct, frozen=True):
    """A file that uses a library: the project it belongs to, where it is named in it, and how often.

    `places` are the first of them: `elements[3].library`, `line 7`, `byte 120`.

    >>> use = kl.users_of("server/tables.xml", ["server"], names=["Reed Market"]).uses
    >>> use
    ()
    """

    project: str
    file: str
    places: tuple[str, ...]
    count: int


class Usage(Struct, frozen=True):
    """Who uses a library: the uses by file, how many files were looked through, and which could not be.

    >>> quaywright = "modding/quaywright/"
    >>> usage = kl.users_of(quaywright + "libraries/piers-1.2", [quaywright + "projects"])
    >>> usage.projects, usage.files_seen
    (('delta', 'mill'), 4)
    """

    library: str
    names: tuple[str, ...]
    uses: tuple[Use, ...]
    files_seen: int
    unseen: tuple[str, ...] = ()

    @property
    def projects(self) -> tuple[str, ...]:
        """The projects that use it."""
        return tuple(dict.fromkeys(use.project for use in self.uses))

    def findings(self) -> tuple[Finding, ...]:
        """Return what should be known before the library goes."""
        if not self.unseen:
            return ()
        shown = ", ".join(self.unseen[:3]) + (" …" if len(self.unseen) > 3 else "")
        told = f"{count(len(self.unseen), 'file')} could not be looked into, as they are packed: {shown}"
        return (Finding.warning("not-looked-into", told),)


def users_of(
    library: str | os.PathLike[str],
    folders: Sequence[str | os.PathLike[str]],
    *,
    names: Sequence[str] = (),
    progress: Progress | None = None,
) -> Usage:
    """Look through all files in some folders for a library: a file or folder, by its name.

    `names` are what it is called in projects, if that is not the name of its file or folder. What lies in
    the library itself does not count.

    Raises:
        UsageError: a folder is not there, or the name is too short to look for.
        PlaceError: a file cannot be read.

    >>> kl.users_of("nowhere", ["mossferry/data"], names=["Eelgate"]).uses[0].file
    'harbours.json'
    """
    own = os.path.abspath(os.path.expanduser(os.fspath(library)))
    wanted = tuple(names) or (os.path.basename(own),)
    keys = [_key(name) for name in wanted]
    uses: list[Use] = []
    unseen: list[str] = []
    seen = 0
    for folder in folders:
        place = as_place(folder)
        if not isinstance(place, FolderPlace):
            raise UsageError("a folder is needed here", where=place.location)
        paths = [
            path
            for path, node in outline(place).items()
            if node.kind == FILE and not _inside(place.path(path), own)
        ]
        seen += len(paths)
        with (progress or Progress()).task("looking", total=len(paths)) as task:
            for path, found in _looked_through(place, paths, keys):
                if found is None:
                    unseen.append(path)
                elif found:
                    uses += _uses(place, path, found, wanted)
                task.advance()
    return Usage(own, wanted, tuple(uses), seen, tuple(unseen))


def _key(name: str) -> bytes:
    """Return the longest part of a name that stands in files as it is, however they are encoded."""
    parts = _WORD.findall(name)
    if not parts:
        raise UsageError(
            f"{name!r} is too short a name to look for",
            remedy="Say what projects call it: `names=`.",
        )
    return str(max(parts, key=len)).lower().encode("ascii")


def _inside(path: str, folder: str) -> bool:
    return path == folder or path.startswith(folder + os.sep)


def _looked_through(
    place: FolderPlace, paths: Sequence[str], keys: Sequence[bytes]
) -> Iterator[tuple[str, bytes | None]]:
    """Yield each file with its bytes if a name is in it, b"" if none is, None if it cannot be told."""
    wide = [key.decode().encode("utf-16-le") for key in keys]

    for path in paths:
        full = place.path(path)
        with refusals(full):
            if os.path.getsize(full) > _LARGEST:
                yield path, None
                continue
            with open(full, "rb", buffering=0) as file:
                data: bytes = file.read()
        if data[:8].startswith(_PACKED):
            yield path, None
            continue
        low = data.lower()
        keyed = (*keys, *wide) if b"\0" in low else keys
        yield path, data if any(key in low for key in keyed) else b""


def _uses(place: FolderPlace, path: str, data: bytes, names: Sequence[str]) -> Iterator[Use]:
    project = path.partition("/")[0] if "/" in path else os.path.basename(place.root)
    found = list(_named(path, data, names))
    if found:
        yield Use(project, path, tuple(found[:5]), len(found))


def _named(path: str, data: bytes, names: Sequence[str]) -> Iterator[str]:
    """Yield where a file names a library."""
    wanted = [folded(name) for name in names]
    if len(data) <= _FIELDS_UP_TO or not all(name.isascii() for name in names):
        leaves = leaves_of(path, data)  # of larger files to read every value takes too long
        if leaves is not None:
            for field, text in leaves:
                if any(_is_named(folded(each), name) for name in wanted for each in (text, field)):
                    yield field
            return
    if b"\0" in data and not data.startswith((b"\xff\xfe", b"\xfe\xff")):
        for name in names:
            for form in (name.encode(), name.encode("utf-16-le")):
                yield from (f"byte {at.start()}" for at in re.finditer(re.escape(form), data, re.I))
        return
    text = Text.decode(data).text
    for name in names:
        yield from _lines_of(text, name)


def _lines_of(text: str, name: str) -> Iterator[str]:
    """Yield the lines of a text that a name stands in as a word of its own."""
    done = line = 0
    for found in re.finditer(re.escape(name), text, re.I):
        before, after = text[found.start() - 1 : found.start()], text[found.end() : found.end() + 1]
        if before.isalnum() or after.isalnum():
            continue
        line += text.count("\n", done, found.start())
        done = found.start()
        yield f"line {line + 1}"


def _is_named(text: str, name: str) -> bool:
    """Tell whether a name stands in a text as a word of its own: `piers` is not in `piersons`."""
    at = text.find(name)
    while at >= 0:
        before, after = text[at - 1 : at], text[at + len(name) : at + len(name) + 1]
        if not before.isalnum() and not after.isalnum():
            return True
        at = text.find(name, at + 1)
    return False


def remove_library(
    library: str | os.PathLike[str],
    folders: Sequence[str | os.PathLike[str]],
    *,
    ledger: Ledger,
    let_go: Iterable[str] = (),
    names: Sequence[str] = (),
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that removes a library, a file or a folder, that no project uses any more.

    `let_go` names projects that may be left without it. As long as others use it, that is a conflict.

    Raises:
        UsageError: there is no such file or folder, or a project that is let go does not use it.

    >>> change = kl.remove_library("runtimes/tidewheel-2.9", ["server"], ledger=ledger)
    >>> [action.path for action in change.actions if action.before.kind == "file"]
    ['tidewheel-2.9/release.txt']
    """
    path = os.path.abspath(os.path.expanduser(os.fspath(library)))
    if not os.path.lexists(path):
        raise UsageError("no such file or folder", where=path, remedy="Check the path.")
    usage = users_of(path, folders, names=names, progress=progress)
    gone = set(let_go)
    for name in gone - set(usage.projects):
        users = ", ".join(usage.projects) or "none"
        raise UsageError(f"{name} does not use it", remedy=f"Projects that do: {users}.")
    place: Place = ItemPlace(path) if os.path.isdir(path) else FilePlace(path)
    made = Rearranged(place, ledger.scan(place, progress=progress))
    name = os.path.basename(path)
    made.remove(name, "not used any more")
    findings = list(usage.findings())
    for project in usage.projects:
        files = [use for use in usage.uses if use.project == project]
        told = f"{project} still uses {name}: {files[0].file} ({', '.join(files[0].places[:3])})"
        if project in gone:
            findings.append(Finding.loss("library-let-go", told, where=project))
        else:
            remedy = f"Swap or relink it first, or let it go by name: `let_go={project}`."
            findings.append(Finding.conflict("still-used", told, where=project, remedy=remedy))
    return fitted(
        Changeset(
            place=place,
            operation="remove library",
            summary=f"remove {name}; {_users(usage)}",
            before=made.before,
            actions=made.actions(),
            findings=tuple(findings),
        )
    )


def _users(usage: Usage) -> str:
    number = len(usage.projects)
    if not number:
        return f"none of {count(usage.files_seen, 'file')} uses it"
    return f"{count(number, 'project')} still {'uses' if number == 1 else 'use'} it"

"""Drafting: a first card of a title, from a folder it is installed in.

What is proposed was found: files that tell a version, folders whose names say what is in them, folders in
which files changed since the install, kinds of files by their content, keys that look like format versions.
Texts for people to read, and files that people edit, tell no version. A person goes on from there.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator
from itertools import islice

from msgspec import Struct

from ..errors import KindredError
from ..formats import CODECS, HEAD, Document, confirm, decode, format_path, kind_of
from ..places import Place, Tree
from ..wording import count
from .draft_signs import draft_signs, first_keys

__all__ = ["draft_card"]

_LARGEST = 1 << 20  # bytes of a file that is looked into
_MOST_FILES = 400  # that are looked into
_AT_ONCE = 64  # of them
_MOST_SAMPLES = 20  # of each extension
_LONGEST_LINE = 200

_VERSION = re.compile(
    r"\b(version|build|release)\b([ \t:=\"']{1,4})(v?\d+(?:\.\d+){1,3}[\w.+-]*)", re.I
)
_TOLD = re.compile(r"v?\d+(?:\.\d+){1,3}[\w.+-]*")
_VERSION_KEYS = ("version", "build", "release", "game_version", "gameversion")
_FORMAT_KEYS = ("format", "format_version", "formatversion", "settingsformat", "schema", "save_version",
                "saveversion", "version", "revision")  # fmt: skip
_PURPOSES = {
    "saves": ("save", "saves", "savegames", "saved", "profiles"),
    "worlds": ("world", "worlds", "maps"),
    "projects": ("project", "projects"),
    "mods": ("mods", "addons", "plugins"),
    "settings": ("config", "settings", "prefs", "options"),
    "pictures": ("screenshots", "pictures", "photos"),
}
_NOT_PROTECTED = ("pictures",)
_NOT_LOOKED_INTO = ("mods", "pictures")
_CHANGED = "changed since it was installed: somebody's own, most likely"
_LATER_NS = 86_400 * 10**9  # after the first quarter of its files, to have changed since
_READ_BY_PEOPLE = re.compile(
    r"(read.?me|changes|change.?log|licen[cs]e|copying|credits|manual|news|history|what.?s.?new|todo)",
    re.I,
)
_PROGRAMS = (".exe", ".x86_64", ".appimage", ".bin", ".sh", ".py", ".jar", ".app")


class _Guess(Struct, frozen=True):
    """A kind of file: where it lies, its extension, its codec, and where it tells its version."""

    purpose: str
    folder: str
    extension: str
    codec: str
    key: str
    values: tuple[str, ...]
    count: int
    signs: dict[str, str]  # without a key: by version, what tells it, as the card says it


def draft_card(place: Place, name: str) -> str:
    """Return the text of a card for what is installed in a place; `name` is its folder's.

    The text is a card that loads; comments in it say what each thing was found by.
    """
    tree = place.survey()
    title = (
        re.sub(r"[^a-z0-9]+", "-", re.sub(r"[-_ ]?v?\d+(\.\d+)+.*$", "", name).lower()).strip("-")
        or "title"
    )
    lines = [
        f"# A first draft, made from the folder {name!r}. docs/cards.md explains every key.",
        "card = 1",
        f'title = "{title}"',
        f'name = "{_text(_TOLD.sub("", name).strip(" -_") or name)}"',
        "",
        "# Files that tell that a folder is an install of this title: name some that only it has.",
        "[program]",
        f"markers = [{', '.join(_quoted(marker) for marker in _markers(tree))}]",
        "",
        "# Where the build is told. All evidence is gathered; remove what is wrong.",
        *_detected(place, tree, name),
        "# What belongs together. `protect` keeps an update away.",
        *_categories(tree),
    ]
    for guess in _formats(place, tree):
        lines += _format_lines(guess)
    return "\n".join(lines).rstrip() + "\n"


def _markers(tree: Tree) -> list[str]:
    """Return files that are likely there in every build: programs first, nothing that people read or edit."""
    own = _belongings(tree)
    files = [path for path in tree.files if not own(path) and not _is_read_by_people(path)]
    top = [path for path in files if "/" not in path]
    programs = [path for path in top if path.lower().endswith(_PROGRAMS)]
    others = [path for path in top if path not in programs]
    return [*programs, *others, *files][:2] or ["NAME.exe"]


def _is_read_by_people(path: str) -> bool:
    """Tell whether a file is there to be read: its text may name any version."""
    return bool(_READ_BY_PEOPLE.match(path.rpartition("/")[2]))


def _belongings(tree: Tree) -> Callable[[str], bool]:
    """Return what tells whether a path is somebody's own, as far as it can be told."""
    folders = tuple(each for some in _purposes(tree).values() for each in some)
    return lambda path: path.startswith(folders)


def _detected(place: Place, tree: Tree, name: str) -> Iterator[str]:
    found = False
    own = _belongings(tree)

    def may_tell(path: str) -> bool:
        return path.count("/") < 2 and not own(path) and not _is_read_by_people(path)

    for path, data in _small(place, tree, may_tell):
        finding = kind_of(data[:HEAD], whole=len(data) <= HEAD)
        if finding.kind in ("json", "ini", "toml", "xml"):
            key, value = _key_of(data, finding.kind, _VERSION_KEYS, _TOLD)
            if key:
                found = True
                yield f"# it says {value}"
                yield from (
                    "[[detect]]",
                    f"file = {_quoted(path)}",
                    f"key = {_quoted(key)}",
                    f'codec = "{finding.kind}"',
                    "",
                )
        elif finding.kind == "text" and (match := _VERSION.search(data.decode("utf-8", "replace"))):
            found = True
            yield f"# it says {match[3]}"
            yield from (
                "[[detect]]",
                f"file = {_quoted(path)}",
                f'pattern = "{_text(match[1] + match[2])}{{version}}"',
                "",
            )
    told = _TOLD.search(name)
    if told is not None:
        found = True
        pattern = name[: told.start()] + "{version}"
        yield from ("[[detect]]", f"folder = {_quoted(pattern)}", "")
    if not found:
        yield from (
            "# Nothing was found that tells it. A file's digest does, too: [[detect]] file, digests.",
            "",
        )


def _categories(tree: Tree) -> Iterator[str]:
    changed = _changed_since(tree)
    for purpose, folders in _purposes(tree).items():
        since = sorted({changed[folder] for folder in folders if folder in changed})
        if since:
            yield f"# {_CHANGED} ({', '.join(since)})"
        yield f"[categories.{purpose}]"
        yield f"include = [{', '.join(_quoted(f'/program/{folder}') for folder in folders)}]"
        if purpose not in _NOT_PROTECTED:
            yield "protect = true"
        yield ""


def _changed_since(tree: Tree) -> dict[str, str]:
    """Return the folders in which files are a day or more younger than the install, with one of them."""
    times = sorted(tree[path].mtime_ns for path in tree.files)
    limit = times[len(times) // 4] + _LATER_NS if times and times[0] else 0
    found: dict[str, str] = {}
    for path in tree.files if limit else ():
        folder = path.rpartition("/")[0]
        if folder and tree[path].mtime_ns > limit:
            found.setdefault(f"{folder}/", path.rpartition("/")[2])
    return found


def _purposes(tree: Tree) -> dict[str, list[str]]:
    """Return the folders and files whose names say what they are for, and those that changed, by purpose."""
    out: dict[str, list[str]] = {}
    seen: set[str] = set()
    for path in tree.files:
        parts = path.split("/")
        for depth, part in enumerate(parts[:-1], 1):
            folder = "/".join(parts[:depth]) + "/"
            purpose = next((p for p, names in _PURPOSES.items() if part.lower() in names), "")
            if purpose and folder not in seen and not any(folder.startswith(s) for s in seen):
                seen.add(folder)
                out.setdefault(purpose, []).append(folder)
        stem = parts[-1].lower().partition(".")[0]
        if stem in _PURPOSES["settings"] and not any(path.startswith(s) for s in seen):
            out.setdefault("settings", []).append(path)
    for folder in _changed_since(tree):
        if not any(folder.startswith(known) for known in seen):
            seen.add(folder)
            name = re.sub(r"[^a-z0-9]+", "-", folder.rstrip("/").rpartition("/")[2].lower()).strip(
                "-"
            )
            out.setdefault(name or "own", []).append(folder)
    return out


def _formats(place: Place, tree: Tree) -> Iterator[_Guess]:
    """Yield the kinds of files in saves, worlds and settings, by folder and extension."""
    groups: dict[tuple[str, str, str], list[str]] = {}
    for purpose, folders in _purposes(tree).items():
        for folder in folders if purpose not in _NOT_LOOKED_INTO else ():
            for path in tree.files:
                if path.startswith(folder):
                    extension = os.path.splitext(path)[1].lower()
                    groups.setdefault((purpose, folder, extension), []).append(path)
    for (purpose, folder, extension), paths in groups.items():
        codec = key = ""
        values: dict[str, None] = {}
        keys: dict[str, frozenset[str]] = {}
        for path, data in _small(place, tree, set(paths[:_MOST_SAMPLES]).__contains__):
            finding, fault = confirm(data, kind_of(data[:HEAD], whole=len(data) <= HEAD))
            codec = finding.kind if not fault else codec
            if codec in CODECS:
                found, value = _key_of(data, codec, _FORMAT_KEYS, re.compile(r"\d{1,6}"))
                key = key or found
                values.update({value: None} if found and found == key else {})
                keys[path] = first_keys(data, codec)
        signs = {} if key else draft_signs(tree, keys)
        told = tuple(sorted(values, key=int)) or tuple(signs)
        yield _Guess(purpose, folder, extension, codec or "binary", key, told, len(paths), signs)


def _key_of(
    data: bytes, codec: str, names: tuple[str, ...], wanted: re.Pattern[str]
) -> tuple[str, str]:
    """Return the path and the value of the first key that has one of these names and fits."""
    try:
        document: Document = decode(data, codec)
        leaves = [leaf for leaf in document.leaves() if len(leaf.path) <= 3]
    except KindredError:
        return "", ""
    for name in names:
        for leaf in leaves:
            last = str(leaf.path[-1]).lstrip("@").lower() if leaf.path else ""
            value = str(leaf.value)
            if last == name and len(value) < _LONGEST_LINE and wanted.fullmatch(value.strip()):
                return format_path(leaf.path), value
    return "", ""


def _small(place: Place, tree: Tree, wanted: Callable[[str], bool]) -> Iterator[tuple[str, bytes]]:
    """Yield the contents of small files that are wanted, the first of many."""
    fitting = (path for path in tree.files if tree[path].size <= _LARGEST and wanted(path))
    paths = list(islice(fitting, _MOST_FILES))
    for start in range(0, len(paths), _AT_ONCE):  # an archive is opened for each
        some = paths[start : start + _AT_ONCE]
        read = {path: b"".join(blocks) for path, blocks in place.read(some)}
        yield from ((path, read[path]) for path in some)


def _format_lines(guess: _Guess) -> Iterator[str]:
    pattern = f"/program/{guess.folder}" + (
        f"**/*{guess.extension}" if guess.folder.endswith("/") else ""
    )
    name = re.sub(r"[^a-z0-9]+", "-", f"{guess.purpose}{guess.extension}".lower()).strip("-")
    if guess.codec not in CODECS:
        yield f"# {count(guess.count, 'file')} {pattern}, {guess.codec}: describe them by a layout."
        yield '# kindred card layout draft SAMPLE… proposes one; then [formats.NAME] with codec = "layout".'
        yield ""
        return
    yield f"# {count(guess.count, 'file')}"
    yield f"[formats.{name}]"
    yield f"files = [{_quoted(pattern)}]"
    yield f'codec = "{guess.codec}"'
    values = guess.values or ("1",)
    if guess.key:
        yield f"version = {{ key = {_quoted(guess.key)} }}"
    else:
        yield '# nothing in them looks like a format version; if a key is one: version = { key = "NAME" }'
        if len(guess.signs) > 1:
            yield "# they differ so, the oldest first; leave one sign if that is no difference of versions"
        signs = ", ".join(f"{_quoted(version)} = {sign}" for version, sign in guess.signs.items())
        yield f"version = {{ signs = {{ {signs} }} }}"
    reads = ", ".join(map(_quoted, values))
    yield "# which builds write and read it: split the range where a build has changed it"
    yield f'builds = [{{ builds = "*", writes = "{values[-1]}", reads = [{reads}] }}]'
    yield ""


def _quoted(text: str) -> str:
    return f'"{_text(text)}"'


def _text(text: str) -> str:
    return (
        "".join(letter if letter.isprintable() else " " for letter in text)
        .replace("\\", "\\\\")
        .replace('"', '\\"')
    )

"""Detecting a version: every piece of evidence is gathered, and disagreement is reported.

Where a version stands in a text or a name is described by a template of our own, not by a regular
expression: a card is data from strangers, and an expression from a file can run for years.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from blake3 import blake3
from msgspec import Struct

from ..errors import FormatError, KindredError, VersionError
from ..finding import Finding
from ..formats import look_up
from ..places import FILE, Place, Tree, read_bytes
from ..versions import Version
from .models import DetectTable

__all__ = ["Evidence", "compile_template", "detect"]

_LARGEST_TEXT = 4 << 20  # a file that names its version in text or under a key is never larger
_FOLDER_NAME = "folder name"
_LONGEST_LINE = 4096  # characters of a line that are looked at
# What may stand in a template for the version: one word, or all to the end of the line.
_HOLES = {"{version}": r"(\w[\w.+-]*)", "{rest}": r"(\S.*?)\s*$"}


class Evidence(Struct, frozen=True):
    """One place a version was looked for: what it said, or what was found instead."""

    source: str
    version: Version | None
    finding: Finding | None = None

    @property
    def is_folder_name(self) -> bool:
        """Whether it is from the folder's name, which stays what it is through updates."""
        return self.source.startswith(_FOLDER_NAME)

    def __str__(self) -> str:
        if self.version is not None:
            return f"{self.source}: {self.version.text}"
        return f"{self.source}: {self.finding.what if self.finding else 'nothing'}"


def detect(
    place: Place,
    tree: Tree,
    tables: list[DetectTable],
    parse: Callable[[str], Version],
    *,
    folder: str,
    prefix: str,
    any_case: bool = False,
) -> tuple[Evidence, ...]:
    """Look for a version in every way a card names; `parse` reads what is found.

    Files are named relative to `prefix` in the tree ("program/" in an install, "" in a release);
    `folder` is the name of the program's folder; `any_case`: a file may be written in another case.
    """
    out = []
    for table in tables:
        source = f"{_FOLDER_NAME} {folder!r}" if table.folder else table.file
        try:
            text = (
                _from_folder(table, folder)
                if table.folder
                else _from_file(table, place, tree, _spelled(prefix + table.file, tree, any_case))
            )
            out.append(Evidence(source, parse(text)))
        except VersionError as error:
            out.append(Evidence(source, None, Finding.note("no-version", error.what, where=source)))
        except KindredError as error:
            what = f"{error.where}: {error.what}" if error.where else error.what
            out.append(Evidence(source, None, Finding.note("no-version", what, where=source)))
    return tuple(out)


def compile_template(text: str) -> re.Pattern[str]:
    """Return what finds a version: fixed text around one {version} or {rest}.

    A space stands for any run of spaces and tabs; letters count in either case. The result takes
    time linear in what it searches, whatever the template.

    >>> compile_template("build {version}").search("Mossferry  build 2.0-pre3, 64 bit")[1]
    '2.0-pre3'

    Raises:
        VersionError: there is not exactly one of {version} and {rest}.
    """
    parts = re.split(r"(\{version\}|\{rest\})", text)
    if len(parts) != 3:
        raise VersionError(
            f"the template {text!r} has not one {{version}} or {{rest}}",
            remedy="Write it like: build {version}",
        )
    before, hole, after = parts
    return re.compile(_literal(before) + _HOLES[hole] + _literal(after), re.I)


def _literal(text: str) -> str:
    return r"[ \t]+".join(re.escape(word) for word in re.split(r"[ \t]+", text))


def _from_folder(table: DetectTable, folder: str) -> str:
    match = compile_template(table.folder).fullmatch(folder)
    if match is None:
        raise FormatError("no version in the folder's name")
    return match[1]


def _spelled(path: str, tree: Tree, any_case: bool) -> str:
    """Return a path as the tree has it."""
    if path in tree or not any_case:
        return path
    return next((other for other in tree if other.casefold() == path.casefold()), path)


def _from_file(table: DetectTable, place: Place, tree: Tree, path: str) -> str:
    node = tree.get(path)
    if node is None or node.kind != FILE:
        raise FormatError("the file is not there")
    if table.offset >= 0:
        return _at_offset(table, place, path, node.size)
    if not table.digests and node.size > _LARGEST_TEXT:
        raise FormatError("the file is too large to hold a version in text")
    data = read_bytes(place, path)
    if table.digests:
        digest = blake3(data).hexdigest()
        for known, version in table.digests.items():
            if known.lower() == digest:
                return version
        raise FormatError(f"its digest {digest[:16]}… is not in the card")
    if table.key:
        return look_up(data, table.codec, table.key)
    template = compile_template(table.pattern)
    for line in _lines(data):
        if match := template.search(line):
            return match[1]
    raise FormatError("the pattern is not found")


def _at_offset(table: DetectTable, place: Place, path: str, size: int) -> str:
    end = table.offset + table.length
    if end > size:
        raise FormatError(f"the file ends before byte {end}")
    held = b""
    for _, blocks in place.read([path]):
        for block in blocks:
            held += block
            if len(held) >= end:
                break
    return held[table.offset : end].split(b"\0")[0].decode("utf-8", "replace").strip()


def _lines(data: bytes) -> Iterator[str]:
    for line in data.decode("utf-8", "replace").splitlines():
        yield line[:_LONGEST_LINE]

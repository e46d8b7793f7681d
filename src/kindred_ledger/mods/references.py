"""References: what the files of a project name outside of themselves, read and put anew in any format.

A reference is a text that looks like a path: with a separator and an extension; or a bare name of a file, if
there is a file of that name to be found. In files of records it is a value; in plain text, and in files of
which no more is known, what stands in quotes or between spaces.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct

from ..errors import FormatError, KindredError
from ..formats import Document, Path, Text, decode, format_path, likely_kinds
from ..formats.kinds import HEAD

__all__ = ["Reference", "leaves_of", "put_anew", "references_in"]

_STRUCTURED = ("json", "xml", "ini", "toml", "yaml", "csv")
_TOKEN = re.compile(r"\"([^\"\r\n]{1,400})\"|'([^'\r\n]{1,400})'|([^\s\"'<>|=,;()\[\]{}]{1,400})")
_EXTENSION = re.compile(r"\.[A-Za-z0-9_]{1,10}")
_DRIVE = re.compile(r"[A-Za-z]:[\\/]")
_VARIABLE = re.compile(r"%[A-Za-z_()0-9]+%|\$\{?[A-Za-z_]\w*\}?|^~[\\/]")
_VERSION = re.compile(r"\d+(?:\.\d+)*")
_LARGEST = 64 << 20  # bytes of a file that is looked through


class Reference(Struct, frozen=True):
    """One reference: the file it stands in, where in it, and its text.

    `field` is the path of a value, or `line 7`; `at` is where a text stands in a file without records. `form`
    is "relative", "absolute", "drive", "share", "variable" or "name".
    """

    file: str
    field: str
    text: str
    form: str
    path: Path | None = None
    at: int = -1

    @property
    def name(self) -> str:
        """The last part of what it names."""
        return self.plain.rpartition("/")[2]

    @property
    def plain(self) -> str:
        """Its text with slashes, whatever it is written with."""
        return self.text.replace("\\", "/").rstrip("/")

    @property
    def item(self) -> str:
        """What it is called in the books."""
        return f"{self.file}: {self.field}: {self.text}"

    def with_target(self, target: str) -> str:
        """Return the text that names another target, written the way this one is."""
        sign = "\\" if "\\" in self.text and "/" not in self.text else "/"
        start = "./" if self.plain.startswith("./") and not target.startswith(("../", "/")) else ""
        return (start + target).replace("/", sign)


def form_of(text: str) -> str:
    """Return how a text names a file; "" if it does not look as if it named one.

    >>> form_of("parts/piers.parts"), form_of("D:\\\\lib\\\\a.dat"), form_of("hello")
    ('relative', 'drive', '')
    """
    if "://" in text or len(text) > 400 or text != text.strip() or "\n" in text:
        return ""
    plain = text.replace("\\", "/")
    name = plain.rstrip("/").rpartition("/")[2]
    stem, dot, extension = name.rpartition(".")
    has_extension = bool(dot and stem and _EXTENSION.fullmatch(dot + extension))
    if has_extension and _VERSION.fullmatch(name):
        return ""  # 1.4 is a version, and 3.25 a number
    if not has_extension:
        return ""
    if _VARIABLE.search(plain):
        return "variable"
    if _DRIVE.match(text):
        return "drive"
    if text.startswith(("\\\\", "//")):
        return "share"
    if plain.startswith("/"):
        return "absolute"
    return "relative" if "/" in plain else "name"


def references_in(file: str, data: bytes) -> list[Reference]:
    """Return the references in a file; those of bare names as well."""
    if len(data) > _LARGEST:
        return []
    document = _structured(file, data)
    if document is not None:
        found = []
        for leaf in document.leaves():
            form = form_of(leaf.value) if isinstance(leaf.value, str) else ""
            if form:
                field = format_path(leaf.path)
                found.append(Reference(file, field, leaf.value, form, leaf.path))
        return found
    if b"\0" in data[:HEAD] and not data.startswith((b"\xff\xfe", b"\xfe\xff")):
        return []
    return list(_in_text(file, data))


def leaves_of(file: str, data: bytes) -> list[tuple[str, str]] | None:
    """Return where every value of a file of records stands, and it if it is a text; None if it is no such."""
    document = _structured(file, data)
    if document is None:
        return None
    return [
        (format_path(leaf.path), leaf.value if isinstance(leaf.value, str) else "")
        for leaf in document.leaves()
    ]


def _structured(file: str, data: bytes) -> Document | None:
    for kind in likely_kinds(os.path.basename(file), data):
        if kind in _STRUCTURED:
            try:
                return decode(data, kind)
            except FormatError:
                continue
            except KindredError:
                return None
    return None


def _in_text(file: str, data: bytes) -> Iterator[Reference]:
    text = Text.decode(data).text
    for token in _TOKEN.finditer(text):
        group = next(number for number in (1, 2, 3) if token[number] is not None)
        form = form_of(token[group])
        if form:
            at = token.start(group)
            line = f"line {text.count(chr(10), 0, at) + 1}"
            yield Reference(file, line, token[group], form, None, at)


def put_anew(file: str, data: bytes, changes: Mapping[Reference, str]) -> bytes:
    """Return a file in which references have other texts, and all else is as it was.

    Raises:
        FormatError: the file cannot hold such a text.
    """
    placed = [reference for reference in changes if reference.path is None]
    if not placed:
        document = _structured(file, data)
        assert document is not None  # that is how the references were found
        for reference, text in changes.items():
            assert reference.path is not None
            document.set(reference.path, text)
        return document.encode()
    return _spliced(data, sorted(placed, key=lambda each: each.at), changes)


def _spliced(data: bytes, placed: Sequence[Reference], changes: Mapping[Reference, str]) -> bytes:
    found = Text.decode(data)
    out, done = [], 0
    for reference in placed:
        out += [found.text[done : reference.at], changes[reference]]
        done = reference.at + len(reference.text)
    out.append(found.text[done:])
    return found.encode("".join(out))

"""Packs: documents of documents, by the names of their members: `settings.json.keys.jump`.

A member whose content is of a format known here is a document; any other is its bytes. Zip archives and
folders are packs; they differ in where the members come from and go to.
"""

from __future__ import annotations

import unicodedata
from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Any, Generic, TypeVar

from blake3 import blake3
from msgspec import Struct

from ..errors import FormatError, UsageError
from .codecs import CODECS, decode
from .document import (
    ANY,
    Document,
    Leaf,
    Path,
    document_paths,
    format_path,
    not_reordered,
    occupied,
)
from .kinds import likely_kinds

__all__ = ["Member", "PackDocument", "safe_name"]


class Member(Struct, eq=False):
    """One member: what it is called and was called, and what it holds once looked at."""

    name: str
    origin: str | None = None
    note: str = ""
    document: Any = None
    content: bytes | None = None
    looked: bool = False
    changed: bool = False


M = TypeVar("M", bound=Member)


@document_paths
class PackDocument(ABC, Generic[M]):
    """Members as a document; see the module."""

    _members: list[M]
    _edited: bool = False

    @abstractmethod
    def _content(self, member: M) -> bytes:
        """Return the bytes of a member that nobody looked at; raise `FormatError` if it is damaged."""

    @abstractmethod
    def _made(self, name: str, note: str) -> M:
        """Return a new member."""

    def leaves(self, at: Path = ()) -> Iterator[Leaf]:
        for member in list(self._members):
            if at and at[0] != member.name:
                continue
            document = self._look(member)
            if document is None:
                if len(at) < 2:
                    content = member.content or b""
                    known = None if member.origin is None else (member.origin,)
                    yield Leaf(
                        (member.name,), content, blake3(content).hexdigest(), known, member.note
                    )
                continue
            for leaf in document.leaves(at[1:]):
                origin: Path | None = None
                if leaf.origin is not None and member.origin is not None:
                    origin = (member.origin, *leaf.origin)
                path = (member.name, *leaf.path)
                yield Leaf(path, leaf.value, leaf.text, origin, leaf.note or member.note)

    def find(self, pattern: Path) -> list[Path]:
        if not pattern:
            return [()]
        out: list[Path] = []
        for member in self._members:
            if pattern[0] not in (ANY, member.name):
                continue
            if len(pattern) == 1:
                out.append((member.name,))
            elif (document := self._look(member)) is not None:
                out += [(member.name, *path) for path in document.find(pattern[1:])]
        return out

    def get(self, path: Path) -> Any:
        if not path:
            return {member.name: self.get((member.name,)) for member in self._members}
        member = self._member(path)
        document = self._look(member)
        if document is None:
            if len(path) > 1:
                raise UsageError("there is no such value", where=format_path(path))
            return member.content
        return document.get(path[1:])

    def set(self, path: Path, value: Any, *, note: str = "") -> None:
        if len(path) == 1:
            content = value.encode() if isinstance(value, str) else value
            if not isinstance(content, bytes):
                raise FormatError("a member is bytes or text", where=format_path(path))
            found = [m for m in self._members if m.name == path[0]]
            member = found[0] if found else self._made(safe_name(path), note)
            member.content, member.document, member.looked = content, None, True
            if not found:
                self._members.append(member)
        else:
            member = self._member(path)
            document = self._look(member)
            if document is None:
                raise FormatError(
                    "what is in this member is not known", where=format_path(path[:1])
                )
            document.set(path[1:], value, note=note)
        self._touch(member)

    def remove(self, path: Path) -> None:
        member = self._member(path)
        if len(path) == 1:
            self._members.remove(member)
            self._edited = True
            return
        document = self._inner(member, path)
        document.remove(path[1:])
        self._touch(member)

    def move(self, path: Path, to: Path) -> None:
        if self.find(to):
            raise occupied(to)
        member = self._member(path)
        if len(path) == len(to) == 1:
            self._look(member)
            member.name = safe_name(to)
            self._touch(member)
            return
        if path[0] != to[0] or len(path) == 1 or len(to) == 1:
            raise FormatError("values do not move between members", where=format_path(path))
        self._inner(member, path).move(path[1:], to[1:])
        self._touch(member)

    def reorder(self, path: Path, order: Sequence[int]) -> None:
        if not path:
            raise not_reordered(path)
        member = self._member(path)
        self._inner(member, path).reorder(path[1:], order)
        self._touch(member)

    def _look(self, member: M) -> Document | None:
        """Return the document in a member, None if it is none."""
        if not member.looked:
            member.looked = True
            member.content = content = self._content(member)
            # What a name says counts only if the content reads as that; so an edit changes no kind.
            for kind in likely_kinds(member.name, content):
                if member.document is None and kind in CODECS and kind not in ("zip", "text"):
                    try:
                        member.document = decode(content, kind)
                    except FormatError:
                        continue
        document: Document | None = member.document
        return document

    def _member(self, path: Path) -> M:
        found = [member for member in self._members if path and member.name == path[0]]
        if not found:
            raise UsageError(
                "there is no such member", where=format_path(path[:1]) or "the archive"
            )
        return found[0]

    def _inner(self, member: M, path: Path) -> Document:
        document = self._look(member)
        if document is None:
            raise UsageError("there is no such value", where=format_path(path))
        return document

    def check_names(self) -> None:
        """Raise if a new name cannot stand beside the others: what is unpacked would not hold both.

        Raises:
            FormatError: it is one with another but for its case, or is below one that is a file.
        """
        new = {_fold(m.name): m.name for m in self._members if m.name != m.origin}
        if not new:
            return
        files = Counter(_fold(m.name) for m in self._members if not m.name.endswith("/"))
        folders = {folder for fold in files for folder in _folders(fold)}
        for fold, name in new.items():
            above = [folder for folder in _folders(fold) if folder in files]
            if files[fold] > 1 or (files[fold] and fold in folders) or above:
                raise FormatError(
                    f"{name!r} cannot stand beside a file of its name, or below or above one",
                    where=format_path((name,)),
                    remedy="Move or drop the other file, by a step before this one.",
                )

    def _touch(self, member: M) -> None:
        member.changed = self._edited = True


def _fold(name: str) -> str:
    return unicodedata.normalize("NFC", name.rstrip("/").casefold())


def _folders(fold: str) -> list[str]:
    return [fold[:at] for at, sign in enumerate(fold) if sign == "/"]


def safe_name(path: Path) -> str:
    """Return a member's new name; refuse those that would lead out of a folder.

    Raises:
        FormatError: the name would lead out of a folder.
    """
    name = str(path[0])
    parts = name.rstrip("/").split("/")
    if (
        not name
        or "\\" in name
        or "\0" in name
        or ":" in name
        or any(p in ("", ".", "..") for p in parts)
    ):
        raise FormatError(f"{name!r} is no safe name for a member", where=format_path(path))
    return name

"""Folders as documents of documents: `mod.json.version`, by the paths of the files below the folder.

What was not edited keeps its bytes. Empty folders are no members.
"""

from __future__ import annotations

from collections.abc import Mapping

from .pack import Member, PackDocument

__all__ = ["FolderDocument"]


class FolderDocument(PackDocument[Member]):
    """The files of a folder as a document.

    >>> document = FolderDocument({"mod.json": b'{"for": "1.4"}', "reeds.dat": b"..."})
    >>> document.set(("mod.json", "for"), "2.0"); document.move(("reeds.dat",), ("data/reeds.dat",))
    >>> document.encode()
    {'mod.json': b'{"for": "2.0"}', 'data/reeds.dat': b'...'}
    """

    def __init__(self, files: Mapping[str, bytes]) -> None:
        self._files = dict(files)
        self._members = [Member(name, name) for name in self._files]

    def _made(self, name: str, note: str) -> Member:
        return Member(name, note=note)

    def _content(self, member: Member) -> bytes:
        return self._files[member.origin or member.name]

    def encode(self) -> dict[str, bytes]:
        """Return the files by their paths."""
        self.check_names()
        return {member.name: self._bytes_of(member) for member in self._members}

    def _bytes_of(self, member: Member) -> bytes:
        if not member.changed and member.origin is not None:
            return self._files[member.origin]
        document = member.document
        data: bytes = document.encode() if document is not None else member.content or b""
        return data

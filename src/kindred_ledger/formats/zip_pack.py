"""Zip archives as documents of documents: `settings.json.keys.jump`, by the names of the members.

A member whose content is of a format known here is a document; any other is its bytes. What was not
edited keeps its bytes, compression and order included; what was is compressed anew by the method it
had. What it does not keep: nothing. Encrypted members and archives in the zip64 form are not edited.
"""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from itertools import pairwise
from typing import Any

from ..errors import FormatError
from .pack import Member, PackDocument

__all__ = ["ZipDocument"]

_MOST = 256 << 20  # bytes a member may expand to, whatever the archive's size
_RATIO = 1100  # of expanded to packed: above what deflate can reach
_LOCAL = struct.Struct("<4s5H3I2H")
_CENTRAL = struct.Struct("<4s6H3I5H2I")
_END = struct.Struct("<4s4H2IH")
_DESCRIBED = 8  # flag: sizes follow the data
_UTF8 = 0x800


class _Member(Member):
    """A member, and where its record is."""

    info: zipfile.ZipInfo | None = None
    record: bytes = b""  # local header, data and descriptor as they stand
    central: bytes = b""


class ZipDocument(PackDocument[_Member]):
    """A zip archive as a document; see the module."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._edited = False
        try:
            self._file = zipfile.ZipFile(io.BytesIO(data))
            self._members = self._records()
        except (
            zipfile.BadZipFile,
            struct.error,
            ValueError,
            NotImplementedError,
            IndexError,
        ) as error:
            raise FormatError(f"this is no sound zip archive: {error}", where="the file") from error

    def encode(self) -> bytes:
        if not self._edited:
            return self._data
        self.check_names()
        if any(number == 0xFFFFFFFF for number in self._end_record[4:7]) or self._zip64:
            raise FormatError("an archive in the zip64 form is not edited", where="the file")
        out = bytearray(self._data[: self._first])
        directory = bytearray()
        for member in self._members:
            record, central = member.record, member.central
            if member.changed:
                record, central = self._packed(member)
            fields = list(_CENTRAL.unpack_from(central))
            fields[16] = len(out)
            directory += _CENTRAL.pack(*fields) + central[_CENTRAL.size :]
            out += record
        comment = self._file.comment
        count = len(self._members)
        end = _END.pack(b"PK\5\6", 0, 0, count, count, len(directory), len(out), len(comment))
        return bytes(out + directory + end + comment)

    # ---- members -------------------------------------------------------------------------

    def _records(self) -> list[_Member]:
        """Cut the archive into its records."""
        data, infos = self._data, self._file.infolist()
        names = [info.filename for info in infos]
        if len(set(names)) != len(names):
            raise FormatError(
                "a name stands twice in the archive", where=max(names, key=names.count)
            )
        at = data.rfind(b"PK\5\6")
        self._end_record = _END.unpack_from(data, at)
        self._zip64 = data.rfind(b"PK\6\7", 0, at) == at - 20 >= 0
        start = self._file.start_dir
        offsets = sorted({info.header_offset for info in infos} | {start})
        self._first = offsets[0] if infos else start
        stops = dict(pairwise(offsets))
        members = []
        position = start
        for info in infos:
            fields = _CENTRAL.unpack_from(data, position)
            if fields[0] != b"PK\1\2":
                raise FormatError("its directory is damaged", where=f"byte {position}")
            size = _CENTRAL.size + fields[10] + fields[11] + fields[12]
            record = data[info.header_offset : stops.get(info.header_offset, 0)]
            if record[:4] != b"PK\3\4" or info.file_size > max(_MOST, 0) or (
                info.file_size > _RATIO * max(info.compress_size, 1)
            ):  # fmt: skip
                raise FormatError(
                    "the record is damaged, or expands without bound", where=info.filename
                )
            members.append(
                _Member(
                    info.filename,
                    info.filename,
                    info=info,
                    record=record,
                    central=data[position : position + size],
                )
            )
            position += size
        if position != at and not self._zip64:
            raise FormatError("its directory is damaged", where=f"byte {position}")
        return members

    def _made(self, name: str, note: str) -> _Member:
        return _Member(name, note=note)

    def _content(self, member: _Member) -> bytes:
        info = member.info
        assert info is not None
        if info.flag_bits & 1:
            raise FormatError("the member is encrypted", where=member.name)
        try:
            with self._file.open(info) as file:
                content = file.read(info.file_size + 1)
        except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, OSError,
                ValueError, RuntimeError) as error:  # fmt: skip
            raise FormatError(f"the member is damaged: {error}", where=member.name) from error
        if len(content) != info.file_size:
            raise FormatError("the member is not as long as it says", where=member.name)
        return content

    def _packed(self, member: _Member) -> tuple[bytes, bytes]:
        """Return record and directory entry of a member that was edited, renamed or made."""
        document = member.document
        content = document.encode() if document is not None else member.content or b""
        old: list[Any] = list(_LOCAL.unpack_from(member.record)) if member.record else [
            b"PK\3\4", 20, 0, zipfile.ZIP_DEFLATED, 0, 0x21, 0, 0, 0, 0, 0
        ]  # fmt: skip
        entry: list[Any] = list(_CENTRAL.unpack_from(member.central)) if member.central else [
            b"PK\1\2", 20, 20, 0, zipfile.ZIP_DEFLATED, 0, 0x21, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0
        ]  # fmt: skip
        method = old[3]
        if method == zipfile.ZIP_DEFLATED:
            engine = zlib.compressobj(6, zlib.DEFLATED, -15)
            stored = engine.compress(content) + engine.flush()
        elif method == zipfile.ZIP_STORED:
            stored = content
        else:
            raise FormatError(f"compression method {method} is not written here", where=member.name)
        name = member.name.encode()
        flags = old[2] & ~_DESCRIBED | (0 if name.isascii() else _UTF8)
        extra = member.record[_LOCAL.size + old[9] : _LOCAL.size + old[9] + old[10]]
        sizes = [zlib.crc32(content), len(stored), len(content), len(name)]
        local = _LOCAL.pack(old[0], old[1], flags, *old[3:6], *sizes, len(extra))
        rest = member.central[_CENTRAL.size + entry[10] :]
        head = _CENTRAL.pack(*entry[:3], flags, *entry[4:7], *sizes, *entry[11:])
        return local + name + extra + stored, head + name + rest

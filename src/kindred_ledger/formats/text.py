"""Text files as bytes plus what it takes to write them back: encoding, mark, line endings."""

from __future__ import annotations

import codecs

from msgspec import Struct

from ..errors import FormatError

__all__ = ["Text", "place_in", "position"]

_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)


class Text(Struct, frozen=True):
    """Decoded text and how it was encoded; `encode(Text.decode(data).text) == data`.

    Without a byte-order mark UTF-8 is tried; what is not valid UTF-8 is read as Latin-1, in which
    every byte has a character and so survives.
    """

    text: str
    encoding: str
    mark: bytes
    is_declared: bool = False  # by the file itself; else it is guessed where there is no mark

    @staticmethod
    def decode(data: bytes) -> Text:
        """Read bytes; never fails except on a damaged UTF-16 file.

        Raises:
            FormatError: a UTF-16 file is damaged.
        """
        for mark, encoding in _MARKS:
            if data.startswith(mark):
                try:
                    return Text(data[len(mark) :].decode(encoding), encoding, mark)
                except UnicodeDecodeError as error:
                    if encoding == "utf-8":
                        break
                    raise FormatError(
                        f"the text is no valid {encoding}", where=f"byte {error.start + len(mark)}"
                    ) from error
        try:
            return Text(data.decode(), "utf-8", b"")
        except UnicodeDecodeError:
            return Text(data.decode("latin-1"), "latin-1", b"")

    @staticmethod
    def declared(data: bytes, encoding: str) -> Text | None:
        """Read bytes in the encoding the file itself names; None if they are not in it."""
        mark = next((mark for mark, _ in _MARKS if data.startswith(mark)), b"")
        try:
            name = codecs.lookup(encoding).name
            text = data[len(mark) :].decode(name)
            if mark or text.encode(name) != data:
                return None
        except (LookupError, UnicodeError):
            return None
        return Text(text, name, b"", is_declared=True)

    def encode(self, text: str) -> bytes:
        """Return `text` in the encoding the file had.

        Raises:
            FormatError: a character has no place in that encoding, or the bytes would be taken for
                text in another one.
        """
        try:
            data = self.mark + text.encode(self.encoding)
        except UnicodeEncodeError as error:
            raise FormatError(
                f"{text[error.start]!r} cannot be written in {self.encoding}, the file's encoding"
            ) from error
        if not self.read_back(data, text):
            raise FormatError(
                "the change cannot be written so that it reads back: the file would be taken for "
                "text in another encoding",
                where="the file",
                remedy="Save the file as UTF-8 first.",
            )
        return data

    def read_back(self, data: bytes, text: str) -> bool:
        """Tell whether bytes would be read as this text: without a mark an encoding is guessed."""
        if self.mark or self.is_declared:
            return True
        again = Text.decode(data)
        return not again.mark and again.text == text

    @property
    def newline(self) -> str:
        """The line end of the first line; `\n` where there is none."""
        end = self.text.find("\n")
        if end < 0 and "\r" in self.text:
            return "\r"
        return "\r\n" if end > 0 and self.text[end - 1] == "\r" else "\n"


def position(text: str, at: int) -> str:
    """Return where an offset is, as people count: line and column from 1."""
    line = text.count("\n", 0, at) + 1
    return f"line {line}, column {at - text.rfind(chr(10), 0, at)}"


def place_in(data: bytes, at: int) -> str:
    """Return where a byte of UTF-8 text is: line and column from 1, in characters."""
    start = data.rfind(b"\n", 0, at) + 1
    column = len(data[start:at].decode(errors="replace")) + 1
    return f"line {data.count(bytes((10,)), 0, at) + 1}, column {column}"

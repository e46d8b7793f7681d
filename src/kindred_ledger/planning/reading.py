"""Reading: as what a file of two or three sides is read: by the card, else by what is in it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct

from ..cards import Card, Format
from ..errors import FormatError
from ..formats import FOLDER, Document, Path
from ..merge import readers_of

__all__ = ["Reading", "read_as"]

_LINES = "text"  # the codec of texts of which no more is known


class Reading(Struct, frozen=True):
    """The codec of a file, what reads it, and which field names the records of its lists."""

    codec: str
    decode: Callable[[bytes], Document]
    keys: dict[Path, str] = {}
    format: Format | None = None

    @property
    def is_lines(self) -> bool:
        """Whether no more is known of it than its lines."""
        return self.codec == _LINES


def read_as(path: str, sides: Sequence[bytes], card: Card | None) -> Reading:
    """Return as what all sides of a file can be read.

    Raises:
        FormatError: one of them is damaged, or it is of no kind that is known.
    """
    format = card.format_of(path) if card is not None else None
    if format is not None and format.table.codec != FOLDER:
        return Reading(format.table.codec, format.decode, format.record_keys, format)
    for codec, decode in readers_of(path, sides[-1]):
        try:
            for side in sides:
                decode(side)
        except FormatError:
            continue
        return Reading(codec, decode)
    raise FormatError("what is in it is not known, so it is one whole", where=path)

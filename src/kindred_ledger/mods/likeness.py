"""Whether a file of a pack says the same as the original: by its bytes, by its meaning, by its pixels."""

from __future__ import annotations

import io
from typing import Any

from ..errors import FormatError, KindredError, UsageError
from ..formats import Document, decode, likely_kinds
from ..merge import values_of

__all__ = ["is_same_picture", "says_the_same"]

_BY_MEANING = ("json", "xml", "ini", "toml", "yaml")
_LARGEST = 32 << 20  # bytes of a file that is compared by its meaning


def says_the_same(path: str, one: bytes, other: bytes) -> str:
    """Return as what two files of different bytes hold the same values, such as "json"; "" if they do not.

    The order of keys, spaces and comments do not count; the text of a number does, as 1.10 may be a version.
    """
    if max(len(one), len(other)) > _LARGEST:
        return ""
    for kind in likely_kinds(path.rpartition("/")[2], one):
        if kind not in _BY_MEANING:
            continue
        try:
            documents = decode(one, kind), decode(other, kind)
        except FormatError:
            continue
        except KindredError:
            return ""
        if _values(documents[0]) == _values(documents[1]):
            return kind
    return ""


def _values(document: Document) -> Any:
    """Return what a document says: its values, and the text of each, in whatever order keys stand."""
    return values_of(document), {(leaf.path, leaf.text.strip()) for leaf in document.leaves()}


def is_same_picture(one: bytes, other: bytes) -> bool:
    """Tell whether two pictures have the same size and the same pixels.

    Raises:
        UsageError: Pillow, which reads pictures, is not installed.
    """
    try:
        from PIL import Image
    except ImportError as error:
        raise UsageError(
            "pictures are compared with Pillow, which is not installed",
            remedy="pip install 'kindred-ledger[pictures]'",
        ) from error
    try:
        with Image.open(io.BytesIO(one)) as first, Image.open(io.BytesIO(other)) as second:
            if first.size != second.size:
                return False
            shown = [picture.convert("RGBA").tobytes() for picture in (first, second)]
            return bool(shown[0] == shown[1])
    except (OSError, ValueError, Image.DecompressionBombError):
        return False

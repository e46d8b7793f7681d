"""Merging files: by the kind of their content, one module a kind.

A new kind is a module with a function `merge(three, how)` and a line in `_KINDS`.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module

from ..errors import FormatError
from ..formats import CODECS, HEAD, Document, decode
from ..formats.kinds import likely_kinds
from ..undisturbed import undisturbed
from .outcome import FileMerge, How, Three, check_size

__all__ = ["merge_files", "readers_of"]

_KINDS = {"text": ".line_files"}  # by codec
_OTHERS = ".document_files"
_MOST_BYTES = 512 << 20  # larger files are compared as a whole


def merge_files(three: Three, how: How) -> FileMerge:
    """Merge a file that both sides changed, by the codec that is given, else by what is in it.

    Raises:
        FormatError: it is of no kind that can be merged, or one side is damaged.

    >>> three = kl.Three(base=b"a = 1\\nb = 1\\n", mine=b"a = 2\\nb = 1\\n", theirs=b"a = 1\\nb = 3\\n")
    >>> kl.merge_files(three, kl.How("settings.toml")).data
    b'a = 2\\nb = 3\\n'
    """
    sides = [side for side in three if side is not None]
    check_size(three, _MOST_BYTES)
    if how.decode is not None:
        return _by(how.codec, three, how)
    for kind, read in readers_of(how.name, three.theirs):
        try:
            return _by(kind, three, How(how.name, kind, read, policy=how.policy, keys=how.keys))
        except FormatError:
            if kind in _KINDS or all(_is_read(read, side) for side in sides):
                raise  # it is of that kind, and cannot be merged
    raise FormatError("what is in it is not known, so it is one whole")


def readers_of(name: str, data: bytes) -> list[tuple[str, Callable[[bytes], Document]]]:
    """Return what may read a file, by its name and content, the likeliest first: codecs and readers."""
    return [(kind, _reader(kind)) for kind in _likely(name, data)]


def _is_read(read: Callable[[bytes], Document], data: bytes) -> bool:
    try:
        read(data)
    except FormatError:
        return False
    return True


def _by(codec: str, three: Three, how: How) -> FileMerge:
    merge: Callable[[Three, How], FileMerge]
    if _KINDS.get(codec, _OTHERS) != _OTHERS:
        check_size(three)
    merge = import_module(_KINDS.get(codec, _OTHERS), __package__).merge
    with undisturbed():
        return merge(three, how)


def _likely(name: str, data: bytes) -> list[str]:
    """Return the codecs that may read a file, those that its name speaks of first."""
    kinds = [kind for kind in likely_kinds(name, data) if kind in CODECS]
    text = [] if b"\0" in data[:HEAD] else ["text"]
    return list(dict.fromkeys([*(kind for kind in kinds if kind != "text"), *text]))


def _reader(kind: str) -> Callable[[bytes], Document]:
    return lambda data: decode(data, kind)

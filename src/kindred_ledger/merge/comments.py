"""Comments of mine that a merge did not take over: found by their text, to be told."""

from __future__ import annotations

import re

from ..errors import FormatError
from ..formats import Text
from .alignment import aligned
from .lines import lines_of

__all__ = ["lost_comments"]

# What begins a comment in the texts that are read here: JSON with comments, INI, TOML, YAML, XML.
_COMMENT = re.compile(r"<!--(.*?)(?:-->|$)|/\*(.*?)(?:\*/|$)|(?:^|\s)(?://|[#;])(.*)$")


def lost_comments(base: bytes, mine: bytes, merged: bytes) -> tuple[str, ...]:
    """Return the comments on lines that I changed or added whose text is nowhere in the result.

    Text that only looks like a comment may be among them: it is told, nothing depends on it.
    """
    try:
        texts = [Text.decode(data).text for data in (base, mine, merged)]
    except FormatError:
        return ()
    old, here = (lines_of(text).lines for text in texts[:2])
    kept = {at for _, at in aligned(old, here)}
    found = []
    for at, line in enumerate(here):
        match = _COMMENT.search(line) if at not in kept else None
        text = next(filter(None, match.groups()), "").strip() if match else ""
        if text and text not in texts[2]:
            found.append(text)
    return tuple(found)

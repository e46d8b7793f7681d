"""Members of a pack by a pattern: `*` is within a folder, `**` spans them."""

from __future__ import annotations

import re

from ...errors import UsageError
from ...formats import ANY
from .kind import Editing

__all__ = ["check_members", "members"]

_MOST_STARS, _MOST_SPANS = 5, 3
# Of what stands between two stars the first place will do; looking at others takes time without end.
_FIXED_BETWEEN = re.compile(r"\[\^/\]\*((?:\\.|[^\\\[\](){}*+?|^$.])+)(?=\[\^/\]\*)")
_STARS = re.compile(r"(\*\*/|\*\*|\*)")


def check_members(pattern: str) -> None:
    """Raise `UsageError` for a pattern that would take long."""
    if len(_STARS.findall(pattern)) > _MOST_STARS:  # each makes a search longer by a path's length
        raise UsageError(f"a pattern has at most {_MOST_STARS} stars", where=pattern)
    if pattern.count("**") > _MOST_SPANS:
        raise UsageError(f"a pattern has at most {_MOST_SPANS} **", where=pattern)


def members(fields: Editing, pattern: str) -> list[str]:
    """Return the members whose paths fit a pattern."""
    signs = {"**/": "(?:[^/]+/)*", "**": ".*", "*": "[^/]*"}
    parts = _STARS.split(pattern.strip("/"))
    text = "".join(signs.get(part) or re.escape(part) for part in parts)
    wanted = re.compile(_FIXED_BETWEEN.sub(r"(?>[^/]*?\1)", text))
    names = [str(path[0]) for path in fields.document.find((ANY,))]
    return [name for name in names if wanted.fullmatch(name)]

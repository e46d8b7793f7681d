"""Patterns: which paths are meant, in the pattern language of ignore files.

A pattern without `/` matches a name at any depth, one with `/` is anchored at the top, `**`
spans folders, a final `/` means a folder and all in it, `!` takes back.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

from msgspec import Struct

from ..errors import UsageError

__all__ = ["Patterns"]


class Patterns(Struct, frozen=True):
    """Paths that match `include` and not `exclude`; an empty `include` means everything.

    >>> saves = Patterns(("user/saves/",), ("*.tmp",))
    >>> saves("user/saves/a.voyage"), saves("user/saves/a.tmp")
    (True, False)
    """

    include: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()

    def __call__(self, path: str) -> bool:
        if self.include and not _matcher(self.include)(path):
            return False
        return not (self.exclude and _matcher(self.exclude)(path))

    def check(self) -> None:
        """Raise `UsageError` for a pattern that cannot be read."""
        for pattern in (*self.include, *self.exclude):
            _matcher((pattern,))


@lru_cache(maxsize=256)
def _matcher(lines: tuple[str, ...]) -> Callable[[str], bool]:
    from pathspec import GitIgnoreSpec

    try:
        return GitIgnoreSpec.from_lines(lines).match_file
    except ValueError as error:
        raise UsageError(
            f"the pattern {' '.join(lines)!r} cannot be read: {error}",
            remedy="Patterns are written as in ignore files: saves/, *.tmp, data/**/old",
        ) from error

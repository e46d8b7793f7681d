"""Patterns: which paths are meant, in the pattern language of ignore files.

A pattern without `/` matches a name at any depth, one with `/` is anchored at the top, `**`
spans folders, a final `/` means a folder and all in it, `!` takes back.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from functools import lru_cache
from typing import Any

from msgspec import Struct

from ..errors import UsageError
from ..os_names import as_text
from ..suggestions import path_meant

_CHECK = "Check the pattern: * is any text, and the name of a folder ends with /."
_MOST_SPANS = 3  # `**` of one pattern: each more multiplies the time by the length of a path
# Of what stands between two stars the first place will do; looking at others takes time without end.
_FIXED_BETWEEN = re.compile(
    r"\[\^/\]\*((?:\\.|[^\\\[\](){}*+?|^$.]|\[\^/\](?!\*)|\[(?!\^/\])[^\]]+\](?!\*))+)(?=\[\^/\]\*)"
)

__all__ = [
    "AnySelection",
    "Categories",
    "Every",
    "Patterns",
    "as_selection",
    "check_patterns",
    "check_selected",
    "wanted",
]


# What chooses paths in public calls: a function of a path, a pattern, several; None is all.
AnySelection = Callable[[str], bool] | str | Iterable[str] | None


class Patterns(Struct, frozen=True):
    """Paths that match `include` and not `exclude`; an empty `include` means everything.

    `any_case`: large and small letters are the same, as on disks that take them so.

    >>> saves = Patterns(("user/saves/",), ("*.tmp",))
    >>> saves("user/saves/a.voyage"), saves("user/saves/a.tmp")
    (True, False)
    """

    include: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()
    any_case: bool = False

    def __call__(self, path: str) -> bool:
        if self.include and not _matcher(self.include, self.any_case)(path):
            return False
        return not (self.exclude and _matcher(self.exclude, self.any_case)(path))

    def check_selected(self, paths: list[str]) -> None:
        """Raise `UsageError` for a pattern that fits none of these paths."""
        for pattern in self.include:
            taken_back = pattern.startswith("!")
            if not taken_back and not any(map(_matcher((pattern,), self.any_case), paths)):
                raise UsageError(
                    f"no file here fits {pattern!r}", remedy=path_meant(pattern, paths) or _CHECK
                )
        for pattern in self.exclude:
            named = pattern.removeprefix("!")
            if not any(map(_matcher((named,), self.any_case), paths)):
                raise UsageError(
                    f"no file here fits {pattern!r}, which was to be left out",
                    remedy=path_meant(pattern, paths) or _CHECK,
                )

    def check(self) -> None:
        """Raise `UsageError` for a pattern that cannot be read."""
        for pattern in (*self.include, *self.exclude):
            _matcher((pattern,))


class Categories(Struct, frozen=True):
    """Paths that are in one of several categories, by their names."""

    chosen: dict[str, Patterns]

    def __call__(self, path: str) -> bool:
        return any(patterns(path) for patterns in self.chosen.values())

    def check_selected(self, paths: list[str]) -> None:
        """Raise `UsageError` for a category that holds none of these paths."""
        for name, patterns in self.chosen.items():
            if not any(map(patterns, paths)):
                raise UsageError(f"nothing here is in the category {name!r}")


class Every(Struct, frozen=True):
    """Paths that all of several selections take."""

    parts: tuple[Callable[[str], bool], ...]

    def __call__(self, path: str) -> bool:
        return all(part(path) for part in self.parts)

    def check_selected(self, paths: list[str]) -> None:
        """Raise `UsageError` for a part that takes none of these paths, or if no path is left."""
        for part in self.parts:
            check_selected(part, paths)
        if not any(map(self, paths)):
            raise UsageError("no file here is all that was asked for")


def as_selection(value: AnySelection) -> Callable[[str], bool] | None:
    """Return what tells whether a path is meant: a function itself, or one for one or several patterns.

    >>> as_selection("saves/")("saves/a.voyage")
    True

    Raises:
        UsageError: a pattern cannot be read, or it is none.
    """
    if value is None or callable(value):
        return value
    patterns = (value,) if isinstance(value, str) else tuple(value)
    if not all(isinstance(each, str) for each in patterns):
        raise UsageError(
            "patterns are texts such as 'saves/'", remedy="Or give a function of a path."
        )
    found = Patterns(patterns)
    found.check()
    return found


def wanted(
    patterns: tuple[str, ...], exclude: tuple[str, ...] = ()
) -> Callable[[str], bool] | None:
    """Return what tells whether a path fits a pattern and none of `exclude`; None for no patterns at all.

    Raises:
        UsageError: one of them cannot be read.
    """
    if not (patterns or exclude):
        return None
    found = Patterns(patterns, exclude)
    found.check()
    return found


def check_selected(selection: Callable[[str], bool] | None, paths: Iterable[str]) -> None:
    """Raise `UsageError` if what was asked for is not there: it would do nothing, and say nothing.

    `selection` None takes all. Of `Patterns`, `Categories` and `Every`, each part must take a path.
    """
    if selection is None:
        return
    paths = list(paths)
    check = getattr(selection, "check_selected", None)
    if check is not None:
        check(paths)
    elif paths and not any(map(selection, paths)):
        raise UsageError("no file here is selected", remedy="Check `only`.")


def check_patterns(*selections: Callable[[str], bool] | None, paths: Iterable[str]) -> None:
    """Raise `UsageError` for a pattern that fits no path; functions may take none."""
    there = list(paths)
    for selection in selections:
        if hasattr(selection, "check_selected"):
            check_selected(selection, there)


def _bounded_pattern(line: str) -> Any:
    """Return a pattern that takes no more time than its length and the path's, whatever they say."""
    from pathspec.patterns.gitignore.spec import GitIgnoreSpecPattern

    if line.count("**") > _MOST_SPANS:
        raise ValueError(f"it has more than {_MOST_SPANS} **")
    pattern = GitIgnoreSpecPattern(line)
    if pattern.regex is not None and pattern.regex.pattern.count("[^/]*") > 1:
        pattern.regex = re.compile(_FIXED_BETWEEN.sub(r"(?>[^/]*?\1)", pattern.regex.pattern))
    return pattern


def _in_any_case(line: str) -> Any:
    pattern = _bounded_pattern(line)
    if pattern.regex is not None:
        pattern.regex = re.compile(pattern.regex.pattern, re.IGNORECASE)
    return pattern


@lru_cache(maxsize=256)
def _matcher(lines: tuple[str, ...], any_case: bool = False) -> Callable[[str], bool]:
    from pathspec import GitIgnoreSpec

    made = _in_any_case if any_case else _bounded_pattern
    try:
        return GitIgnoreSpec.from_lines(map(as_text, lines), made).match_file
    except ValueError as error:
        raise UsageError(
            f"the pattern {' '.join(lines)!r} cannot be read: {error}",
            remedy="Patterns are written as in ignore files: saves/, *.tmp, data/**/old",
        ) from error

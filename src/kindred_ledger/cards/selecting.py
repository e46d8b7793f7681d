"""Selecting: paths by the categories of a card."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from ..errors import UsageError
from ..places import Categories, Patterns
from ..suggestions import did_you_mean

__all__ = ["select_categories"]


def select_categories(
    known: Mapping[str, Patterns], wanted: str | Iterable[str]
) -> Callable[[str], bool]:
    """Return what tells whether a path is in the wanted category, or in one of several.

    Raises:
        UsageError: there is no such category.
    """
    chosen = {}
    for name in (wanted,) if isinstance(wanted, str) else wanted:
        if name not in known:
            raise UsageError(
                f"there is no category {name!r}",
                remedy=did_you_mean(name, known),
            )
        chosen[name] = known[name]
    return Categories(chosen)

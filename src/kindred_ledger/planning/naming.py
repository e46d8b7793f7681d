"""Names for files that stand beside others of the same name."""

from __future__ import annotations

from collections.abc import Callable
from itertools import count

__all__ = ["beside_name"]


def beside_name(path: str, label: str, *, taken: Callable[[str], bool]) -> str:
    """Return a name beside a path's, with a label in it, that is not taken.

    >>> beside_name("saves/a.voyage", "1.4", taken={"saves/a (1.4).voyage"}.__contains__)
    'saves/a (1.4 2).voyage'
    """
    stem, dot, ending = path.rpartition(".")
    stem, ending = (stem, dot + ending) if stem and "/" not in ending else (path, "")
    names = (f"{stem} ({label}{f' {n}' if n > 1 else ''}){ending}" for n in count(1))
    return next(name for name in names if not taken(name))

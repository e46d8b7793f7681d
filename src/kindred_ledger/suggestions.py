"""Suggestions: what somebody may have meant by a name that fits nothing."""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["did_you_mean", "hint", "nearest", "path_meant"]

_CUTOFF = 0.6  # the least likeness, of 1, that is worth saying


def nearest(name: str, known: Iterable[str]) -> str:
    """Return the known name that is most like a name; "" if none is."""
    from difflib import get_close_matches

    found = get_close_matches(name, list(known), 1, _CUTOFF)
    return found[0] if found else ""


def hint(name: str, known: Iterable[str]) -> str:
    """Return what to put behind a sentence: "; did you mean 'x'?", or ""."""
    found = nearest(name, known)
    return f"; did you mean {found!r}?" if found else ""


def did_you_mean(name: str, known: Iterable[str]) -> str:
    """Return what may be meant as a sentence; else what there is."""
    names = list(known)
    found = nearest(name, names)
    return f"Did you mean {found}?" if found else f"There are: {', '.join(names) or 'none'}."


def path_meant(name: str, paths: Iterable[str]) -> str:
    """Return the path, or part of one, that may be meant: "Did you mean …?", or ""."""
    wanted = name.strip("/").replace("*", "")
    known: dict[str, str] = {}
    for path in paths:
        parts = path.split("/")
        for at in range(len(parts)):
            known.setdefault(parts[at].casefold(), "/".join(parts[: at + 1]))
            known.setdefault("/".join(parts[: at + 1]).casefold(), "/".join(parts[: at + 1]))
    found = nearest(wanted.casefold(), known)
    return f"Did you mean {known[found]}?" if found else ""

"""Extensions: what other installed packages add, by the entry points they declare.

    [project.entry-points."kindred_ledger.cards"]      name = "package"            folders of cards
    [project.entry-points."kindred_ledger.codecs"]     name = "package.module:Document"
    [project.entry-points."kindred_ledger.hooks"]      name = "package.module:function"

Only what a person installed is ever run: a card may name a hook or a codec, and no more. The lists
are read from the metadata of packages (Python Packaging User Guide, entry points specification); a
package is imported when what it adds is used.
"""

from __future__ import annotations

import os
import sys
from functools import cache
from importlib import import_module
from importlib.util import find_spec
from typing import Any

from .errors import UsageError

__all__ = ["CARDS", "CODECS", "HOOKS", "card_folders", "installed", "load", "package"]

CARDS = "kindred_ledger.cards"
CODECS = "kindred_ledger.codecs"
HOOKS = "kindred_ledger.hooks"
_PREFIX = "kindred_ledger."


def installed(group: str) -> dict[str, str]:
    """Return what is installed for a group: names, and the objects they stand for."""
    return dict(_all(tuple(sys.path)).get(group, {}))


def load(group: str, name: str) -> Any:
    """Import and return what a name of a group stands for.

    Raises:
        UsageError: no installed package has it, or it cannot be imported.
    """
    known = installed(group)
    if name not in known:
        what = group.removeprefix(_PREFIX).removesuffix("s")
        raise UsageError(
            f"no installed package has the {what} {name!r}",
            remedy=f"Install the package that adds it. There are: {', '.join(known) or 'none'}.",
        )
    module, _, attribute = known[name].partition(":")
    try:
        found: Any = import_module(module)
        for part in attribute.split(".") if attribute else ():
            found = getattr(found, part)
    except Exception as error:  # whatever another package's import raises
        raise UsageError(f"{name!r} of {known[name]} cannot be used: {error}") from error
    return found


def package(module: str, what: str, *, extra: str = "formats") -> Any:
    """Import and return a module of a package that an extra brings; `what` says what it is for.

    Raises:
        UsageError: it is not installed.
    """
    try:
        return import_module(module)
    except ImportError as error:
        raise UsageError(
            f"{what} by the package {module.partition('.')[0]}, which is not installed",
            remedy=f"Install it: pip install 'kindred-ledger[{extra}]'",
        ) from error


def card_folders() -> list[str]:
    """Return the folders of cards that installed packages bring; nothing of theirs is run."""
    out = []
    for package in installed(CARDS).values():
        top, *inside = package.partition(":")[0].split(".")
        try:
            spec = find_spec(top)  # of the package itself: finding what is inside it would run it
        except (ImportError, ValueError):
            continue
        folders = spec.submodule_search_locations if spec is not None else None
        found = (os.path.join(folder, *inside) for folder in folders or ())
        out += [folder for folder in found if os.path.isdir(folder)][:1]
    return out


@cache
def _all(paths: tuple[str, ...]) -> dict[str, dict[str, str]]:
    """Read the entry points of all packages on a path that are for us; the first of a name counts.

    `importlib.metadata` would take longer to import than most commands run.
    """
    found: dict[str, dict[str, str]] = {}
    for path in paths:
        try:
            names = sorted(os.listdir(path or "."))
        except OSError:
            continue
        for name in names:
            if name.endswith((".dist-info", ".egg-info")):
                _read(os.path.join(path, name, "entry_points.txt"), found)
    return found


def _read(path: str, found: dict[str, dict[str, str]]) -> None:
    try:
        with open(path, encoding="utf-8") as file:
            text = file.read()
    except (OSError, UnicodeDecodeError):
        return
    if f"[{_PREFIX}" not in text.replace(" ", ""):
        return
    group = ""
    for raw in text.splitlines():
        line = raw.strip()
        if line.startswith("["):
            group = line.strip("[] ")
        elif group.startswith(_PREFIX) and "=" in line and line[0] not in "#;":
            name, _, value = line.partition("=")
            found.setdefault(group, {}).setdefault(name.strip(), value.partition("[")[0].strip())

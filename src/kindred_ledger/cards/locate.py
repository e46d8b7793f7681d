"""Locating: where a title keeps its user's data on this machine. Ambiguity is a question."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Mapping

from msgspec import Struct

from ..errors import DecisionNeeded
from .models import LocationTable

__all__ = ["Surroundings", "expand_folder", "locate"]

_VARIABLE = re.compile(r"\{(\w+)\}|\$(\w+)|%(\w+)%")
_USER_ID = "{user_id}"
_PLATFORMS = {"win32": "windows", "darwin": "macos"}


class Surroundings(Struct, frozen=True):
    """The machine as a card sees it: platform, environment, and the user's standard folders.

    `folders` gives home, documents, data and config; `user_ids` chooses, by the name of the
    location, among several numbered users.

    >>> card.open("mossferry", around=kl.Surroundings.here()).version.text
    '1.4'
    """

    platform: str
    environment: Mapping[str, str]
    folders: Mapping[str, str]
    user_ids: Mapping[str, str]

    @staticmethod
    def here(*, user_ids: Mapping[str, str] | None = None) -> Surroundings:
        """Return this machine's."""
        import platformdirs

        folders = {
            "home": os.path.expanduser("~"),
            "documents": platformdirs.user_documents_dir(),
            "data": platformdirs.user_data_dir(),
            "config": platformdirs.user_config_dir(),
        }
        named = _PLATFORMS.get(sys.platform, "linux")
        return Surroundings(named, os.environ, folders, user_ids or {})


def locate(name: str, table: LocationTable, program: str, *, around: Surroundings) -> str | None:
    """Return the folder of one location; None if none of the candidates exists.

    Raises:
        DecisionNeeded: several exist, or several numbered users have one.
    """
    if table.portable and os.path.exists(os.path.join(program, table.portable.marker)):
        return os.path.join(program, *table.portable.folder.split("/"))
    candidates: list[str] = getattr(table, around.platform)
    found: dict[str, None] = {}
    for template in candidates:
        for path in _expand(template, name, program, around):
            found[os.path.normpath(path)] = None
    if len(found) > 1:
        raise DecisionNeeded(
            f"the {name} folder could be any of {len(found)}",
            choices=tuple(found),
            remedy=f"Say which with `folder={name}=PATH`"
            + (f" or `user_id={name}=NUMBER`" if any(_USER_ID in t for t in candidates) else "")
            + ".",
        )
    return next(iter(found), None)


def expand_folder(template: str, program: str, *, around: Surroundings) -> str | None:
    """Return the path a template means; None if a variable of it is not set."""
    known = {**around.folders, "program": program, "user_id": _USER_ID}
    missing = False

    def value(match: re.Match[str]) -> str:
        nonlocal missing
        text = known.get(match[1]) if match[1] else around.environment.get(match[2] or match[3])
        missing = missing or not text
        return text or ""

    path = _VARIABLE.sub(value, template).replace("/", os.sep)
    return None if missing else os.path.expanduser(path)


def _expand(template: str, name: str, program: str, around: Surroundings) -> list[str]:
    """Return the existing folders a template means."""
    path = expand_folder(template, program, around=around)
    if path is None:
        return []
    if _USER_ID not in path:
        return [path] if os.path.isdir(path) else []
    before, _, after = path.partition(_USER_ID)
    parent = os.path.dirname(before)
    if not os.path.isdir(parent):
        return []
    chosen = around.user_ids.get(name)
    ids = [chosen] if chosen else sorted(entry for entry in os.listdir(parent) if entry.isdigit())
    return [full for one in ids if os.path.isdir(full := before + one + after)]

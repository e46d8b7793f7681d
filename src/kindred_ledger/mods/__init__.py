"""Mods: what is wrong with mods, packs and projects, and what mends it."""

from .check import ModCheck, check_mods
from .relink import Candidate, Relinked, relink
from .swap import swap_library
from .trim import TrimChoices, trim_mod
from .usage import Usage, Use, remove_library, users_of

__all__ = [
    "Candidate",
    "ModCheck",
    "Relinked",
    "TrimChoices",
    "Usage",
    "Use",
    "check_mods",
    "relink",
    "remove_library",
    "swap_library",
    "trim_mod",
    "users_of",
]

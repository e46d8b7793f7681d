"""Mods: what is wrong with mods, packs and projects, and what mends it."""

from .check import ModCheck, check_mods
from .relink import Candidate, Relinked, relink
from .suspect_search import SuspectSearch
from .suspects import Answer, SuspectsFound, Trial, most_trials, next_trial
from .swap import swap_library
from .trim import TrimChoices, trim_mod
from .usage import Usage, Use, remove_library, users_of

__all__ = [
    "Answer",
    "Candidate",
    "ModCheck",
    "Relinked",
    "SuspectSearch",
    "SuspectsFound",
    "Trial",
    "TrimChoices",
    "Usage",
    "Use",
    "check_mods",
    "most_trials",
    "next_trial",
    "relink",
    "remove_library",
    "swap_library",
    "trim_mod",
    "users_of",
]

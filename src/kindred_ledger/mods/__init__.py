"""Mods: what is wrong with mods, packs and projects, and what mends it."""

from .check import ModCheck, check_mods
from .trim import TrimChoices, trim_mod

__all__ = ["ModCheck", "TrimChoices", "check_mods", "trim_mod"]

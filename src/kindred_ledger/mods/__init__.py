"""Mods: what is wrong with mods, packs and projects, and what mends it."""

from .check import ModCheck, check_mods

__all__ = ["ModCheck", "check_mods"]

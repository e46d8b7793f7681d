"""Mods: what a card says about mods, packs and projects, and what their own descriptors say."""

from .compatible import Compatibility, Fit, FitReleases, ModVerdict, judge, summary
from .kinds import ARCHIVES, ModKind, mods_faults, projects_faults
from .links import Link
from .ranges import Builds, read_builds
from .reading import (
    Gathered,
    Mod,
    archive_kind,
    gather,
    mod_alone,
    read_mods,
    read_values,
    text_at,
)

__all__ = [
    "ARCHIVES",
    "Builds",
    "Compatibility",
    "Fit",
    "FitReleases",
    "Gathered",
    "Link",
    "Mod",
    "ModKind",
    "ModVerdict",
    "archive_kind",
    "gather",
    "judge",
    "mod_alone",
    "mods_faults",
    "projects_faults",
    "read_builds",
    "read_mods",
    "read_values",
    "summary",
    "text_at",
]

"""The ledger: version-tagged entries, their contents, and the history of changes."""

from .entries import (
    BEFORE,
    CONFIRMED,
    PROVEN,
    RETIRED,
    Entry,
    Mark,
    Record,
    ReleaseTag,
    Tag,
    Tagged,
    not_undone,
)
from .entry_place import EntryPlace
from .exporting import export
from .healing import Healed, heal
from .ledger import Ledger, iso
from .mirroring import Mirrored, mirror
from .reclaiming import Reclaimable, Reclaimed
from .retention import RetentionPolicy
from .retiring import Retired, Retirement, confirmable, plan_retirement
from .shelf import STABLE, Release, ReleasePlace, Shelf, tree_digest
from .verifying import Cost, Verified, verify

__all__ = [
    "BEFORE",
    "CONFIRMED",
    "PROVEN",
    "RETIRED",
    "STABLE",
    "Cost",
    "Entry",
    "EntryPlace",
    "Healed",
    "Ledger",
    "Mark",
    "Mirrored",
    "Reclaimable",
    "Reclaimed",
    "Record",
    "Release",
    "ReleasePlace",
    "ReleaseTag",
    "RetentionPolicy",
    "Retired",
    "Retirement",
    "Shelf",
    "Tag",
    "Tagged",
    "Verified",
    "confirmable",
    "export",
    "heal",
    "iso",
    "mirror",
    "not_undone",
    "plan_retirement",
    "tree_digest",
    "verify",
]

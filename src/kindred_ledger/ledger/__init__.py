"""The ledger: version-tagged entries, their contents, and the history of changes."""

from .entries import (
    BEFORE,
    CONFIRMED,
    PROVEN,
    RETIRED,
    Entry,
    LeftOut,
    Mark,
    ReleaseTag,
    Tag,
    Tagged,
    iso,
)
from .entry_place import EntryPlace
from .exporting import export
from .healing import Healed, heal
from .ledger import Ledger
from .mirroring import Mirrored, mirror
from .reclaiming import Reclaimable, Reclaimed
from .records import (
    BothHold,
    HelperAtUpdate,
    HelperPlaced,
    HelperRemoved,
    Inert,
    MigrationStep,
    Record,
    Relation,
    TookIn,
    Transplanted,
    Undoes,
    WorldRemapped,
    not_undone,
    relation_of,
)
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
    "BothHold",
    "Cost",
    "Entry",
    "EntryPlace",
    "Healed",
    "HelperAtUpdate",
    "HelperPlaced",
    "HelperRemoved",
    "Inert",
    "Ledger",
    "LeftOut",
    "Mark",
    "MigrationStep",
    "Mirrored",
    "Reclaimable",
    "Reclaimed",
    "Record",
    "Relation",
    "Release",
    "ReleasePlace",
    "ReleaseTag",
    "RetentionPolicy",
    "Retired",
    "Retirement",
    "Shelf",
    "Tag",
    "Tagged",
    "TookIn",
    "Transplanted",
    "Undoes",
    "Verified",
    "WorldRemapped",
    "confirmable",
    "export",
    "heal",
    "iso",
    "mirror",
    "not_undone",
    "plan_retirement",
    "relation_of",
    "tree_digest",
    "verify",
]

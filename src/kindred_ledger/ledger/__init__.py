"""The ledger: version-tagged entries, their contents, and the history of changes."""

from .entries import CONFIRMED, PROVEN, RETIRED, Entry, Mark, Record, Tag, Tagged
from .entry_place import EntryPlace
from .exporting import export
from .healing import Healed, heal
from .ledger import Ledger, iso
from .mirroring import Mirrored, mirror
from .reclaiming import Reclaimable, Reclaimed
from .retention import Policy
from .retiring import Retired, Retirement, confirmable, plan_retirement
from .verifying import Cost, Fault, Verified, verify

__all__ = [
    "CONFIRMED",
    "PROVEN",
    "RETIRED",
    "Cost",
    "Entry",
    "EntryPlace",
    "Fault",
    "Healed",
    "Ledger",
    "Mark",
    "Mirrored",
    "Policy",
    "Reclaimable",
    "Reclaimed",
    "Record",
    "Retired",
    "Retirement",
    "Tag",
    "Tagged",
    "Verified",
    "confirmable",
    "export",
    "heal",
    "iso",
    "mirror",
    "plan_retirement",
    "verify",
]

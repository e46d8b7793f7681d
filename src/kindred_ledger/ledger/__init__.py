"""The ledger: version-tagged entries, their contents, and the history of changes."""

from .entries import PROVEN, Entry, Mark, Record, Tag, Tagged
from .exporting import export
from .healing import Healed, heal
from .ledger import EntryPlace, Ledger, iso
from .mirroring import Mirrored, mirror
from .verifying import Cost, Fault, Verified, verify

__all__ = [
    "PROVEN",
    "Cost",
    "Entry",
    "EntryPlace",
    "Fault",
    "Healed",
    "Ledger",
    "Mark",
    "Mirrored",
    "Record",
    "Tag",
    "Tagged",
    "Verified",
    "export",
    "heal",
    "iso",
    "mirror",
    "verify",
]

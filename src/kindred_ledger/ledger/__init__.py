"""The ledger: version-tagged entries, their contents, and the history of changes."""

from .entries import Entry, Record, Tag, Tagged
from .exporting import export
from .ledger import EntryPlace, Ledger, iso
from .verifying import Cost, Fault, Verified, verify

__all__ = [
    "Cost",
    "Entry",
    "EntryPlace",
    "Fault",
    "Ledger",
    "Record",
    "Tag",
    "Tagged",
    "Verified",
    "export",
    "iso",
    "verify",
]

"""The ledger: version-tagged entries, their contents, and the history of changes."""

from .entries import Entry, Record, Tag, Tagged
from .exporting import export
from .ledger import EntryPlace, Ledger, iso

__all__ = ["Entry", "EntryPlace", "Ledger", "Record", "Tag", "Tagged", "export", "iso"]

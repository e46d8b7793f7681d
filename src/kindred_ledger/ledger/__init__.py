"""The ledger: version-tagged entries, their contents, and the history of changes."""

from .entries import Entry, Record, Tag, Tagged
from .ledger import EntryPlace, Ledger, iso

__all__ = ["Entry", "EntryPlace", "Ledger", "Record", "Tag", "Tagged", "iso"]

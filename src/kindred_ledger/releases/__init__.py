"""Releases: where they come from: an index, sources over HTTP or by hand, and the shelf they are put on."""

from .arrivals import Arrival, State, check_arrivals
from .opening import source_at
from .release_index import (
    ChosenRelease,
    IndexedRelease,
    Part,
    ReleaseIndex,
    choose_release,
    parts_with,
    read_index,
)
from .shelving import Shelved, shelve, shelve_from
from .sources import RetryPolicy, Source

__all__ = [
    "Arrival",
    "ChosenRelease",
    "IndexedRelease",
    "Part",
    "ReleaseIndex",
    "RetryPolicy",
    "Shelved",
    "Source",
    "State",
    "check_arrivals",
    "choose_release",
    "parts_with",
    "read_index",
    "shelve",
    "shelve_from",
    "source_at",
]

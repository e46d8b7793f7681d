"""Installs: moving files between releases and installs, and the shelf that releases come from."""

from .arrivals import Arrival, State, check_arrivals
from .assemble import Assembly, assemble
from .beside import install_beside
from .carry import carry
from .combining import Collision, Combined, combine
from .compare import Comparison, compare
from .fetching import FolderSource, HttpSource, Patience, Source, source_at
from .recognizing import Likeness, known_by_content, likenesses
from .reinstall import reinstall
from .release_index import Choice, IndexedRelease, Part, choose_release, parts_with, read_index
from .shelving import Shelved, shelve, shelve_from
from .update import Wishes, update

__all__ = [
    "Arrival",
    "Assembly",
    "Choice",
    "Collision",
    "Combined",
    "Comparison",
    "FolderSource",
    "HttpSource",
    "IndexedRelease",
    "Likeness",
    "Part",
    "Patience",
    "Shelved",
    "Source",
    "State",
    "Wishes",
    "assemble",
    "carry",
    "check_arrivals",
    "choose_release",
    "combine",
    "compare",
    "install_beside",
    "known_by_content",
    "likenesses",
    "parts_with",
    "read_index",
    "reinstall",
    "shelve",
    "shelve_from",
    "source_at",
    "update",
]

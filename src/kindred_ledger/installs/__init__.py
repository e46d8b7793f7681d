"""Installs: moving files between releases and installs, and the shelf that releases come from."""

from .arrivals import Arrival, State, check_arrivals
from .assemble import Assembly, assemble
from .beside import install_beside
from .carry import CarryChoices, carry
from .carry_files import carry_files, known_as
from .combining import Collision, Combined, combine
from .compare import Comparison, compare
from .meet import MeetChoices, meet
from .recognizing import Likeness, known_by_content, likenesses
from .reinstall import reinstall
from .release_index import Choice, IndexedRelease, Part, choose_release, parts_with, read_index
from .shelving import Shelved, shelve, shelve_from
from .sources import Patience, Source, source_at
from .switch import Begin, Turn, live_build, switch
from .update import UpdateChoices, update
from .watching import Event, Watcher, What, notified

__all__ = [
    "Arrival",
    "Assembly",
    "Begin",
    "CarryChoices",
    "Choice",
    "Collision",
    "Combined",
    "Comparison",
    "Event",
    "IndexedRelease",
    "Likeness",
    "MeetChoices",
    "Part",
    "Patience",
    "Shelved",
    "Source",
    "State",
    "Turn",
    "UpdateChoices",
    "Watcher",
    "What",
    "assemble",
    "carry",
    "carry_files",
    "check_arrivals",
    "choose_release",
    "combine",
    "compare",
    "install_beside",
    "known_as",
    "known_by_content",
    "likenesses",
    "live_build",
    "meet",
    "notified",
    "parts_with",
    "read_index",
    "reinstall",
    "shelve",
    "shelve_from",
    "source_at",
    "switch",
    "update",
]

"""Planning: what is looked at before anything is decided: offers, readiness, what is known and alike."""

from .combining import Collision, Combined, combine
from .compare import Comparison, compare
from .condition import condition_of
from .frames import to_frame
from .modded import compatible_mods, mods_in
from .recognizing import ReleaseMatch, known_by_content, match_releases
from .trial_copies import copies_under_test, place_test_copy

__all__ = [
    "Collision",
    "Combined",
    "Comparison",
    "ReleaseMatch",
    "combine",
    "compare",
    "compatible_mods",
    "condition_of",
    "copies_under_test",
    "known_by_content",
    "match_releases",
    "mods_in",
    "place_test_copy",
    "to_frame",
]

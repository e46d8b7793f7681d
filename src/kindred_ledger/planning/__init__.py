"""Planning: what is looked at before anything is decided: offers, readiness, what is known and alike."""

from .combining import Collision, Combined, combine
from .compare import Comparison, compare
from .condition import condition_of
from .frames import to_frame
from .modded import compatible_mods, mods_in
from .recognizing import ReleaseMatch, known_by_content, match_releases
from .test_copies import place_test_copy, test_copies

__all__ = [
    "Collision",
    "Combined",
    "Comparison",
    "ReleaseMatch",
    "combine",
    "compare",
    "compatible_mods",
    "condition_of",
    "known_by_content",
    "match_releases",
    "mods_in",
    "place_test_copy",
    "test_copies",
    "to_frame",
]

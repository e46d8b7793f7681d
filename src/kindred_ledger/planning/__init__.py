"""Planning: what is looked at before anything is decided: offers, readiness, what is known and alike."""

from .combining import Collision, Combined, combine
from .compare import Comparison, compare
from .recognizing import Likeness, known_by_content, likenesses

__all__ = [
    "Collision",
    "Combined",
    "Comparison",
    "Likeness",
    "combine",
    "compare",
    "known_by_content",
    "likenesses",
]

"""Cards: what is known about a title, where its installs are and which version each is."""

from .card import PROGRAM, Card, Format, Install, select_categories
from .coverage import Belonging, belongings, unlisted
from .detect import Evidence
from .drafting import draft_card
from .finding import card_for, find_cards, find_installs
from .identify import Identity, Match, identify
from .locate import Surroundings

__all__ = [
    "PROGRAM",
    "Belonging",
    "Card",
    "Evidence",
    "Format",
    "Identity",
    "Install",
    "Match",
    "Surroundings",
    "belongings",
    "card_for",
    "draft_card",
    "find_cards",
    "find_installs",
    "identify",
    "select_categories",
    "unlisted",
]

"""Cards: what is known about a title, where its installs are and which version each is."""

from .card import PROGRAM, Card, Format, Install, select_categories
from .detect import Evidence
from .finding import card_for, find_cards, find_installs
from .locate import Surroundings

__all__ = [
    "PROGRAM",
    "Card",
    "Evidence",
    "Format",
    "Install",
    "Surroundings",
    "card_for",
    "find_cards",
    "find_installs",
    "select_categories",
]

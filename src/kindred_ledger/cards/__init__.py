"""Cards: what is known about a title, where its installs are and which version each is."""

from .card import PROGRAM, Card, Format, Install, select_categories
from .coverage import Belonging, belongings, unlisted
from .detect import Evidence
from .finding import card_for, find_cards, find_installs
from .locate import Surroundings

__all__ = [
    "PROGRAM",
    "Belonging",
    "Card",
    "Evidence",
    "Format",
    "Install",
    "Surroundings",
    "belongings",
    "card_for",
    "find_cards",
    "find_installs",
    "select_categories",
    "unlisted",
]

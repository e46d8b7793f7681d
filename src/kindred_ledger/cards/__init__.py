"""Cards: what is known about a title, where its installs are and which version each is."""

from .axes import axis_versions, out_of_step
from .card import PROGRAM, Card, Install, as_install
from .coverage import Belonging, belongings, unlisted
from .detect import Evidence
from .drafting import draft_card
from .format import Format
from .identify import Identity, Match, identify
from .locate import Surroundings, expand_folder
from .roots import Root, find_root
from .searching import card_for, card_of_release, find_cards, find_installs
from .selecting import select_categories
from .updates import Component, Updates

__all__ = [
    "PROGRAM",
    "Belonging",
    "Card",
    "Component",
    "Evidence",
    "Format",
    "Identity",
    "Install",
    "Match",
    "Root",
    "Surroundings",
    "Updates",
    "as_install",
    "axis_versions",
    "belongings",
    "card_for",
    "card_of_release",
    "draft_card",
    "expand_folder",
    "find_cards",
    "find_installs",
    "find_root",
    "identify",
    "out_of_step",
    "select_categories",
    "unlisted",
]

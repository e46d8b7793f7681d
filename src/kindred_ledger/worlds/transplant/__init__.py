"""Transplants: what belongs to the player of a long game, set into a fresh one of another build."""

from .baked import BakedField, BakedGroup, baked_groups
from .bundle import Bundle, BundledKind, BundledLink, read_bundle
from .plan import (
    TransplantForecast,
    TransplantPlan,
    forecast_transplant,
    set_in_bundle,
    transplant,
)
from .selection import TransplantChoices
from .started import FoundThing, StartStatus, first_start
from .telling import KindCounts, LeftLink, OtherPlace

__all__ = [
    "BakedField",
    "BakedGroup",
    "Bundle",
    "BundledKind",
    "BundledLink",
    "FoundThing",
    "KindCounts",
    "LeftLink",
    "OtherPlace",
    "StartStatus",
    "TransplantChoices",
    "TransplantForecast",
    "TransplantPlan",
    "baked_groups",
    "first_start",
    "forecast_transplant",
    "read_bundle",
    "set_in_bundle",
    "transplant",
]

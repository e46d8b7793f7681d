"""Worlds: ids by name, what content that goes leaves behind, and how much of everything there is."""

from .census import Census, CensusDifference, compare_censuses, read_census, take_census
from .census_figure import draw_census
from .choices import ContentChoices, Fate
from .consent import Consent, consent_text, read_consent
from .forecast import Forecast, Vanishing, forecast
from .helpers import WayBack, helper_step, way_back
from .landmarks import FoundLandmark, Landmark, find_landmarks, landmark_findings, read_landmark
from .opened import DamagedFile, OpenedWorld, find_worlds, open_world
from .reconcile import ContentChange, ContentRow, Reconciled, reconcile
from .reinstate import reinstate
from .remap import id_lists, remap
from .transplant import (
    BakedField,
    BakedGroup,
    Bundle,
    BundledKind,
    BundledLink,
    FoundThing,
    KindCounts,
    LeftLink,
    OtherPlace,
    StartStatus,
    TransplantChoices,
    TransplantForecast,
    TransplantPlan,
    first_start,
    forecast_transplant,
    read_bundle,
    set_in_bundle,
    transplant,
)
from .work import RemapWork

__all__ = [
    "BakedField",
    "BakedGroup",
    "Bundle",
    "BundledKind",
    "BundledLink",
    "Census",
    "CensusDifference",
    "Consent",
    "ContentChange",
    "ContentChoices",
    "ContentRow",
    "DamagedFile",
    "Fate",
    "Forecast",
    "FoundLandmark",
    "FoundThing",
    "KindCounts",
    "Landmark",
    "LeftLink",
    "OpenedWorld",
    "OtherPlace",
    "Reconciled",
    "RemapWork",
    "StartStatus",
    "TransplantChoices",
    "TransplantForecast",
    "TransplantPlan",
    "Vanishing",
    "WayBack",
    "compare_censuses",
    "consent_text",
    "draw_census",
    "find_landmarks",
    "find_worlds",
    "first_start",
    "forecast",
    "forecast_transplant",
    "helper_step",
    "id_lists",
    "landmark_findings",
    "open_world",
    "read_bundle",
    "read_census",
    "read_consent",
    "read_landmark",
    "reconcile",
    "reinstate",
    "remap",
    "set_in_bundle",
    "take_census",
    "transplant",
    "way_back",
]

"""What commands about worlds print with `--json`, part by part."""

from __future__ import annotations

from msgspec import Struct

from ..finding import Finding

__all__ = [
    "CensusDifferenceOut",
    "CensusOut",
    "DamagedOut",
    "ForecastOut",
    "HelperOut",
    "HelperStepOut",
    "LandmarkOut",
    "ReusedOut",
    "StartOut",
    "TransplantOut",
    "VanishingOut",
]


class VanishingOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """Content that a build does not have, and what a world has of it; `fate` is "" if nobody decided."""

    list: str
    name: str
    number: int
    fate: str
    to: str
    decided_by: str
    perhaps: tuple[str, ...]
    now_means: str
    cells: int
    amount: int
    by_kind: dict[str, int]
    by_file: dict[str, int]
    owners: dict[str, int]
    nearest: int | None
    nearest_at: tuple[int, int] | None
    where: tuple[str, ...]
    worth: float


class ReusedOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A number that means other content in the new list."""

    list: str
    name: str
    number: int
    now: str


class DamagedOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A file of a world that cannot be read, and why."""

    path: str
    why: str


class ForecastOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """What another build does to a world; `lists` count names by what becomes of them."""

    world: str
    id: str
    files: int
    lists: dict[str, dict[str, int]]
    vanishing: list[VanishingOut]
    reused: list[ReusedOut]
    damaged: list[DamagedOut]
    not_found: list[str]
    no_files: list[str]


class CensusOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """What is in a world: amounts by kind and name; `census` is the number of this form."""

    census: int
    world: str
    title: str
    build: str
    counts: dict[str, dict[str, int]]
    worth: dict[str, float]
    tolerance: dict[str, str]
    files: int
    damaged: list[DamagedOut]


class CensusDifferenceOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """One name of which two censuses count another amount."""

    kind: str
    name: str
    before: int
    after: int
    allowed: bool


class LandmarkOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A landmark, and what of it is in the world."""

    name: str
    content: str
    x: int
    z: int
    within: int
    expect: str
    look: str
    count: int
    right: bool
    nearest: tuple[int, int] | None
    where: str


class HelperStepOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """One step of a helper sequence: "done", "skipped", "next" or "later"."""

    step: str
    state: str
    told: str


class HelperOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """Where a helper sequence is; `missed`: the update was made without the first run."""

    helper: str
    next: str | None
    missed: bool
    steps: list[HelperStepOut]


class KindCountsOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """How many things of a kind the old game has, and what becomes of them."""

    kind: str
    count: int
    moved: int
    matched: int
    bundled: int
    stays: int


class BakedFieldOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """One value that a save keeps: as it is there, and as the new build has it; null: it is not there."""

    name: str
    old: str | None
    new: str | None


class BakedGroupOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A group of fields that stay as they were when the game was begun; `source` is what has the new ones."""

    name: str
    why: str
    source: str
    fields: list[BakedFieldOut]


class OtherPlaceOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A thing that gets the nearest place which holds it, and where that is."""

    kind: str
    name: str
    x: float
    z: float


class LeftLinkOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A link of something that moves which will lead nowhere, and why."""

    kind: str
    name: str
    field: str
    why: str


class TransplantOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """What a transplant would do: counts by kind, links that will lead nowhere, and what is baked in."""

    rules: str
    old: str
    new: str
    counts: list[KindCountsOut]
    links_left: int
    baked: list[BakedGroupOut]
    findings: list[Finding]
    places: list[OtherPlaceOut]
    left: list[LeftLinkOut]


class FoundThingOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A landmark: how many things of a kind have the name, and where the first one is."""

    landmark: str
    count: int
    at: tuple[float, float] | None


class StartOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """Whether the game was started with a save; `counts` are things by kind, when it was made and now."""

    save: str
    started: bool
    told: str
    counts: dict[str, tuple[int, int]]
    landmarks: list[FoundThingOut]
    look: str

"""What `--json` prints of migrations: plain values, one class for each kind of object."""

from __future__ import annotations

from msgspec import Struct

from ..finding import Finding
from .printed import Made

__all__ = [
    "FleetOut",
    "MigrationOut",
    "PlannedStepOut",
    "RecoveredOut",
    "SignedOut",
    "StepOut",
    "StepResultOut",
    "SymptomOut",
    "TakenBackOut",
    "WholePlanOut",
]


class StepOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """One step of a migration: `state` is done, next or later; `told` is what came of it."""

    name: str
    kind: str
    state: str
    told: str


class MigrationOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """Where a migration is; `ended` is done or taken back, empty while it is under way.

    `signed` says by whom the parts of the sign-off that is next were signed.
    """

    id: str
    install: str
    source: str
    to: str
    release: str
    runbook: str
    begun: str
    ended: str
    next: str
    signed: dict[str, str]
    steps: list[StepOut]


class StepResultOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """What came of a step: `state` is done, waits, decide or failed."""

    step: str
    state: str
    told: str
    asks: str = ""
    findings: list[Finding] = []
    applied: Made | None = None


class PlannedStepOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """One step of a plan; `later` says why what it changes is not known yet."""

    name: str
    kind: str
    told: str
    files: int
    written_bytes: int
    stored_bytes: int
    seconds: float
    later: str
    is_yours: bool
    findings: list[Finding]


class WholePlanOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """The plan of a migration; the ledger grows by `stored_bytes` at most, of `free_bytes`."""

    install: str
    source: str
    to: str
    release: str
    runbook: str
    seconds: float
    stored_bytes: int
    free_bytes: int
    steps: list[PlannedStepOut]
    findings: list[Finding]


class TakenBackOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """What going back did: its changes, and what is not as it was at the begin."""

    changes: list[str]
    findings: list[Finding]


class RecoveredOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A change that was cut off before, and was finished or taken back first."""

    id: str
    outcome: str


class SignedOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A part that was signed off, by whom and when."""

    part: str
    by: str
    when: str


class FleetInstallOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """One install of a fleet: `state` is done, waits, decide, failed, taken back, planned or error."""

    install: str
    state: str
    told: str
    source: str
    to: str
    migration: str
    totals: dict[str, int]
    seconds: float
    tries: int
    findings: list[Finding]


class FleetOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A fleet: each install, and how many are in each state."""

    installs: list[FleetInstallOut]
    totals: dict[str, int]


class SymptomOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """What a person sees, why it is so, and the remedies, the cheapest first."""

    name: str
    why: str
    remedies: list[str]

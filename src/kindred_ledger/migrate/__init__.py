"""Migrate: the ordered whole, with pauses for what only a person can do, and proof at the end."""

from .migration import Consents, Migration, MigrationStatus, Returned, StepStatus
from .plan import MigrationPlan, PlannedStep, plan_migration
from .rehearsing import rehearse
from .runbook import Runbook, choose_runbook, read_runbook, runbooks_of
from .running import MigrationRun, run_migration
from .steps import State, StepResult
from .usual import usual_runbook

__all__ = [
    "Consents",
    "Migration",
    "MigrationPlan",
    "MigrationRun",
    "MigrationStatus",
    "PlannedStep",
    "Returned",
    "Runbook",
    "State",
    "StepResult",
    "StepStatus",
    "choose_runbook",
    "plan_migration",
    "read_runbook",
    "rehearse",
    "run_migration",
    "runbooks_of",
    "usual_runbook",
]

"""Migrate: the ordered whole, with pauses for what only a person can do, and proof at the end."""

from .card_faults import card_faults
from .choosing import MigrationChoice, choose_migration
from .consents import MigrationConsents
from .fleet import FleetJob, FleetResult, FleetRun, installs_named, migrate_fleet, plan_fleet
from .learning import LearnedMove, learn_move
from .migration import Migration, MigrationStatus, Returned, StepStatus
from .plan import MigrationPlan, PlannedStep, plan_migration
from .processes import process_pool
from .rehearsing import rehearse
from .returning import choose_return
from .runbook import Runbook, choose_runbook, read_runbook, runbooks_of
from .running import MigrationRun, run_migration
from .steps import ResultState, RunbookStep, StepContext, StepResult
from .symptoms import Remedy, Symptom, symptom, symptoms_of
from .usual import usual_runbook

__all__ = [
    "FleetJob",
    "FleetResult",
    "FleetRun",
    "LearnedMove",
    "Migration",
    "MigrationChoice",
    "MigrationConsents",
    "MigrationPlan",
    "MigrationRun",
    "MigrationStatus",
    "PlannedStep",
    "Remedy",
    "ResultState",
    "Returned",
    "Runbook",
    "RunbookStep",
    "StepContext",
    "StepResult",
    "StepStatus",
    "Symptom",
    "card_faults",
    "choose_migration",
    "choose_return",
    "choose_runbook",
    "installs_named",
    "learn_move",
    "migrate_fleet",
    "plan_fleet",
    "plan_migration",
    "process_pool",
    "read_runbook",
    "rehearse",
    "run_migration",
    "runbooks_of",
    "symptom",
    "symptoms_of",
    "usual_runbook",
]

"""The kinds of steps a runbook has; one class each."""

from .base import At, ResultState, Step, StepResult
from .keeping import Prove, Shelve, Store
from .looking import Check, Look
from .operating import Operate
from .waiting import Agree, RunHelper, SignOff, Wait

__all__ = [
    "KINDS_OF_STEPS",
    "Agree",
    "At",
    "Check",
    "Look",
    "Operate",
    "Prove",
    "ResultState",
    "RunHelper",
    "Shelve",
    "SignOff",
    "Step",
    "StepResult",
    "Store",
    "Wait",
]

KINDS_OF_STEPS: dict[str, type[Step]] = {
    str(kind.__struct_config__.tag): kind
    for kind in (Look, Agree, Store, Prove, Shelve, RunHelper, Wait, Check, SignOff)
}

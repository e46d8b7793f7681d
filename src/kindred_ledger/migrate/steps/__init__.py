"""The kinds of steps a runbook has; one class each."""

from .base import At, State, Step, StepResult
from .keeping import Prove, Shelve, Store
from .looking import Check, Look
from .operating import Operate
from .waiting import RunHelper, SignOff, Wait

__all__ = [
    "KINDS_OF_STEPS",
    "At",
    "Check",
    "Look",
    "Operate",
    "Prove",
    "RunHelper",
    "Shelve",
    "SignOff",
    "State",
    "Step",
    "StepResult",
    "Store",
    "Wait",
]

KINDS_OF_STEPS: dict[str, type[Step]] = {
    str(kind.__struct_config__.tag): kind
    for kind in (Look, Store, Prove, Shelve, RunHelper, Wait, Check, SignOff)
}

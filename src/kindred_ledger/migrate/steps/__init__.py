"""The kinds of steps a runbook has; one class each."""

from .base import ResultState, RunbookStep, StepContext, StepResult
from .closing import Close
from .keeping import Prove, Shelve, Store
from .looking import Check, Look
from .operating import Operate
from .waiting import Agree, RunHelper, SignOff, Wait

__all__ = [
    "KINDS_OF_STEPS",
    "Agree",
    "Check",
    "Close",
    "Look",
    "Operate",
    "Prove",
    "ResultState",
    "RunHelper",
    "RunbookStep",
    "Shelve",
    "SignOff",
    "StepContext",
    "StepResult",
    "Store",
    "Wait",
]

KINDS_OF_STEPS: dict[str, type[RunbookStep]] = {
    str(kind.__struct_config__.tag): kind
    for kind in (Look, Close, Agree, Store, Prove, Shelve, RunHelper, Wait, Check, SignOff)
}

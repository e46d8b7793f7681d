"""Changes: changesets, the engine that applies them, recovering and undoing."""

from .actions import Action, actions_between
from .changeset import Changeset
from .confirming import CHECKS, Check, Confirmed, confirm
from .disk import check_space
from .drill import Drilled, drill
from .engine import Applied
from .fitting import fitted
from .groups import take_back, undo_group
from .recover import Recovered, recover
from .restore import restore
from .stage import unfinished_in
from .undo import redo, undo

__all__ = [
    "CHECKS",
    "Action",
    "Applied",
    "Changeset",
    "Check",
    "Confirmed",
    "Drilled",
    "Recovered",
    "actions_between",
    "check_space",
    "confirm",
    "drill",
    "fitted",
    "recover",
    "redo",
    "restore",
    "take_back",
    "undo",
    "undo_group",
    "unfinished_in",
]

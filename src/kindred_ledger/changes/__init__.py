"""Changes: changesets, the engine that applies them, recovering and undoing."""

from .actions import Action, Conflict, Loss, actions_between
from .changeset import Changeset
from .drill import Drilled, drill
from .engine import Applied
from .recover import Recovered, recover
from .restore import restore, undo
from .stage import unfinished_in

__all__ = [
    "Action",
    "Applied",
    "Changeset",
    "Conflict",
    "Drilled",
    "Loss",
    "Recovered",
    "actions_between",
    "drill",
    "recover",
    "restore",
    "undo",
    "unfinished_in",
]

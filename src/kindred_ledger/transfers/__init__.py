"""Transfers: a person's files from one install or machine to another, turns of builds, watching."""

from .carry import CarryChoices, carry
from .carry_files import carry_files, known_as
from .meet import MeetChoices, meet
from .switch import Begin, Turn, live_build, switch
from .watching import Event, Watcher, What

__all__ = [
    "Begin",
    "CarryChoices",
    "Event",
    "MeetChoices",
    "Turn",
    "Watcher",
    "What",
    "carry",
    "carry_files",
    "known_as",
    "live_build",
    "meet",
    "switch",
]

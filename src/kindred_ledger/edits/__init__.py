"""Edits: what somebody changed in the files of a release, found, kept and put onto other releases."""

from .edit_set import EditedFile, EditRow, EditSet, LineEdit, SetRecord, ValueEdit
from .origin import BaseMatch, find_base
from .putting import put_edits
from .reapply import ReapplyChoices, reapply
from .sets import combine_edits, drop_edits
from .taking import take_edits

__all__ = [
    "BaseMatch",
    "EditRow",
    "EditSet",
    "EditedFile",
    "LineEdit",
    "ReapplyChoices",
    "SetRecord",
    "ValueEdit",
    "combine_edits",
    "drop_edits",
    "find_base",
    "put_edits",
    "reapply",
    "take_edits",
]

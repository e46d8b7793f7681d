"""Edits: what somebody changed in the files of a release, found, kept and put onto other releases."""

from .edit_set import EditedFile, EditRow, EditSet, LineEdit, SetRecord, ValueEdit
from .origin import BaseMatch, match_bases
from .putting import put_edits
from .reapply import ReapplyChoices, reapply
from .sets import combine_edits, drop_edits
from .tables import FileTable, read_table, tables_in, write_table
from .taking import take_edits

__all__ = [
    "BaseMatch",
    "EditRow",
    "EditSet",
    "EditedFile",
    "FileTable",
    "LineEdit",
    "ReapplyChoices",
    "SetRecord",
    "ValueEdit",
    "combine_edits",
    "drop_edits",
    "match_bases",
    "put_edits",
    "read_table",
    "reapply",
    "tables_in",
    "take_edits",
    "write_table",
]

"""Merging settings key by key: my values into the other install's file, with nothing both came from.

A key both have gets my value; a key only the target has keeps its own; one that only I have is added:
files often leave out what stands at its default. Lists of records, and repeated elements, are merged by
the field that names their records; a list without one, or a key that is a mapping on one side only, is
refused: nothing of the target's goes without being told. What the target's file is otherwise made of
(order, comments, number text) stays.
"""

from __future__ import annotations

from ..cards import Format
from ..errors import FormatError
from ..formats import Path
from ..merge import Choice, FileMerge, How, Question, Rule, Three, merge_files

__all__ = ["merge_settings"]

_MINE = Rule(Choice.MINE, lambda path: True, said="your value")


def merge_settings(format: Format, mine: bytes, theirs: bytes, *, name: str) -> FileMerge:
    """Put the values of `mine` into `theirs`; both are files of one format and version.

    The version a file says it has is the target's own.

    Raises:
        FormatError: one of them cannot be read, is no text of keys and values, or holds a list whose
            records nothing names.
    """
    if not isinstance(format.decode(mine).get(()), dict):
        raise FormatError(
            "it is a list or a single value, which has no keys to merge by", where=name
        )
    how = How(
        name,
        format.table.codec,
        format.decode,
        version_path=tuple(format.version_path),
        keys=format.record_keys,
        known=False,
        asked=_mine_if_single,
    )
    merge = merge_files(Three(None, mine, theirs), how)
    for question in merge.conflicts:
        raise _refused(question)
    return merge


def _mine_if_single(path: Path, question: Question) -> Rule | None:
    """Say that my value counts, where it is one."""
    sides = question.mine, question.theirs
    single = not any(isinstance(value, (dict, list)) for value in sides)
    return _MINE if question.case.is_conflict and single else None


def _refused(question: Question) -> FormatError:
    if isinstance(question.mine, list) and isinstance(question.theirs, list):
        what = (
            "the lists differ, and no field names their records: one would lose what the other has"
        )
    else:
        what = "it is a single value on one side and holds others on the other side"
    return FormatError(what, where=question.where)

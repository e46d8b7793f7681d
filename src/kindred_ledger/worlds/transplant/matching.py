"""Matching: what in the new surroundings is the same as something of the old ones, by name or key.

What always holds: a match is one to one. What two things are called is no match, on whichever side.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ...errors import FormatError
from ...formats import Values, Words, distinct
from .thing_table import ThingTable, WholeNumbers

__all__ = ["ABSENT", "AMBIGUOUS", "match_things"]

ABSENT, AMBIGUOUS = -1, -2  # in place of a row: nothing is called so; several are


def match_things(
    old: ThingTable, rows: WholeNumbers, new: ThingTable, fields: list[str]
) -> WholeNumbers:
    """Return which thing of the new surroundings each of the old ones is: `(n_rows,)`, by these fields.

    Raises:
        FormatError: the fields of the two are not there, or hold lists.
    """
    if not len(rows) or not new.count:
        return np.full(len(rows), ABSENT, np.int64)
    keys = np.zeros(old.count + new.count, np.int64)
    for field in fields:
        codes = _together(old.values(field), new.values(field))
        keys = np.unique(keys * (int(codes.max()) + 1) + codes, return_inverse=True)[1]
    mine, theirs = keys[: old.count], keys[old.count :]
    many_old = np.bincount(mine, minlength=len(keys) + 1)
    many_new = np.bincount(theirs, minlength=len(keys) + 1)
    where = np.full(len(keys) + 1, ABSENT, np.int64)
    where[theirs] = np.arange(new.count)
    found = where[mine[rows]]
    double = (many_old[mine[rows]] > 1) | (many_new[mine[rows]] > 1)
    return np.where((found >= 0) & double, AMBIGUOUS, found)


def _together(one: Any, other: Any) -> WholeNumbers:
    """Return numbers for the values of two columns, one behind the other: the same for equal values."""
    arrays = isinstance(one, np.ndarray) and isinstance(other, np.ndarray)
    if arrays and one.dtype.kind in "iu" and other.dtype.kind in "iu":
        return np.unique(np.concatenate((one, other)), return_inverse=True)[1].astype(np.int64)
    numbers: dict[Any, int] = {}
    parts = []
    for column in (one, other):
        found = (
            Values(column.codes, column.texts) if isinstance(column, Words) else distinct(column)
        )
        if any(isinstance(value, (dict, list)) for value in found.values):
            raise FormatError("things are matched by single values")
        codes = [
            numbers.setdefault((isinstance(value, str), value), len(numbers))
            for value in found.values
        ]
        parts.append(np.array(codes, np.int64)[found.codes])
    return np.concatenate(parts)

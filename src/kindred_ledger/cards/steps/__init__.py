"""The kinds of steps that a card can say, one module a kind.

A new kind is a module with a class of `Step` and its name in `KINDS`; nothing else knows of kinds.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from ...errors import UsageError
from ...suggestions import hint
from .default import Default
from .drop import Drop
from .drop_files import DropFiles
from .hook import Hook
from .join import Join
from .kind import Editing, Row, Step, Tables
from .map_values import MapValues
from .move import Move
from .move_files import MoveFiles
from .rename import Rename
from .renumber import Renumber
from .reorder import Reorder
from .require import Require
from .rescale import Rescale
from .retype import Retype
from .set_value import SetValue
from .split import Split
from .values import as_key, exact, spelled

__all__ = [
    "KINDS",
    "Editing",
    "Row",
    "Step",
    "Tables",
    "as_key",
    "exact",
    "read_step",
    "row_faults",
    "spelled",
]

KINDS: Mapping[str, type[Step]] = {
    kind.verb: kind
    for kind in (
        Require, Rename, Move, SetValue, Default, MapValues, Retype, Rescale, Split, Join, Reorder,
        Renumber, Drop, Hook, MoveFiles, DropFiles,
    )
}  # fmt: skip


def read_step(row: Row, tables: Tables) -> Step:
    """Make a step of one `do` row of a card.

    Raises:
        UsageError: the row says what no step can be.
    """
    return KINDS[next(name for name in row if name in KINDS)].read(row, tables)


def row_faults(row: dict[str, Any], tables: Tables) -> Iterator[str]:
    """Yield what is wrong with a row: its keys first, then what they say."""
    verbs = [name for name in row if name in KINDS]
    if len(verbs) != 1:
        near = "".join(hint(name, KINDS) for name in row if name not in KINDS)
        yield f"expected exactly one of {', '.join(KINDS)}{near}"
        return
    kind = KINDS[verbs[0]]
    allowed = (*kind.needs, *kind.allows)
    faults = [
        f"unknown key {name!r} for {kind.verb}{hint(name, allowed)}"
        for name in row
        if name not in (kind.verb, *allowed)
    ]
    faults += [f"{kind.verb} needs {name!r}" for name in kind.needs if name not in row]
    yield from faults
    if not faults:
        try:
            kind.read(row, tables)
        except UsageError as error:
            remedy = error.remedy if "\n" not in error.remedy else ""
            yield " ".join(filter(None, (error.what, remedy)))

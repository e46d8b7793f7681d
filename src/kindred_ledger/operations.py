"""Operations by their kind: made of plain values, as JSON or a table of a card has them.

>>> read_operation({"operation": "undo", "change": "latest"})
Undo(change='latest')
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec

from .convert.operations import Convert, Rescue
from .edits.operations import PutEdits, PutTable, Reapply
from .errors import UsageError
from .mods.operations import (
    CheckMods,
    PlaceTestCopy,
    Relink,
    RemoveLibrary,
    SwapLibrary,
    TrimMod,
    TrySuspects,
)
from .patches.operations import ApplyPatch
from .planning.context import Context
from .planning.operation import Operation
from .planning.reverting import Redo, Restore, Undo
from .suggestions import did_you_mean
from .transfers.operations import Carry, CarryFiles, Meet, Switch
from .updates.operations import (
    Assemble,
    InstallBeside,
    Reinstall,
    RemoveMarker,
    ResetSettings,
    Update,
    WriteMarker,
)
from .worlds.operations import Reinstate, Remap, SetInBundle, StepHelper, Transplant

__all__ = [
    "KINDS",
    "ApplyPatch",
    "Assemble",
    "Carry",
    "CarryFiles",
    "CheckMods",
    "Context",
    "Convert",
    "InstallBeside",
    "Meet",
    "Operation",
    "PlaceTestCopy",
    "PutEdits",
    "PutTable",
    "Reapply",
    "Redo",
    "Reinstall",
    "Reinstate",
    "Relink",
    "Remap",
    "RemoveLibrary",
    "RemoveMarker",
    "Rescue",
    "ResetSettings",
    "Restore",
    "SetInBundle",
    "StepHelper",
    "SwapLibrary",
    "Switch",
    "Transplant",
    "TrimMod",
    "TrySuspects",
    "Undo",
    "Update",
    "WriteMarker",
    "read_operation",
]

KINDS: Mapping[str, type[Operation]] = {
    str(kind.__struct_config__.tag): kind
    for kind in (
        Update, Reinstall, ResetSettings, WriteMarker, RemoveMarker, InstallBeside, Assemble, Convert,
        Rescue, ApplyPatch, Carry, CarryFiles, Meet, Switch, Restore, Undo, Redo, Reapply,
        PutEdits, PutTable, CheckMods, TrimMod, Relink, SwapLibrary, RemoveLibrary, PlaceTestCopy,
        TrySuspects, Remap, Reinstate, StepHelper, Transplant, SetInBundle,
    )
}  # fmt: skip


def read_operation(values: Mapping[str, Any]) -> Operation:
    """Make an operation of plain values: its kind under `operation`, and its fields.

    Raises:
        UsageError: there is no such kind or field, one is missing, or a value is of the wrong kind.

    >>> kl.read_operation({"operation": "convert", "what": "mossferry", "to": "2.0"})
    Convert(what='mossferry', to='2.0', ...)
    """
    name = str(values.get("operation", ""))
    if name not in KINDS:
        raise UsageError(f"there is no operation {name!r}", remedy=did_you_mean(name, KINDS))
    kind = KINDS[name]
    known = [field.name for field in msgspec.structs.fields(kind)]
    for key in values:
        if key not in ("operation", *known):
            raise UsageError(f"{name} has no field {key!r}", remedy=did_you_mean(str(key), known))
    try:
        return msgspec.convert(dict(values), kind)
    except msgspec.ValidationError as error:
        raise UsageError(
            f"this is no {name}: {error}", remedy=f"Its fields are: {', '.join(known)}."
        ) from error

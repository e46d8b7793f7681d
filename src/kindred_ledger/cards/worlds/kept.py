"""The id lists of a build as entries keep them, so that a world can be read when the program is gone."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping

from ...errors import KindredError
from ...places import Place, read_bytes
from .id_sources import read_id_list
from .kind import WorldKind

__all__ = ["lists_of_build"]


def lists_of_build(kinds: Mapping[str, WorldKind], place: Place) -> dict[str, bytes]:
    """Return the lists of the build in a place, packed, by `WORLDS.LIST`.

    One that is not there, or cannot be read, is left out: a backup does not fail because of it.
    """
    out = {}
    for kind in kinds.values():
        for name, table in kind.table.lists.items():
            path = table.build.file.lstrip("/")
            with contextlib.suppress(KindredError, OSError):
                data = read_bytes(place, path)
                ids = read_id_list(data, table.build, origin=path)
                out[f"{kind.name}.{name}"] = ids.packed()
    return out

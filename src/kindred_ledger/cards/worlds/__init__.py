"""What cards say about worlds: where they lie, what their numbers mean, and where those stand."""

from .id_list import IdList, folded_name
from .id_sources import compile_line, read_id_list, with_id_list
from .kind import Field, World, WorldKind, chained, worlds_faults

__all__ = [
    "Field",
    "IdList",
    "World",
    "WorldKind",
    "chained",
    "compile_line",
    "folded_name",
    "read_id_list",
    "with_id_list",
    "worlds_faults",
]

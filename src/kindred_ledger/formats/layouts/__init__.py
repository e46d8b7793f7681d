"""Layouts: binary formats described once, in all their versions, to be read and written."""

from .checking import LayoutReport, check_layout
from .document import LayoutDocument
from .drafting import draft_layout
from .dump import DumpLine, dump, dump_part
from .inventing import invent
from .language import LayoutError
from .layout import Layout
from .positions import likely_positions, positions_in
from .storing import Ragged
from .versions import Coming, changes_between

__all__ = [
    "Coming",
    "DumpLine",
    "Layout",
    "LayoutDocument",
    "LayoutError",
    "LayoutReport",
    "Ragged",
    "changes_between",
    "check_layout",
    "draft_layout",
    "dump",
    "dump_part",
    "invent",
    "likely_positions",
    "positions_in",
]

"""Formats: what is inside files, read and edited without disturbing the rest."""

from .codecs import CODECS, FOLDER, LAYOUT, codec_names, decode, decode_folder, load_layout
from .columns import (
    Columns,
    Tabular,
    Values,
    Words,
    as_tabular,
    distinct,
    joined,
    runs_together,
    single_kind,
    taken,
    words_of,
)
from .differences import FieldDifference, field_differences
from .document import (
    ANY,
    Document,
    Leaf,
    Path,
    as_path,
    format_path,
    parse_path,
    paths_as_text,
    same_value,
)
from .kinds import HEAD, FileKind, confirm, kind_of, likely_kinds, misnamed, valid
from .lookup import look_up, values_at
from .stretches import Stretch, as_stretched
from .text import Text

TYPE_CHECKING = False
if TYPE_CHECKING:
    from .layouts import Layout, LayoutDocument, LayoutError, changes_between, invent

__all__ = [
    "ANY",
    "CODECS",
    "FOLDER",
    "HEAD",
    "LAYOUT",
    "Columns",
    "Document",
    "FieldDifference",
    "FileKind",
    "Layout",
    "LayoutDocument",
    "LayoutError",
    "Leaf",
    "Path",
    "Stretch",
    "Tabular",
    "Text",
    "Values",
    "Words",
    "as_path",
    "as_stretched",
    "as_tabular",
    "changes_between",
    "codec_names",
    "confirm",
    "decode",
    "decode_folder",
    "distinct",
    "field_differences",
    "format_path",
    "invent",
    "joined",
    "kind_of",
    "likely_kinds",
    "load_layout",
    "look_up",
    "misnamed",
    "parse_path",
    "paths_as_text",
    "runs_together",
    "same_value",
    "single_kind",
    "taken",
    "valid",
    "values_at",
    "words_of",
]


def __getattr__(name: str) -> object:
    """Import layouts when they are first used: most files of a title are not binary."""
    if name not in ("Layout", "LayoutDocument", "LayoutError", "changes_between", "invent"):
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    found: object = getattr(import_module(".layouts", __name__), name)
    return found

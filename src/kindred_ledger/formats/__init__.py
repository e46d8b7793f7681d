"""Formats: what is inside files, read and edited without disturbing the rest."""

from .codecs import CODECS, LAYOUT, decode
from .differences import FieldDifference, field_differences
from .document import ANY, Document, Leaf, Path, format_path, parse_path, same_value
from .kinds import HEAD, Finding, confirm, kind_of, misnamed
from .layouts import Layout, LayoutDocument, LayoutError
from .lookup import look_up

__all__ = [
    "ANY",
    "CODECS",
    "HEAD",
    "LAYOUT",
    "Document",
    "FieldDifference",
    "Finding",
    "Layout",
    "LayoutDocument",
    "LayoutError",
    "Leaf",
    "Path",
    "confirm",
    "decode",
    "field_differences",
    "format_path",
    "kind_of",
    "look_up",
    "misnamed",
    "parse_path",
    "same_value",
]

"""Formats: what is inside files, read and edited without disturbing the rest."""

from .codecs import CODECS, LAYOUT, decode
from .differences import FieldDifference, field_differences
from .document import ANY, Document, Leaf, Path, format_path, parse_path, same_value
from .layouts import Layout, LayoutDocument, LayoutError
from .lookup import look_up

__all__ = [
    "ANY",
    "CODECS",
    "LAYOUT",
    "Document",
    "FieldDifference",
    "Layout",
    "LayoutDocument",
    "LayoutError",
    "Leaf",
    "Path",
    "decode",
    "field_differences",
    "format_path",
    "look_up",
    "parse_path",
    "same_value",
]

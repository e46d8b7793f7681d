"""Formats: what is inside files, read and edited without disturbing the rest."""

from .codecs import CODECS, decode
from .differences import FieldDifference, field_differences
from .document import ANY, Document, Leaf, Path, format_path, parse_path, same_value
from .lookup import look_up

__all__ = [
    "ANY",
    "CODECS",
    "Document",
    "FieldDifference",
    "Leaf",
    "Path",
    "decode",
    "field_differences",
    "format_path",
    "look_up",
    "parse_path",
    "same_value",
]

"""Formats: what is inside files, read and edited without disturbing the rest."""

from .codecs import CODECS, decode
from .document import ANY, Document, Leaf, Path, format_path, parse_path, same_value
from .lookup import READABLE, look_up

__all__ = [
    "ANY",
    "CODECS",
    "READABLE",
    "Document",
    "Leaf",
    "Path",
    "decode",
    "format_path",
    "look_up",
    "parse_path",
    "same_value",
]

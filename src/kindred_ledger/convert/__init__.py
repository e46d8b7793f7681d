"""Conversion: from one format version to another, with books that balance."""

from .converter import Converted, convert_bytes, format_version, route_for
from .operation import Fitted, convert_install, fit_file, unread_by
from .routes import Hop, find_route

__all__ = [
    "Converted",
    "Fitted",
    "Hop",
    "convert_bytes",
    "convert_install",
    "find_route",
    "fit_file",
    "format_version",
    "route_for",
    "unread_by",
]

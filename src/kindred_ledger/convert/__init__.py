"""Conversion: from one format version to another, with books that balance."""

from .converter import Converted, Converter, convert_bytes, format_version, hops_of, route_for
from .operation import Fitted, convert_install, fit_file, unread_by
from .routes import Hop, find_route

__all__ = [
    "Converted",
    "Converter",
    "Fitted",
    "Hop",
    "convert_bytes",
    "convert_install",
    "find_route",
    "fit_file",
    "format_version",
    "hops_of",
    "route_for",
    "unread_by",
]

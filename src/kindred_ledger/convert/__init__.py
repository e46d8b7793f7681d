"""Conversion: from one format version to another, with books that balance."""

from .bulk import ResultCache
from .checking import CardReport, Sample, check_card
from .converter import (
    Converted,
    Converter,
    convert_bytes,
    format_version,
    hops_of,
    knows,
    route_for,
)
from .converting import (
    Fitted,
    Work,
    convert_files,
    convert_install,
    fit_among,
    fit_file,
    unread_by,
)
from .fields import Fields
from .merging import MergedFile, NotMerged, merge_inside
from .proof import Proof, prove
from .proving import prove_files, prove_install
from .rescue import Rescue, gaps_of, rescue, rescue_file
from .routes import Hop, find_route
from .routing import FileRoute, routes_in
from .wording import StepDescription, describe_step

__all__ = [
    "CardReport",
    "Converted",
    "Converter",
    "Fields",
    "FileRoute",
    "Fitted",
    "Hop",
    "MergedFile",
    "NotMerged",
    "Proof",
    "Rescue",
    "ResultCache",
    "Sample",
    "StepDescription",
    "Work",
    "check_card",
    "convert_bytes",
    "convert_files",
    "convert_install",
    "describe_step",
    "find_route",
    "fit_among",
    "fit_file",
    "format_version",
    "gaps_of",
    "hops_of",
    "knows",
    "merge_inside",
    "prove",
    "prove_files",
    "prove_install",
    "rescue",
    "rescue_file",
    "route_for",
    "routes_in",
    "unread_by",
]

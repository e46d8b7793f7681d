"""Merging: what two descendants of one base did, put together. Computes only; see `sides` for the table."""

from .alignment import aligned
from .differences import Difference, Index, differences, name_of, put_differences, resolved
from .documents import DocumentMerge, edit_document, merge_documents, values_of
from .files import merge_files, readers_of
from .keys import BY_NUMBER, Keys, are_alike, frozen, same
from .lines import LineMerge, lines_of, merge_lines
from .naming import At, Named, read_at, write_at
from .outcome import Counts, FileMerge, How, Three
from .policy import Choice, Policy, Rule, fits, named_fields
from .resolutions import (
    Resolution,
    read_resolutions,
    rules_of,
    with_conflicts,
    write_resolutions,
)
from .sides import ABSENT, Case, Question, Side, case_of, told
from .trees import PathDecision, decide_path, digests_of, merge_trees
from .values import Decided, Edit, New, ValueMerge, merge_values, record_name

__all__ = [
    "ABSENT",
    "BY_NUMBER",
    "At",
    "Case",
    "Choice",
    "Counts",
    "Decided",
    "Difference",
    "DocumentMerge",
    "Edit",
    "FileMerge",
    "How",
    "Index",
    "Keys",
    "LineMerge",
    "Named",
    "New",
    "PathDecision",
    "Policy",
    "Question",
    "Resolution",
    "Rule",
    "Side",
    "Three",
    "ValueMerge",
    "aligned",
    "are_alike",
    "case_of",
    "decide_path",
    "differences",
    "digests_of",
    "edit_document",
    "fits",
    "frozen",
    "lines_of",
    "merge_documents",
    "merge_files",
    "merge_lines",
    "merge_trees",
    "merge_values",
    "name_of",
    "named_fields",
    "put_differences",
    "read_at",
    "read_resolutions",
    "readers_of",
    "record_name",
    "resolved",
    "rules_of",
    "same",
    "told",
    "values_of",
    "with_conflicts",
    "write_at",
    "write_resolutions",
]

"""Merging: what two descendants of one base did, put together. Computes only; see `sides` for the table."""

from .documents import DocumentMerge, merge_documents
from .files import merge_files
from .keys import Keys, frozen
from .lines import LineMerge, merge_lines
from .outcome import Counts, FileMerge, How, Three
from .policy import Choice, Policy, Rule, named_fields
from .resolutions import (
    Resolution,
    read_resolutions,
    rules_of,
    with_conflicts,
    write_resolutions,
)
from .sides import ABSENT, Case, Question, Side, case_of
from .trees import PathDecision, decide_path, digests_of, merge_trees
from .values import Decided, ValueMerge, merge_values

__all__ = [
    "ABSENT",
    "Case",
    "Choice",
    "Counts",
    "Decided",
    "DocumentMerge",
    "FileMerge",
    "How",
    "Keys",
    "LineMerge",
    "PathDecision",
    "Policy",
    "Question",
    "Resolution",
    "Rule",
    "Side",
    "Three",
    "ValueMerge",
    "case_of",
    "decide_path",
    "digests_of",
    "frozen",
    "merge_documents",
    "merge_files",
    "merge_lines",
    "merge_trees",
    "merge_values",
    "named_fields",
    "read_resolutions",
    "rules_of",
    "with_conflicts",
    "write_resolutions",
]

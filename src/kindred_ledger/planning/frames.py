"""Frames: entries, changes, findings, statements and tables as pandas data frames (the extra `data`)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING, Any

from ..errors import UsageError
from ..finding import Finding
from ..ledger import Entry, Record
from ..notebook import frame_of

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["to_frame"]

_Reader = Callable[[Any], Any]

_OF_ENTRY: Mapping[str, _Reader] = {
    "id": lambda entry: entry.id,
    "when": lambda entry: entry.when,
    "title": lambda entry: entry.tag.title,
    "version": lambda entry: entry.tag.version,
    "files": lambda entry: entry.files,
    "size_bytes": lambda entry: entry.size_bytes,
    "complete": lambda entry: entry.complete,
    "reason": lambda entry: entry.reason,
    "note": lambda entry: entry.note,
    "pinned": lambda entry: entry.pinned,
    "machine": lambda entry: entry.machine,
}
_OF_RECORD: Mapping[str, _Reader] = {
    "id": lambda record: record.id,
    "when": lambda record: record.when,
    "operation": lambda record: record.operation,
    "summary": lambda record: record.summary,
    "entry": lambda record: record.entry,
    "version": lambda record: record.tag.version,
    "version_after": lambda record: record.version_after,
    "undoes": lambda record: record.undoes,
    "group": lambda record: record.group,
    "touched": lambda record: record.touched,
    "machine": lambda record: record.machine,
}
_OF_FINDING: Mapping[str, _Reader] = {
    "code": lambda finding: finding.code,
    "severity": lambda finding: finding.severity.value,
    "where": lambda finding: finding.where,
    "field": lambda finding: finding.field,
    "what": lambda finding: finding.what,
    "remedy": lambda finding: finding.remedy,
}
_COLUMNS: Mapping[type, Mapping[str, _Reader]] = {
    Entry: _OF_ENTRY,
    Record: _OF_RECORD,
    Finding: _OF_FINDING,
}


def to_frame(values: Any) -> DataFrame:
    """Return a statement, comparison or table, or a list of entries, changes or findings, as a data frame.

    A table is a NumPy structured array of shape (n_rows,): a column a field. Times are texts in ISO 8601
    (UTC), sizes are bytes.

    Raises:
        UsageError: pandas is not installed, or it is none of these.

    >>> _ = ledger.backup(install)
    >>> kl.to_frame(ledger.entries())[["title", "version"]]
           title version
    0  mossferry     1.4
    """
    own = getattr(values, "to_frame", None)
    if own is not None:
        frame: DataFrame = own()
        return frame
    if getattr(getattr(values, "dtype", None), "names", None):  # a structured array of NumPy
        return frame_of({name: values[name] for name in values.dtype.names})
    rows = list(values) if isinstance(values, Iterable) else [values]
    kinds = {type(row) for row in rows}
    if len(kinds) == 1 and (columns := _COLUMNS.get(kinds.pop())) is not None:
        return frame_of({name: list(map(read, rows)) for name, read in columns.items()})
    if isinstance(values, list) and not values:
        return frame_of({})
    raise UsageError(
        f"there is no data frame of {type(values).__name__}",
        remedy="Give a statement, a comparison, a table, or a list of entries, changes or findings.",
    )

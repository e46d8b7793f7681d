"""Taking edits: what differs between a release and somebody's files, as an edit set."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from blake3 import blake3

from ..cards import Card, Install
from ..convert import format_version
from ..errors import FormatError, KindredError
from ..formats import Text
from ..ledger import Ledger
from ..merge import (
    Case,
    Difference,
    Index,
    Keys,
    Named,
    aligned,
    differences,
    lines_of,
    merge_trees,
    put_differences,
    resolved,
    same,
    values_of,
    write_at,
)
from ..places import FILE, AnyPlace, read_bytes
from ..planning.reading import Reading, read_as
from ..progress import Progress
from .edit_set import EditedFile, EditSet, LineEdit, SetRecord, ValueEdit
from .reapply import base_of, card_of, whole_copy
from .sides import Side, opened_side

__all__ = ["take_edits", "taken_from"]

_CONTEXT = 3  # lines above and below


def take_edits(
    mine: Install | AnyPlace,
    *,
    ledger: Ledger,
    old: Install | AnyPlace | None = None,
    card: Card | None = None,
    whole: bool | None = None,
    by: str = "",
    note: str = "",
    progress: Progress | None = None,
) -> EditSet:
    """Return what somebody changed in the files of a release.

    `old` is that release; without it the shelf is asked, which needs the `card` of the title. `whole` says
    whether mine is a whole copy, so that what it lacks was removed; None finds out.

    Raises:
        UsageError: the base is not known, or it is of another version than mine.
        DecisionNeeded: several releases could be the base, or mine may be a whole copy or a part.
        PlaceError: a side cannot be read.

    >>> edits = kl.take_edits(install, old="downloads/mossferry-1.4.zip", ledger=ledger)
    >>> edits.values[0].at, str(edits.values[0].before), str(edits.values[0].after)
    ('Tides.spring', '2.40', '3.10')
    """
    card = card or card_of(mine, old)
    own = opened_side(mine, card, ledger=ledger, progress=progress)
    base, _ = base_of(own, old, card, ledger=ledger, progress=progress)
    own, _ = whole_copy(own, base, whole)
    taken = _Taken(base, own, card)
    for path in merge_trees(base.tree, own.tree, base.tree):
        if path.case is not Case.UNCHANGED:
            taken.file(path.path)
    version = base.version or own.version
    return EditSet(
        title=card.title if card is not None else "",
        base=base.name if base.name.count("@") == 1 else "",
        version=version.text if version is not None else "",
        by=by,
        note=note,
        files=tuple(taken.files),
        values=tuple(taken.values),
        lines=tuple(taken.lines),
        records=tuple(taken.records),
        contents=taken.contents,
    )


class _Taken:
    """The edits that were found so far."""

    def __init__(self, base: Side, mine: Side, card: Card | None) -> None:
        self._base, self._mine, self._card = base, mine, card
        self.files: list[EditedFile] = []
        self.values: list[ValueEdit] = []
        self.lines: list[LineEdit] = []
        self.records: list[SetRecord] = []
        self.contents: dict[str, bytes] = {}

    def file(self, path: str) -> None:
        """Take what differs in one file."""
        old, new = self._base.tree.get(path), self._mine.tree.get(path)
        before = old.digest.hex() if old is not None and old.digest else ""
        if new is None or new.kind != FILE:
            self.files.append(EditedFile(path, "removed", before))
            return
        data = read_bytes(self._mine.place, path)
        if old is None or old.kind != FILE:
            self._content(path, "added", "", data)
            return
        was = read_bytes(self._base.place, path)
        try:
            if self._inside(path, before, was, data):
                return
        except KindredError:
            pass  # what is in it is not known, or not told by values: then it is one whole
        self._content(path, "whole", before, data)

    def _content(self, path: str, kind: str, before: str, data: bytes) -> None:
        digest = blake3(data).hexdigest()
        self.contents[digest] = data
        self.files.append(EditedFile(path, kind, before, digest))

    def _inside(self, path: str, before: str, was: bytes, data: bytes) -> bool:
        reading = read_as(path, (was, data), self._card)
        if not reading.is_lines:
            taken = taken_from(reading, was, data, path)
            if taken is not None:
                found, exact = taken
                version = (
                    str(format_version(was, reading.format, name=path)) if reading.format else ""
                )
                self.files.append(
                    EditedFile(
                        path,
                        "values",
                        before,
                        codec=reading.codec,
                        format=version,
                        restyled=not exact,
                    )
                )
                self.values += (_edit(path, each) for each in found)
                self.records += _records(path, found, values_of(reading.decode(was)))
                return True
        hunks = _hunks(path, was, data)
        if hunks is None:
            return False
        self.files.append(EditedFile(path, "lines", before))
        self.lines += hunks
        return True


def taken_from(
    reading: Reading, was: bytes, data: bytes, path: str
) -> tuple[tuple[Difference, ...], bool] | None:
    """Return the differences of two files that, put into the first, give the second; None if none do.

    And whether they give its very bytes, with its comments and spaces.

    Raises:
        FormatError: one of them cannot be read, or cannot hold what the other does.
    """
    format = reading.format
    if format is not None:
        old, new = (format_version(side, format, name=path) for side in (was, data))
        if old != new:
            return None
    document = reading.decode(was)
    old, new = values_of(document), values_of(reading.decode(data))
    found = differences(old, new, Keys(reading.keys))
    if not found:
        return None  # what differs are comments, order or spaces
    put_differences(document, old, found, lambda each: each.after)
    written = document.encode()
    return (found, written == data) if same(values_of(reading.decode(written)), new) else None


def _edit(path: str, each: Difference) -> ValueEdit:
    behind = write_at((each.behind,)) if each.behind is not None else ""
    return ValueEdit(path, write_at(each.at), each.before, each.after, behind)


def _records(path: str, found: Sequence[Difference], old: Any) -> list[SetRecord]:
    """Return what the records that were edited held before."""
    out: dict[str, SetRecord] = {}
    index: Index = {}
    for each in found:
        numbers = [n for n, part in enumerate(each.at) if isinstance(part, Named)]
        if not numbers or each.is_record:
            continue
        at = each.at[: numbers[-1] + 1]
        where = resolved(old, at, index)
        if where is not None and write_at(at) not in out:
            value = old
            for part in where:
                value = value[part]
            out[write_at(at)] = SetRecord(path, write_at(at), value)
    return list(out.values())


def _hunks(path: str, was: bytes, data: bytes) -> list[LineEdit] | None:
    """Return the runs of lines that differ, with those around them; None if it is no text, or they do not."""
    try:
        old, new = (lines_of(Text.decode(each).text).lines for each in (was, data))
    except FormatError:
        return None
    if b"\0" in was or b"\0" in data:
        return None
    hunks = []
    start = begin = 0
    for at, there in [*aligned(old, new), (len(old), len(new))]:
        if at > start or there > begin:
            hunks.append(
                LineEdit(
                    path,
                    tuple(old[start:at]),
                    tuple(new[begin:there]),
                    tuple(old[max(0, start - _CONTEXT) : start]),
                    tuple(old[at : at + _CONTEXT]),
                )
            )
        start, begin = at + 1, there + 1
    return hunks or None

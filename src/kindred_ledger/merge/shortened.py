"""Large tables in text files, merged without the records about which nothing has to be decided.

Nearly all of a large table is as it was. Records that stand at one place on all sides, and that at most one
side changed, need no merging: they are left out of the three files, what is left is merged as any file is,
and they are put back behind the record they stood behind, as whoever changed them has them. What a person is
told stays the same: the field that names records is checked against those that were left out, every change
in them is told, and they are counted.

Of objects of JSON and elements of XML over several lines only those are left out that all sides have alike.
Whatever is not plain enough for that (quotes in CSV, a key that is not unique) is merged whole.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterator, Sequence
from functools import cache
from itertools import chain
from operator import eq
from typing import Any

from msgspec import Struct

from .alignment import runs_that_stand_once
from .keys import Keys
from .outcome import Three
from .plain_records import (
    Cells,
    Form,
    Records,
    cells_of,
    form_of,
    is_plain,
    is_sound,
    read_records,
    spans_of,
    units_of,
)
from .settled import Settled
from .sides import Case

__all__ = ["Shortened", "shortened"]

_LEAST = 2000  # units; smaller files are merged whole
_SHORTEST = 8  # units of a run that are worth leaving out
_SAMPLED = 61  # a unit out of so many tells whether all stand where they stood
_KEPT = 1  # at each end of it: what changes stand beside


class _Change(Struct, gc=False):  # of thousands; none of them refers to another
    """A record that one side changed, or both alike: the unit of each side and of the result.

    `fields` are those that differ: name, value in mine and in the result, one after the other.
    """

    base: bytes
    mine: bytes
    theirs: bytes
    result: bytes
    case: Case
    fields: tuple[Any, ...]


class _Run(Struct):
    """Units that are left out, and those they stand between; `changed` are records among them."""

    before: bytes
    units: list[bytes]
    behind: bytes
    changed: list[_Change]


class Shortened(Struct):
    """Three files without the records that need no merging, and those, by where they stood."""

    three: Three
    form: Form
    records: Records
    runs: list[_Run]
    read: Callable[[bytes], Cells]

    @property
    def codec(self) -> str:
        """What the files are read by."""
        return self.form.codec

    @property
    def fields(self) -> int:
        """How many fields there are in what was left out."""
        return self.records.fields

    def restored(self, data: bytes, decode: Callable[[bytes], Any]) -> bytes | None:
        """Return a merged file with what was left out; None if a place is not where it was.

        The whole is taken apart again, and must have the very units that were put together, and read.
        """
        units = self._filled(data, lambda run: run.units)
        if units is None:
            return None
        whole = b"".join(units)
        is_whole = units_of(whole, self.form) == units and is_sound(whole, self.codec, decode)
        return whole if is_whole else None

    def told(
        self, merged: bytes, decode: Callable[[bytes], Any]
    ) -> tuple[bytes, bytes, bytes, bytes]:
        """Return the three files and a merged one with the records that some side changed, and few others."""

        def filled(data: bytes | None, which: Callable[[_Change], bytes]) -> bytes:
            units = self._filled(data or b"", lambda run: [which(each) for each in run.changed])
            return b"".join(units or ())

        return (
            filled(self.three.base, lambda change: change.base),
            filled(self.three.mine, lambda change: change.mine),
            filled(self.three.theirs, lambda change: change.theirs),
            filled(merged, lambda change: change.result),
        )

    def is_from(self, name: str) -> bool:
        """Tell whether records may have been left out of the list of a name."""
        if self.codec == "xml":
            return name.rpartition(".")[2] == self.records.tag
        return True

    def names(self, field: str, kept: set[Any]) -> bool:
        """Tell whether a field names what was left out, too: single, and unlike those that were `kept`."""
        return self.records.names(field, kept)

    @property
    def has_settled(self) -> bool:
        """Whether some side changed a record that was left out."""
        return any(run.changed for run in self.runs)

    def settled(self, name: str, field: str) -> Settled | None:
        """Return what was changed in what was left out of a list, by the field that names its records.

        None where somebody changed that field itself: these are other records.
        """
        found = Settled(name, field)
        for change in chain.from_iterable(run.changed for run in self.runs):
            key = dict(self.read(change.base)[0]).get(field)
            names, *sides = change.fields[::3], change.fields[1::3], change.fields[2::3]
            if key is None or field in names:
                return None
            for one, mine, result in zip(names, *sides, strict=True):
                found.note({field: key.decode()}, one, change.case, mine, result)
        return found

    def _filled(self, data: bytes, what: Callable[[_Run], list[bytes]]) -> list[bytes] | None:
        """Return the units of a shortened file with some of each run; None if a place is not where it was."""
        units = units_of(data, self.form)
        places: dict[bytes, int] = {}
        for at, unit in enumerate(units):
            places[unit] = -1 if unit in places else at
        parts: list[bytes] = []
        done = 0
        for run in self.runs:
            at = places.get(run.before, -1)
            if (
                at < done - 1
                or at + 1 >= len(units)
                or units[at + 1] != run.behind
                or places[run.behind] < 0
            ):
                return None
            parts += units[done : at + 1]
            parts += what(run)
            done = at + 1
        return parts + units[done:]


def shortened(three: Three, codec: str, keys: Keys | None = None) -> Shortened | None:
    """Return three files without the records that need no merging; None if not worth it, or not sure.

    Without `keys` only records that are the same on all sides are left out. Whoever merges the files must
    see to it that the field that names records holds for what was left out; see `Shortened.names`.
    """
    if three.base is None or codec not in ("xml", "csv", "json"):
        return None
    files = three.base, three.mine, three.theirs
    if min(map(len, files)) < _LEAST or not all(is_plain(data, codec) for data in files):
        return None
    form = form_of(three.theirs, codec)
    units = [units_of(data, form) for data in files]
    if min(map(len, units)) < _LEAST:
        return None
    head = units[2][0]
    if codec == "csv" and len({side[0] for side in units}) > 1:
        return None  # a column that has another name is another in every row
    changes = _Changes(form, head, keys if not form.closes else None)
    found = [run for block in _blocks(units) for run in _runs(units, block, changes)]
    left_out = [run.units for _, run in found]
    records = read_records(left_out, form, head) if left_out else None
    if records is None or records.count < len(units[2]) // 2:
        return None
    left = []
    for number, side in enumerate(units):
        done, parts = 0, []
        for starts, run in found:
            parts += side[done : starts[number]]
            done = starts[number] + len(run.units)
        parts += side[done:]
        left.append(b"".join(parts))
    return Shortened(
        Three(left[0], left[1], left[2]), form, records, [run for _, run in found], changes.read
    )


class _Changes:
    """What one side changed in a record, where that alone is clear; nothing without `keys`."""

    def __init__(self, form: Form, head: bytes, keys: Keys | None) -> None:
        self.form = form
        self.read = cells_of(form.codec, head)
        self._may_name = cache(keys.may_name) if keys is not None else None

    def of(self, base: bytes, mine: bytes, theirs: bytes) -> _Change | None:
        """Return a change of values alone, none of which may name the record; else None."""
        if self._may_name is None:
            return None
        if mine == theirs:
            case = Case.AGREED
        elif base in (mine, theirs):
            case = Case.THEY_CHANGED if mine == base else Case.I_CHANGED
        else:
            return None
        record, around = self.read(base)
        new, so = self.read(theirs if mine == base else mine)
        if around != so or not record or len(dict(record)) < len(record):
            return None  # not only values differ, but how the text is laid out
        fields: list[Any] = []
        for (name, was), (_, value) in zip(record, new, strict=True):
            if was != value:
                if self._may_name(name):
                    return None
                fields += (name, was if case is Case.THEY_CHANGED else value, value)
        result = mine if case is Case.I_CHANGED else theirs
        return _Change(base, mine, theirs, result, case, tuple(fields)) if fields else None


# ---- what stands at one place on all sides -------------------------------------------------------

_Block = tuple[int, int, int, int]  # where it starts on each side, and how many units


def _runs(
    units: Sequence[list[bytes]], block: _Block, changes: _Changes
) -> Iterator[tuple[tuple[int, ...], _Run]]:
    """Yield the runs of a block that can be left out, and where they start on each side."""
    *starts, size = block
    sides = [  # of nearly all files there is one block, which needs no copy
        side if size == len(side) else side[start : start + size]
        for side, start in zip(units, starts, strict=True)
    ]
    differing = _differing(sides)
    found: dict[int, _Change | None] = {
        at: changes.of(sides[0][at], sides[1][at], sides[2][at]) for at in differing
    }
    apart = [at for at in differing if found[at] is None]
    begin = 0
    for end in (*apart, size):
        for start, stop in spans_of(sides[2][begin:end], changes.form):
            alike = range(begin + start, begin + stop)
            while alike and alike[0] in found:
                alike = alike[1:]
            while alike and alike[-1] in found:
                alike = alike[:-1]
            if len(alike) - 2 * _KEPT < _SHORTEST:
                continue
            inner = slice(alike.start + _KEPT, alike.stop - _KEPT)
            changed = []
            run = sides[2][inner]
            for at in _within(differing, inner):
                change = found[at]
                assert change is not None
                changed.append(change)
                run[at - inner.start] = change.result
            yield (
                tuple(start + inner.start for start in starts),
                _Run(sides[2][inner.start - 1], run, sides[2][inner.stop], changed),
            )
        begin = end + 1


def _differing(sides: Sequence[list[bytes]]) -> list[int]:
    """Return the numbers of the units that are not the same on all of three sides of one size."""
    import numpy as np

    base, mine, theirs = sides
    same = (bytes(map(eq, base, side)) for side in (mine, theirs))
    one, other = (np.frombuffer(flags, np.uint8) for flags in same)
    numbers: list[int] = np.flatnonzero((one & other) == 0).tolist()
    return numbers


def _within(differing: list[int], inner: slice) -> list[int]:
    """Return those of some rising numbers that lie in a slice."""
    return differing[bisect_left(differing, inner.start) : bisect_left(differing, inner.stop)]


def _blocks(units: Sequence[list[bytes]]) -> list[_Block]:
    """Return where the same stands on all sides, or nearly: parts with as many units on each."""
    sizes = {len(side) for side in units}
    if len(sizes) == 1:
        base, mine, theirs = (side[::_SAMPLED] for side in units)
        if sum(map(eq, base, mine)) + sum(map(eq, base, theirs)) > len(base):
            return [(0, 0, 0, len(units[0]))]
    joined: list[_Block] = []
    for block in runs_that_stand_once(units):
        if joined:
            gaps = {
                start - old - joined[-1][3]
                for start, old in zip(block[:3], joined[-1][:3], strict=True)
            }
            if len(gaps) == 1:
                *starts, size = joined.pop()
                joined.append((starts[0], starts[1], starts[2], size + gaps.pop() + block[3]))
                continue
        joined.append((block[0], block[1], block[2], block[3]))
    return joined

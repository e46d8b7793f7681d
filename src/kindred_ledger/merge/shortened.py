"""Large tables in text files, merged without the records that are the same on all sides.

Nearly all of a large table is as it was. Records that stand on all three sides, with the same neighbours and
the very same bytes, decide nothing: they are left out of the three files, what is left is merged as any file
is, and they are put back behind the record they stood behind. What a person is told stays the same: the
field that names records is checked against those that were left out, and they are counted.

Whatever is not plain enough for that (records over several lines of XML, quotes in CSV, a key that is not
unique) is merged whole. What matches are records that stand once on each side, in one order on all three.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence, Set
from itertools import chain
from typing import Any

from msgspec import Struct

from .alignment import rising
from .outcome import Three

__all__ = ["Shortened", "shortened"]

_LEAST = 2000  # units; smaller files are merged whole
_SHORTEST = 8  # units of a run that are worth leaving out
_KEPT = 1  # at each end of it: what changes stand beside

_ELEMENT = re.compile(
    rb'[ \t]*<([A-Za-z_][\w.:-]*)((?: [A-Za-z_][\w.:-]*="[^"<>&\r\n]*")*) ?/>[ \t]*\r?\n'
)
_LONG_COMMENT = re.compile(rb"<!--(?![^\r\n]*?-->)")
_OPENS = re.compile(rb"\n([ \t]+)\{\r?\n")


class _Records(Struct):
    """What was left out, read: how many records and fields, and of which tag if they are elements of XML.

    `values` gives those of a field by its name, None if not every record has it once.
    """

    count: int
    fields: int
    tag: str
    values: Callable[[str], list[Any] | None]


class Shortened(Struct):
    """Three files without what they have in common, and what was left out of theirs, by where it stood.

    Each of the `runs` is the unit before it, the units that were left out, and the one behind.
    """

    three: Three
    codec: str
    records: _Records
    runs: list[tuple[bytes, list[bytes], bytes]]

    def restored(self, data: bytes) -> bytes | None:
        """Return a merged file with what was left out; None if a place is not where it was.

        The whole is taken apart again, and must have every unit of both, as often as they have it.
        """
        units = _units(data, self.codec)
        places: dict[bytes, int] = {}
        for at, unit in enumerate(units):
            places[unit] = -1 if unit in places else at
        parts: list[bytes] = []
        done = 0
        for before, left_out, behind in self.runs:
            at = places.get(before, -1)
            if (
                at < done - 1
                or at + 1 >= len(units)
                or units[at + 1] != behind
                or places[behind] < 0
            ):
                return None
            parts += units[done : at + 1]
            parts += left_out
            done = at + 1
        parts += units[done:]
        whole = b"".join(parts)
        wanted = Counter(chain(units, *(some for _, some, _ in self.runs)))
        return whole if Counter(_units(whole, self.codec)) == wanted else None

    @property
    def fields(self) -> int:
        """How many fields there are in what was left out."""
        return self.records.fields

    def is_from(self, name: str) -> bool:
        """Tell whether records may have been left out of the list of a name."""
        if self.codec == "xml":
            return name.rpartition(".")[2] == self.records.tag
        return True

    def names(self, field: str, kept: Set[Any]) -> bool:
        """Tell whether a field names what was left out, too: single, and unlike those that were `kept`."""
        values = self.records.values(field)
        if values is None:
            return False
        known = set(values)
        return len(known) == len(values) and known.isdisjoint(kept)


def shortened(three: Three, codec: str) -> Shortened | None:
    """Return three files without the records that are the same in all; None if not worth it, or not sure.

    Whoever merges them must see to it that the field that names records holds for what was left out; see
    `Shortened.names`.
    """
    if three.base is None or codec not in ("xml", "csv", "json"):
        return None
    files = three.base, three.mine, three.theirs
    if min(map(len, files)) < _LEAST or not all(_is_plain(data, codec) for data in files):
        return None
    units = [_units(data, codec) for data in files]
    if min(map(len, units)) < _LEAST:
        return None
    if codec == "csv" and len({side[0] for side in units}) > 1:
        return None  # a column that has another name is another in every row
    runs = []
    for *starts, length in _common(units):
        for first, last in _records(units[2][starts[2] : starts[2] + length], codec):
            old, here, there = (start + first + _KEPT for start in starts)
            size = last - first - 2 * _KEPT
            if size >= _SHORTEST:
                runs.append((old, here, there, size))
    left_out = [units[2][there : there + size] for _, _, there, size in runs]
    records = _read(left_out, codec, units[2][0]) if left_out else None
    if records is None or records.count < len(units[2]) // 2:
        return None
    left = []
    for number, side in enumerate(units):
        done, parts = 0, []
        for run in runs:
            parts += side[done : run[number]]
            done = run[number] + run[3]
        parts += side[done:]
        left.append(b"".join(parts))
    theirs = units[2]
    placed = [
        (theirs[there - 1], some, theirs[there + size])
        for (_, _, there, size), some in zip(runs, left_out, strict=True)
    ]
    return Shortened(Three(left[0], left[1], left[2]), codec, records, placed)


def _records(units: list[bytes], codec: str) -> Iterator[tuple[int, int]]:
    """Yield where some units are records one after the other: begin and end."""
    if codec == "csv":
        yield 0, len(units)
        return
    first = 0
    for at, unit in enumerate(units):
        is_record = _ELEMENT.fullmatch(unit) if codec == "xml" else unit.rstrip().endswith(b",")
        if not is_record:  # text between them, or the last of its list
            yield first, at
            first = at + 1
    yield first, len(units)


def _is_plain(data: bytes, codec: str) -> bool:
    """Tell whether the lines, or the brackets at one depth, of a file are what they look like."""
    if b"\0" in data:
        return False
    if codec == "csv":
        return b'"' not in data
    if codec == "json":
        return b"/*" not in data and b"//" not in data
    return b"<![" not in data and b"<!DOCTYPE" not in data and not _LONG_COMMENT.search(data)


def _units(data: bytes, codec: str) -> list[bytes]:
    """Return a file in parts of which most are a record each; joined they are the file."""
    mark = b"\n"
    if codec == "json":
        opens = _OPENS.search(data)
        if opens is not None:
            ends = b"\r\n" if data[opens.end() - 2 : opens.end() - 1] == b"\r" else b"\n"
            mark = b"\n" + opens[1] + b"}," + ends
    parts = data.split(mark)
    units = [part + mark for part in parts[:-1]]
    if parts[-1]:
        units.append(parts[-1])
    return units


# ---- what all have in common -------------------------------------------------------------------


def _common(units: Sequence[list[bytes]]) -> list[tuple[int, int, int, int]]:
    """Return runs of units that stand once on each side, and together: where each starts, and its size."""
    import numpy as np

    ids = {unit: number for number, unit in enumerate(dict.fromkeys(chain(*units)))}
    coded = [np.fromiter(map(ids.__getitem__, side), np.int64, len(side)) for side in units]
    once = np.ones(len(ids), bool)
    places = []
    for codes in coded:
        once &= np.bincount(codes, minlength=len(ids)) == 1
        place = np.zeros(len(ids), np.int64)
        place[codes] = np.arange(len(codes))
        places.append(place)
    anchors = coded[0][once[coded[0]]]  # in the order of the base
    where = [place[anchors] for place in places]
    for side in where[1:]:
        if len(side) > 1 and not bool((np.diff(side) > 0).all()):
            kept = np.array(rising(side.tolist()))
            where = [each[kept] for each in where]
            return _common_of(where) if _all_rise(where) else []
    return _common_of(where)


def _all_rise(where: Sequence[Any]) -> bool:
    return all(bool((each[1:] > each[:-1]).all()) for each in where)


def _common_of(where: Sequence[Any]) -> list[tuple[int, int, int, int]]:
    import numpy as np

    if not len(where[0]):
        return []
    apart = np.zeros(len(where[0]) - 1, bool)
    for side in where:
        apart |= np.diff(side) != 1
    starts = np.concatenate(([0], np.flatnonzero(apart) + 1))
    sizes = np.diff(np.concatenate((starts, [len(where[0])])))
    rows = np.stack([*(side[starts] for side in where), sizes], axis=1)
    return [tuple(row) for row in rows.tolist()]


# ---- reading what is left out --------------------------------------------------------------------


def _read(runs: Sequence[Sequence[bytes]], codec: str, head: bytes) -> _Records | None:
    """Return what was left out as records; None if a unit of it is anything else."""
    units = list(chain.from_iterable(runs))
    return {"xml": _read_xml, "csv": _read_csv, "json": _read_json}[codec](units, head)


def _read_xml(units: list[bytes], head: bytes) -> _Records | None:
    found = list(map(_ELEMENT.fullmatch, units))
    tags = {match[1] for match in found if match is not None}
    if None in found or len(tags) != 1:
        return None
    text = b"".join(units)

    def values(field: str) -> list[str] | None:
        if not field.startswith("@"):
            return None
        name = re.escape(field[1:].encode())
        out = [
            value.decode("utf-8", "replace") for value in re.findall(b' %s="([^"]*)"' % name, text)
        ]
        return out if len(out) == len(units) else None

    bare = sum(
        b'="' not in unit for unit in units
    )  # an element without attributes is one field, too
    return _Records(
        len(units), text.count(b'="') + bare, tags.pop().decode("utf-8", "replace"), values
    )


def _read_csv(units: list[bytes], head: bytes) -> _Records | None:
    sign = max((b",", b";", b"\t"), key=head.count)
    names = head.rstrip(b"\r\n").split(sign)
    width = len(names) - 1
    if width < 1 or any(unit.count(sign) != width for unit in units):
        return None

    def values(field: str) -> list[str] | None:
        name = field.encode()
        if names.count(name) != 1:
            return None
        at = names.index(name)
        return [
            unit.rstrip(b"\r\n").split(sign, at + 1)[at].decode("utf-8", "replace")
            for unit in units
        ]

    return _Records(len(units), len(units) * len(names), "", values)


def _read_json(units: list[bytes], head: bytes) -> _Records | None:
    text = b"".join(units).rstrip()
    if not text.endswith(b"},") or not all(unit.lstrip().startswith(b"{") for unit in units):
        return None
    try:
        found = json.loads(b"[" + text[:-1] + b"]")
    except (ValueError, RecursionError):
        return None
    if len(found) != len(units):
        return None

    def values(field: str) -> list[Any] | None:
        out = [record.get(field) for record in found]
        is_plain = all(type(value) is str or type(value) is int for value in out)
        return out if is_plain else None

    return _Records(len(units), sum(map(_size, found)), "", values)


def _size(value: Any) -> int:
    if isinstance(value, dict) and value:
        return sum(map(_size, value.values()))
    return sum(map(_size, value)) if isinstance(value, list) and value else 1

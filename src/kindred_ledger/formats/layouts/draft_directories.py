"""Directories in a draft: tables that say, in all samples, where parts begin and how large they are.

The first part begins right behind the table, and each further one where the one before it ends, or up to 16
bytes on. So many numbers do not fit by chance.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from ...errors import FormatError
from .squeeze import expand

__all__ = ["TABLE", "directories"]

TABLE = "@table"  # in a kind: the name of the field before it
_COUNTS = (("u8", 1), ("u16", 2), ("u32", 4))
_NUMBERS = (4, 2)  # bytes an offset or size takes
_WIDEST = 64  # bytes of a row
_MOST_ROWS = 10_000
_LEAST_ROWS = 3  # in all samples together
_MOST_GAP = 16  # bytes between two parts
_MOST_EXPANDED = 16 << 20

Guess = tuple[tuple[str, str], ...]  # kinds, and what speaks for them


class _Rows(Struct):
    """The rows of a candidate in one sample, and where the parts may lie."""

    data: bytes
    rows: list[bytes]
    behind: int
    end: int


class _Columns(Struct):
    """Which bytes of a row are offset and size, and how wide they are."""

    offset: int
    offset_width: int
    size: int
    size_width: int


def directories(
    samples: Sequence[bytes], at: Sequence[int], ends: Sequence[int], *, big: bool
) -> Iterator[tuple[Guess, list[int]]]:
    """Yield a table and its parts, if they begin at these places and reach to the ends; with their sizes."""
    sizes = [end - begin for begin, end in zip(at, ends, strict=True)]
    for form, width in _COUNTS:
        counts = [_number(s, a, width, big) for s, a in zip(samples, at, strict=True)]
        if not all(0 <= count <= _MOST_ROWS for count in counts) or sum(counts) < _LEAST_ROWS:
            continue
        if max(counts) < 2:
            continue
        one = next(number for number, count in enumerate(counts) if count)
        head = samples[one][at[one] + width :][:_WIDEST]
        for step in range(4, _WIDEST + 1):
            behind = at[one] + width + counts[one] * step
            packed = (_packed(behind, width, big) for width in _NUMBERS)
            if not any(each and each in head[:step] for each in packed):
                continue
            found = _rows(samples, at, ends, counts, width, step)
            columns = _columns(found, step, big) if found is not None else None
            if found is not None and columns is not None:
                yield _told(form, found, columns, step, big), sizes
                return


def _rows(
    samples: Sequence[bytes],
    at: Sequence[int],
    ends: Sequence[int],
    counts: list[int],
    width: int,
    step: int,
) -> list[_Rows] | None:
    out = []
    for data, begin, end, count in zip(samples, at, ends, counts, strict=True):
        first, behind = begin + width, begin + width + count * step
        if behind > end:
            return None
        rows = [data[first + n * step : first + (n + 1) * step] for n in range(count)]
        out.append(_Rows(data, rows, behind, end))
    return out


def _columns(found: list[_Rows], step: int, big: bool) -> _Columns | None:
    """Return the columns that tell of parts that lie one behind another in all samples."""
    first = next(each for each in found if each.rows)
    for width in _NUMBERS:
        wanted = _packed(first.behind, width, big)
        at = first.rows[0].find(wanted) if wanted else -1
        while at >= 0:
            for size_width in _NUMBERS:
                for size in range(step - size_width + 1):
                    apart = size >= at + width or at >= size + size_width
                    columns = _Columns(at, width, size, size_width)
                    if apart and all(_fits(each, columns, big) for each in found):
                        return columns
            at = first.rows[0].find(wanted, at + 1)
    return None


def _fits(found: _Rows, columns: _Columns, big: bool) -> bool:
    expected, gap = found.behind, 0
    for row in found.rows:
        begin, size = _span(row, columns, big)
        if not expected <= begin <= expected + gap or begin + size > found.end or not size:
            return False
        expected, gap = begin + size, _MOST_GAP - 1
    return found.end - expected < _MOST_GAP or not found.rows


def _span(row: bytes, columns: _Columns, big: bool) -> tuple[int, int]:
    begin = _number(row, columns.offset, columns.offset_width, big)
    return begin, _number(row, columns.size, columns.size_width, big)


def _told(form: str, found: list[_Rows], columns: _Columns, step: int, big: bool) -> Guess:
    rows = [row for each in found for row in each.rows]
    parts = [
        each.data[begin : begin + size]
        for each in found
        for begin, size in (_span(row, columns, big) for row in each.rows)
    ]
    inner, unpacked = _inside(parts)
    raw = _column_of(unpacked, rows, columns, step, big) if unpacked else None
    names = {
        columns.offset: ("at", columns.offset_width),
        columns.size: ("size", columns.size_width),
    }
    if raw is not None:
        names[raw] = ("raw", 4)
    told = f" unpacked {names[raw][0]}" if raw is not None else ""
    cells = ", ".join(_cells(rows, names, step))
    return (
        (
            f"table {form} {{ {cells} }}",
            "sure: it says where each part begins, and how large it is",
        ),
        (f"each {TABLE} at at size size{told} {inner}", "sure: they lie where the table says"),
    )


def _inside(parts: list[bytes]) -> tuple[str, list[int]]:
    """Return what the parts are, and how large when they are unpacked, if they are."""
    for method, mark in (("zlib", b"\x78"), ("gzip", b"\x1f\x8b"), ("zstd", b"\x28\xb5\x2f\xfd")):
        if all(part.startswith(mark) for part in parts):
            try:
                sizes = [len(expand(method, part, most=_MOST_EXPANDED)) for part in parts]
            except FormatError:
                continue
            return f"block to end {method} bytes to end", sizes
    return "bytes to end", []


def _column_of(
    values: list[int], rows: list[bytes], columns: _Columns, step: int, big: bool
) -> int | None:
    """Return which four bytes of the rows hold some values, if there are such."""
    taken = set(range(columns.offset, columns.offset + columns.offset_width))
    taken |= set(range(columns.size, columns.size + columns.size_width))
    for at in range(step - 3):
        own = [_number(row, at, 4, big) for row in rows]
        if own == values and not taken & set(range(at, at + 4)):
            return at
    return None


def _cells(rows: list[bytes], names: dict[int, tuple[str, int]], step: int) -> Iterator[str]:
    """Yield the columns: those that are known, tags of four letters, and numbers."""
    at = number = 0
    while at < step:
        if at in names:
            name, width = names[at]
            yield f"{name} u{width * 8}"
            at += width
            continue
        free = min((known for known in names if known > at), default=step) - at
        if free >= 4 and all(row[at : at + 4].isalnum() for row in rows):
            yield "tag bytes 4" if not number else f"tag{number} bytes 4"
            at += 4
        else:
            width = next(w for w in (4, 2, 1) if w <= free)
            yield f"c{number + 1} u{width * 8}"
            at += width
        number += 1


def _number(data: bytes, at: int, width: int, big: bool) -> int:
    """Return the number at a place; -1 beyond the end."""
    raw = data[at : at + width]
    return int.from_bytes(raw, "big" if big else "little") if len(raw) == width else -1


def _packed(number: int, width: int, big: bool) -> bytes:
    return number.to_bytes(width, "big" if big else "little") if number < 1 << 8 * width else b""

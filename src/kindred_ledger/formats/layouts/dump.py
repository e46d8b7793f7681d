"""An annotated dump: every field of a file with its offset, bytes and value."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from ...wording import count as rows_in_words
from ..tree import LIST, MAPPING, SCALAR
from .arrays import Packed, Runs
from .checks import Checksum
from .document import LayoutDocument
from .item import Item, Scope
from .layout import Layout
from .meanings import Colour, Time, Uuid
from .numbers import Bits, Enum
from .parts import Block
from .references import referred
from .regions import spans_of

__all__ = ["DumpLine", "dump", "dump_part"]

_FEW_SHARED = 3  # parts that lie in others, that are told
_FEW_NUMBERS = 12  # of a list that are shown


class DumpLine(Struct, frozen=True):
    """A line of a dump. `offset` counts from the block's own start where `inner` is true."""

    depth: int
    offset: int
    inner: bool
    raw: bytes
    name: str
    value: str
    remark: str = ""


def dump(document: LayoutDocument, *, rows: int = 3) -> Iterator[DumpLine]:
    """Yield a line for each field, in the order of the file; of long tables the first rows and the last.

    The first row of a table has a line a field, the others one line if they hold plain values.
    `rows` 0 shows all.
    """
    root = document.root
    for item in root.shape if isinstance(root.shape, list) else root.members or ():
        yield from _lines(document, item, 0, 0, False, rows)


def dump_part(data: bytes, layout: Layout, *, rows: int = 3) -> Iterator[DumpLine]:
    """Yield the lines of what can be read of a file that is damaged, or not as the layout says."""
    document = LayoutDocument.begun(data, layout)
    yield from dump(document, rows=rows) if document is not None else ()


def _lines(
    document: LayoutDocument, item: Item, depth: int, base: int, inner: bool, rows: int
) -> Iterator[DumpLine]:
    """Yield the lines of an item; `base` is what its offsets count from."""
    at = base + item.start
    name = item.key if item.key is not None else f"[{item.at}]"
    if item.kind == SCALAR:
        padding = (
            not item.key and item.value is None and item.parent is not None and item.key is not None
        )
        value = "" if padding else _shown(document, item) + _row_told(item)
        at = -1 if item.value is None and item.start == item.end else at
        yield DumpLine(depth, at, inner, item.raw, name or "(padding)", value)
        return
    if item.field is not None and isinstance(item.field.kind, (Packed, Runs)):
        yield DumpLine(depth, at, inner, item.raw, name, _numbers(item))
        return
    parts = _parts(item)
    block = _is_block(item)
    if item.kind == LIST:
        yield from _list_lines(document, item, depth, base, inner, rows, name)
        return
    remark = (
        f"block of {len(item.shape[0]):,} bytes, {item.end - item.start:,} in the file"
        if block
        else ""
    )
    same_place = item.field is not None and isinstance(item.field.kind, Bits)
    raw = item.raw if same_place else b""
    yield DumpLine(depth, at, inner, raw, name, "", remark)
    for part in parts:
        if same_place:  # bits of one number
            yield DumpLine(depth + 1, at, inner, b"", str(part.key), _shown(document, part))
        else:
            within = 0 if block else base + item.inside
            yield from _lines(document, part, depth + 1, within, inner or block, rows)


def _list_lines(
    document: LayoutDocument, item: Item, depth: int, base: int, inner: bool, rows: int, name: str
) -> Iterator[DumpLine]:
    count = item.rows.count if item.rows is not None else len(item.members or ())
    block = _is_block(item)
    told = item.inside + item.rows.body - item.start if item.rows is not None and not block else 0
    rows_told = rows_in_words(count, "row")
    shared = _shared(item)
    yield DumpLine(depth, base + item.start, inner, item.raw[:told], name, rows_told, shared)
    base, within = (0, True) if block else (base + item.inside, inner)
    short = 0 < rows < count - 1
    numbers = [*range(rows), count - 1] if short else list(range(count))
    for at, number in enumerate(numbers):
        if short and at == rows:
            yield DumpLine(depth + 1, -1, within, b"", "…", f"{count - rows - 1:,} more rows")
        place = base
        if item.rows is not None and item.members is None:
            row = item.maker.row(item, number)
            place += item.rows.base(number)
        else:
            row = (item.members or [])[number]
        row.at = number
        yield from _row_lines(document, row, depth + 1, place, within, rows)


def _shared(item: Item) -> str:
    """Return in words which parts of a directory lie in the bytes of others."""
    told: list[str] = []
    first: dict[tuple[int, int], int] = {}
    reach, last = 0, -1  # where the parts before end, and which goes there
    spans = spans_of(item) if item.region is not None else []
    for span, number in sorted((span, number) for number, span in enumerate(spans)):
        if span[0] == span[1]:
            continue
        if span in first:
            told.append(f"[{number}] has the bytes of [{first[span]}]")
        elif span[0] < reach:
            told.append(f"[{number}] overlaps [{last}]")
        first.setdefault(span, number)
        if span[1] > reach:
            reach, last = span[1], number
    more = f" and {len(told) - _FEW_SHARED} more" if len(told) > _FEW_SHARED else ""
    return f"{', '.join(told[:_FEW_SHARED])}{more}"


def _row_lines(
    document: LayoutDocument, row: Item, depth: int, base: int, inner: bool, rows: int
) -> Iterator[DumpLine]:
    members = row.members or []
    if row.at == 0 or row.kind != MAPPING or any(member.kind != SCALAR for member in members):
        yield from _lines(document, row, depth, base, inner, rows)
        return
    value = ", ".join(
        f"{member.key} {_shown(document, member)}{_row_told(member)}" for member in members
    )
    yield DumpLine(depth, base + row.start, inner, row.raw, f"[{row.at}]", value)


def _numbers(item: Item) -> str:
    """Return the numbers of a list as they fit into a line, and how many there are."""
    values = [str(member.value) for member in item.members or ()]
    shown = ", ".join(values[:_FEW_NUMBERS])
    return f"{len(values):,} numbers: {shown}{', …' if len(values) > _FEW_NUMBERS else ''}"


def _is_block(item: Item) -> bool:
    """Tell whether what is in an item has offsets of its own."""
    is_block = item.field is not None and isinstance(item.field.kind, Block)
    return is_block and isinstance(
        item.shape, tuple
    )  # of one that was not read to its end, there is none


def _parts(item: Item) -> list[Item]:
    shape = item.shape
    while isinstance(shape, tuple):
        shape = shape[-1]
    return shape if isinstance(shape, list) else list(item.members or ())


def _shown(document: LayoutDocument, item: Item) -> str:
    value = item.value
    if isinstance(value, str):
        return f'"{value}"' if not _is_name(item) else value
    if isinstance(value, bytes):
        text = value.decode("latin-1")
        return (
            f'"{text}"'
            if value and text.isascii() and text.isprintable()
            else f"{len(value):,} bytes"
        )
    if isinstance(value, int) and not isinstance(value, bool) and abs(value) >= 100_000:
        return f"{value:,}"
    if value is None or isinstance(value, bool):
        return {None: "none", True: "true", False: "false"}[value]
    return str(value)


def _row_told(item: Item) -> str:
    """Return what the row is called that a value refers to, in brackets; "" if it refers to none."""
    reference = item.field.within if item.field is not None else None
    if reference is None and item.key is None and item.parent is not None:  # a bare row
        reference = item.parent.field.within if item.parent.field is not None else None
    if reference is None:
        return ""
    row = referred(item.value, reference, Scope.around(item).groups)
    cells = (row.members or [row]) if row is not None else []
    text = next((cell.value for cell in cells if isinstance(cell.value, str)), "")
    return f" ({text})" if text else ""


def _is_name(item: Item) -> bool:
    """Tell whether a text stands for a number, and is no text of the file."""
    return item.field is not None and isinstance(
        item.field.kind, (Checksum, Colour, Enum, Time, Uuid)
    )

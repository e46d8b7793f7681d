"""kindred file dump"""

from __future__ import annotations

from typing import Any

import click
import msgspec

from ....errors import FormatError, UsageError
from ....formats import Layout, LayoutDocument
from ....formats.layouts import DumpLine, dump, dump_part
from ... import drawing
from ...meanings import value
from ...options import session
from ...session import Session, file_bytes

_MOST_BYTES = 8  # of a field that are shown
_WIDEST = 60  # characters of a value


@click.command()
@click.argument("file")
@value("--layout", "layout_path")
@value("--rows", default=3)
@value("--card")
@session
def command(session: Session, *, file: str, layout_path: str, rows: int) -> int:
    """Print every field of the binary FILE with its offset, bytes and value.

    The layout comes from a card, or from --layout. Of a file that cannot be read, what was read until then is
    printed, and the byte where it failed.

    \b
    Example, in the demo's folder:
      kindred file dump mossferry/data/tuning.bin
    """
    layout = _layout_for(session, file, layout_path)
    data = file_bytes(file)
    try:
        document = LayoutDocument(data, layout)
    except FormatError as error:
        lines = list(dump_part(data, layout, rows=rows))
        if lines and not session.json:
            told = f"{layout.name}, {len(data):,} bytes; read until it failed"
            drawing.heading(session.out, file, told)
            _draw(session, lines)
            session.out.print()
        raise error.inside(file) from None
    lines = list(dump(document, rows=rows))
    if session.json:
        plain: list[dict[str, Any]] = [
            {**msgspec.structs.asdict(line), "raw": line.raw.hex()} for line in lines
        ]
        return session.emit(layout=layout.name, version=document.version, fields=plain)
    others = ", ".join(str(each) for each in document.fits if each != document.version)
    alike = f" (it can be read in {others}, too)" if others else ""
    told = f"{layout.name}, format {document.version}{alike}, {document.size:,} bytes"
    drawing.heading(session.out, file, told)
    _draw(session, lines)
    return 0


def _draw(session: Session, lines: list[DumpLine]) -> None:
    table = [_cells(line) for line in lines]
    drawing.rows(session.out, ("    offset", "bytes", "field", "value"), table, " ")


def _layout_for(session: Session, path: str, named: str) -> Layout:
    if named:
        return Layout.load(named)
    fitting = [
        format.layout
        for card in session.cards
        for format in card.formats.values()
        if format.layout is not None and format.fits_name(path)
    ]
    if len(fitting) != 1:
        what = "more than one layout" if fitting else "no layout"
        raise UsageError(
            f"the cards have {what} for files of this name",
            where=path,
            remedy="Name it with --layout FILE.",
        )
    return fitting[0]


def _cells(line: DumpLine) -> tuple[str, str, str, str]:
    offset = "" if line.offset < 0 else f"{'+' if line.inner else ' '}{line.offset:06x}"
    raw = line.raw[:_MOST_BYTES].hex(" ") + (" …" if len(line.raw) > _MOST_BYTES else "")
    value = line.value if len(line.value) <= _WIDEST else line.value[: _WIDEST - 1] + "…"
    return f"    {offset}", raw, "  " * line.depth + line.name, value or line.remark

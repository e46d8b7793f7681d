"""kindred layout"""

from __future__ import annotations

from typing import Any

import click
import msgspec

from ...errors import UsageError
from ...finding import Severity, of_severity
from ...formats import Layout, LayoutDocument
from ...formats.layouts import DumpLine, check_layout, draft_layout, dump
from .. import drawing
from ..options import session
from ..session import Session

_MOST_BYTES = 8  # of a field that are shown
_WIDEST = 60  # characters of a value


@click.group(no_args_is_help=True)
def command() -> None:
    """Work with layouts, which describe binary formats.

    \b
    Example, in the demo's folder:
      kindred layout show mossferry/data/tuning.bin
    """


def _reading(path: str) -> bytes:
    try:
        with open(path, "rb") as file:
            return file.read()
    except OSError as error:
        raise UsageError(f"the file cannot be read: {error.strerror}", where=path) from error


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


@command.command()
@click.argument("file")
@click.option("--layout", "layout_path", default="", metavar="FILE", help="The layout's file.")
@click.option("--rows", default=3, help="How many rows of a table to show; 0 shows all.")
@click.option("--card", default="", metavar="FILE", help="The card that names the layout.")
@session("layout show")
def show(session: Session, *, file: str, layout_path: str, rows: int) -> int:
    """Print an annotated dump of FILE: offset, bytes, field and value of everything in it."""
    layout = _layout_for(session, file, layout_path)
    document = LayoutDocument(_reading(file), layout)
    lines = list(dump(document, rows=rows))
    if session.json:
        plain: list[dict[str, Any]] = [
            {**msgspec.structs.asdict(line), "raw": line.raw.hex()} for line in lines
        ]
        return session.emit(layout=layout.name, version=document.version, fields=plain)
    told = f"{layout.name}, format {document.version}, {document.size:,} bytes"
    drawing.heading(session.out, file, told)
    table = [_cells(line) for line in lines]
    drawing.rows(session.out, ("    offset", "bytes", "field", "value"), table, " ")
    return 0


def _cells(line: DumpLine) -> tuple[str, str, str, str]:
    offset = "" if line.offset < 0 else f"{'+' if line.inner else ' '}{line.offset:06x}"
    raw = line.raw[:_MOST_BYTES].hex(" ") + (" …" if len(line.raw) > _MOST_BYTES else "")
    value = line.value if len(line.value) <= _WIDEST else line.value[: _WIDEST - 1] + "…"
    return f"    {offset}", raw, "  " * line.depth + line.name, value or line.remark


@command.command()
@click.argument("layout_path", metavar="LAYOUT")
@click.argument("samples", nargs=-1, required=True)
@session("layout check")
def check(session: Session, *, layout_path: str, samples: tuple[str, ...]) -> int:
    """Test LAYOUT against SAMPLES: read, write, compare; name fields that no sample reached.

    Status 1 if anything is found.
    """
    layout = Layout.load(layout_path)
    report = check_layout(layout, ((path, _reading(path)) for path in samples))
    status = 0 if report.is_sound else 1
    if session.json:
        return session.emit(status, layout=layout.name, **msgspec.to_builtins(report))
    span = f"{layout.low} to {layout.high}" if layout.high > layout.low else str(layout.low)
    drawing.heading(session.out, layout.name, f"versions {span}")
    wrong = {each.where for each in of_severity(report.findings, Severity.ERROR)}
    for sample in report.samples:
        told = f"format {sample.version}, " if sample.version is not None else ""
        mark = " " if any(place.startswith(sample.name) for place in wrong) else "✓"
        text = f"  {mark} {sample.name}   {told}{drawing.size(sample.size_bytes)}"
        session.out.print(text, soft_wrap=True)
    drawing.findings(session.out, report.findings)
    if report.is_sound:
        session.out.print("    Every field of every version is reached.", style="dim")
    return status


@command.command()
@click.argument("samples", nargs=-1, required=True)
@click.option("--name", default="drafted", metavar="NAME", help="What the format is called.")
@session("layout draft")
def draft(session: Session, *, samples: tuple[str, ...], name: str) -> int:
    """Propose a first layout from SAMPLES that differ in known ways; it reads them all.

    Name its fields, put in what you know, and go on with layout show and layout check.
    """
    text = draft_layout([_reading(path) for path in samples], name)
    if session.json:
        return session.emit(layout=text)
    session.out.print(text.rstrip("\n"), soft_wrap=True)
    return 0
